//! From a plan to ordered rules, first match wins.
//!
//! Nothing here asks the meaning what should happen: this is the second way to a verdict, and it is
//! compared with the first. [`compile`] takes a [`Meaning`] only as a token that the plan has one.
//!
//! A writer makes a rule of each entry, in an order that is worked out; a form then makes lists of them.
//! [`in_form`] does so for any of the four, [`compile`] for the plan's own. [`mistakes`] are those
//! that people make while they enter rules.

mod effect;
pub mod fewest;
mod forwarded;
mod held;
mod id;
mod implicit_traffic;
mod index;
mod list;
pub mod mistakes;
mod one_list;
mod order;
mod outgoing;
mod per_interface;
mod per_pair;
mod planless;
mod ranked;
mod ranks;
mod reachability;
mod replies;
mod restrict;
mod rule;
mod source_only;
mod surroundings;
mod tagged;
mod translation;
mod writer;

pub use effect::Effect;
pub use held::HeldList;
pub use id::RuleId;
pub(crate) use implicit_traffic::gateway_at;
pub use index::RuleIndex;
pub use list::{Applies, Otherwise, Outcome, RuleList, RuleSet, Stage};
pub use planless::PlanlessLine;
pub use rule::{Endpoint, Matches, Rule};
pub use surroundings::Surroundings;
pub use tagged::Tagged;
pub use translation::Translation;

use crate::meaning::Meaning;
use crate::plan::{Action, Form, Inbound, Plan, Rows};
use crate::space::{AddressSet, Interface, PacketSet};
use crate::verdict::Cause;
use jiff::civil::Date;
use std::collections::HashMap;

/// Something that has to be set on a gateway beside its lists.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Setting {
    /// The rank of a network or of the uplinks (form `ranked`); higher ones reach lower ones.
    Rank {
        /// The network's name, or `uplinks`.
        of: String,
        /// The rank.
        rank: u32,
    },
    /// Whether networks of one rank reach each other (form `ranked`).
    EqualsReach(bool),
    /// Whether packets may leave where they came in (form `ranked`).
    TurnRound(bool),
    /// Which ports the gateway's own conversations begin from (stateless forms, RFC 6056).
    OwnPorts,
    /// That the gateway's own services have to be closed by themselves (lists that do not see them).
    OwnServices,
}

/// Something that a form of rules cannot say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Inexpressible {
    /// The plan entry.
    pub cause: Cause,
    /// What about it.
    pub why: Obstacle,
}

/// Why a plan entry cannot be said in a form.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Obstacle {
    /// The lists look at no services.
    Service,
    /// The lists look at no destinations, and it is not for all of an interface.
    Destination,
}

/// The offered services of a day that are translated, with their places in the plan's list.
fn translations(plan: &Plan, day: Date) -> impl Iterator<Item = (usize, &Inbound)> {
    plan.inbounds().iter().enumerate().filter(move |(_, inbound)| {
        inbound.target.is_some() && plan.exception(inbound.exception).counts_on(day)
    })
}

/// Compiles the rules of a plan in the form that its gateway takes (`form` in `[gateway]`).
///
/// A form that cannot express the plan is replaced by `one-list`, which can express every plan; [`in_form`] reports
/// what the form cannot say instead. Rules that change nothing are left out, and rules that differ in one respect
/// only are joined, unless the plan asks for a rule for every cell.
pub fn compile<'p>(meaning: &Meaning<'p>) -> RuleSet<'p> {
    in_form(meaning, meaning.plan().gateway().form).unwrap_or_else(|_| {
        let context = CompileContext::new(meaning);
        one_list::compile(context)
    })
}

/// Compiles the rules of a plan in the given form.
///
/// # Errors
/// Every entry of the plan that the form cannot say, with the reason: for example a service, for a gateway whose
/// lists look at source addresses only.
pub fn in_form<'p>(meaning: &Meaning<'p>, form: Form) -> Result<RuleSet<'p>, Vec<Inexpressible>> {
    in_form_with(meaning, form, meaning.plan().gateway().rules)
}

