//! From a plan to ordered rules, first match wins.
//!
//! Nothing here asks the meaning what should happen: this is the second way to a verdict, and it is
//! compared with the first. [`compile`] takes a [`Meaning`] only as a token that the plan has one.
//!
//! A writer makes a rule of each entry, in an order that is worked out; a form then makes lists of them.
//! [`in_form`] does so for any of the four, [`compile`] for the plan's own. [`mistakes`] are those
//! that people make while they enter rules.

mod bare;
mod frame;
mod list;
pub mod mistakes;
mod one_list;
mod order;
mod outgoing;
mod per_interface;
mod per_pair;
mod ranked;
mod ranks;
mod replies;
mod slice;
mod source_only;
mod surroundings;
mod translation;
mod ways;
mod writer;

pub use bare::BareLine;
pub use list::{Applies, Otherwise, Outcome, RuleList, RuleSet, Stage};
pub use surroundings::Surroundings;
pub use translation::Translation;

use crate::meaning::Meaning;
use crate::plan::{Action, Form, Inbound, Plan};
use crate::space::{AddressSet, Leg, Match, PacketSet, ServiceSet};
use crate::verdict::Cause;
use jiff::civil::Date;
use std::collections::HashMap;

/// One line of a rule list.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Rule {
    /// Its number; numbers go up by tens, through all lists.
    pub number: u32,
    /// Its id, which stays the same when other rules come and go.
    pub id: String,
    /// What it does, in a few words.
    pub name: String,
    /// Why it is there.
    pub reason: String,
    /// Where its packets come from, by zone.
    pub from: String,
    /// Their source.
    pub source: String,
    /// Where they go, by zone.
    pub to: String,
    /// Their destination.
    pub destination: String,
    /// What they ask for, in the plan's words.
    pub service: String,
    /// The same in protocols and ports.
    pub ports: Vec<String>,
    /// What happens to them.
    pub action: Action,
    /// Whether that is logged.
    pub log: bool,
    /// The hours at which it counts, if not always.
    pub hours: Option<String>,
    /// How much it lets through, in megabits a second.
    pub limit_mbps: Option<f64>,
    /// The plan entry behind it.
    pub cause: Cause,
    /// The first packets that it matches; `None` for the rule that matches replies.
    pub matches: Option<Match>,
    /// For a rule that lets replies back where the gateway keeps no state: the ports that they come
    /// from. Of TCP it takes only what is no opening (ACK or RST is set). Such a rule is not for first
    /// packets, though some look as if they were replies.
    pub back: Option<ServiceSet>,
}

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

/// Compiles the rules of a plan in its own form; where that cannot say what the plan means, in the form
/// `one-list`, which can always.
pub fn compile(meaning: &Meaning<'_>) -> RuleSet {
    in_form(meaning, meaning.plan().gateway().form).unwrap_or_else(|_| {
        let job = Job::new(meaning);
        one_list::compile(&job)
    })
}

/// Compiles the rules of a plan in a form.
///
/// # Errors
/// Everything that the form cannot say.
pub fn in_form(meaning: &Meaning<'_>, form: Form) -> Result<RuleSet, Vec<Inexpressible>> {
    let job = Job::new(meaning);
    match form {
        Form::OneList => Ok(one_list::compile(&job)),
        Form::PerPair => Ok(per_pair::compile(&job)),
        Form::Ranked => Ok(ranked::compile(&job)),
        Form::PerInterface if job.plan.gateway().source_only => source_only::compile(&job),
        Form::PerInterface => Ok(per_interface::compile(&job)),
    }
}

/// What every form starts from.
struct Job<'p> {
    plan: &'p Plan,
    day: Date,
    changes_on: Option<Date>,
    base: writer::Base,
    /// By leg: the sources that are not forged there and leave their link, and what leads there.
    sources: Vec<AddressSet>,
    reached: Vec<AddressSet>,
}

impl<'p> Job<'p> {
    fn new(meaning: &Meaning<'p>) -> Self {
        let (plan, day) = (meaning.plan(), meaning.day());
        Self {
            plan,
            day,
            changes_on: meaning.changes_on(),
            base: writer::Base::new(plan, day),
            sources: frame::true_sources(plan),
            reached: outer_legs(plan).map(|leg| ways::reached_by(plan, leg)).collect(),
        }
    }

    /// The sources that are not forged on a leg, those left out that stay on their link.
    fn true_sources(&self, leg: Leg) -> &AddressSet {
        &self.sources[usize::from(leg.0)]
    }

    /// The addresses that lead to a leg.
    fn reached_by(&self, leg: Leg) -> &AddressSet {
        &self.reached[usize::from(leg.0)]
    }

    /// The lists as a whole, with numbers through all of them.
    fn finish(&self, form: Form, mut lists: Vec<RuleList>) -> RuleSet {
        let entered = lists.iter_mut().filter(|list| !list.implied);
        for (rule, place) in entered.flat_map(|list| &mut list.rules).zip(1..) {
            rule.number = 10 * place;
        }
        // Several rules of one entry in one list are told apart by a number.
        let mut used: HashMap<String, u32> = HashMap::new();
        for rule in lists.iter_mut().flat_map(|list| &mut list.rules) {
            let count = used.entry(rule.id.clone()).or_default();
            *count += 1;
            if *count > 1 {
                rule.id = format!("{}@{count}", rule.id);
            }
        }
        let translations = translations(self.plan, self.day);
        RuleSet {
            form,
            day: self.day,
            changes_on: self.changes_on,
            translations: translations
                .filter_map(|(_, inbound)| ways::translation(self.plan, inbound))
                .collect(),
            before_translation: false,
            unseen: PacketSet::empty(),
            lists,
            settings: Vec::new(),
        }
    }
}

impl Rule {
    /// The first packets that it decides; `None` for one that is there for replies.
    pub fn first_packets(&self) -> Option<&Match> {
        self.matches.as_ref().filter(|_| self.back.is_none())
    }
}

/// The legs of a plan other than the gateway's own.
fn outer_legs(plan: &Plan) -> impl Iterator<Item = Leg> + use<> {
    (0..plan.gateway_leg().0).map(Leg)
}