/// The same, with the fewest rules or one for every cell and exception, whatever the plan says.
///
/// # Errors
/// Everything that the form cannot say.
pub fn in_form_with<'p>(
    meaning: &Meaning<'p>,
    form: Form,
    rows: Rows,
) -> Result<RuleSet<'p>, Vec<Inexpressible>> {
    let context = CompileContext { rows, ..CompileContext::new(meaning) };
    match form {
        Form::OneList => Ok(one_list::compile(context)),
        Form::PerPair => Ok(per_pair::compile(&context)),
        Form::Ranked => Ok(ranked::compile(&context)),
        Form::PerInterface if context.plan.gateway().source_only => source_only::compile(&context),
        Form::PerInterface => Ok(per_interface::compile(&context)),
    }
}

/// What every form starts from.
struct CompileContext<'p> {
    plan: &'p Plan,
    day: Date,
    changes_on: Option<Date>,
    rows: Rows,
    base: writer::Base,
    /// By interface: the sources that are not spoofed there and leave their link, and what leads there.
    sources: Vec<AddressSet>,
    reached: Vec<AddressSet>,
}

impl<'p> CompileContext<'p> {
    fn new(meaning: &Meaning<'p>) -> Self {
        let (plan, day) = (meaning.plan(), meaning.day());
        Self {
            plan,
            day,
            changes_on: meaning.changes_on(),
            rows: plan.gateway().rules,
            base: writer::Base::new(plan, day),
            sources: implicit_traffic::true_sources(plan),
            reached: outer_interfaces(plan)
                .map(|interface| reachability::reached_by(plan, interface))
                .collect(),
        }
    }

    /// The sources that are not spoofed on an interface, those left out that stay on their link.
    fn true_sources(&self, interface: Interface) -> &AddressSet {
        &self.sources[usize::from(interface.0)]
    }

    /// The addresses that lead to an interface.
    fn reached_by(&self, interface: Interface) -> &AddressSet {
        &self.reached[usize::from(interface.0)]
    }

    /// The lists as a whole, with numbers through all of them.
    fn finish(&self, form: Form, mut lists: Vec<RuleList>) -> RuleSet<'p> {
        // Several rules of one entry in one list are distinguished by a number.
        let mut used: HashMap<RuleId, u32> = HashMap::new();
        for rule in lists.iter_mut().flat_map(|list| &mut list.rules) {
            let count = used.entry(rule.id.clone()).or_default();
            *count += 1;
            if *count > 1 {
                rule.id = rule.id.numbered(*count);
            }
        }
        let left_out = match self.rows {
            Rows::Fewest => fewest::reduce(&mut lists),
            Rows::EveryCell => Vec::new(),
        };
        number(&mut lists, self.rows);
        let translations = translations(self.plan, self.day);
        RuleSet {
            plan: self.plan,
            form,
            day: self.day,
            changes_on: self.changes_on,
            translations: translations
                .filter_map(|(_, inbound)| reachability::translation(self.plan, inbound))
                .collect(),
            before_translation: false,
            unseen: PacketSet::empty(),
            lists,
            left_out,
            settings: Vec::new(),
        }
    }
}

/// Numbers rules through all lists that have to be entered. Where the fewest are wanted, rules that hold each interface to
/// the sources that belong there share a number: gateways take them as one, at each interface.
fn number(lists: &mut [RuleList], rows: Rows) {
    let mut number = 0;
    for list in lists.iter_mut().filter(|list| !list.implied) {
        let mut shared = false;
        for rule in &mut list.rules {
            let shares = rows == Rows::Fewest && rule.is_of_interface();
            if !(shares && shared) {
                number += 10;
            }
            rule.number = number;
            shared = shares;
        }
    }
}

/// The interfaces of a plan other than the gateway's own.
fn outer_interfaces(plan: &Plan) -> impl Iterator<Item = Interface> + use<> {
    (0..plan.gateway_interface().0).map(Interface)
}
