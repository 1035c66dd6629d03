//! From the rules that a gateway has to those that it is to have, one edit at a time, safe at every step.
//!
//! Safe is what never does, not even for a moment, to a packet what neither the old rules do nor the new ones: whatever
//! both agree on stays so, and every other packet changes once. For a list in which the first match decides there is
//! always such an order (P. Zhang, M. Winslett, C. Gunter, "Safe and efficient strategies for updating firewall
//! policies", TrustBus 2010): write both lists as one in which each keeps its order, insert what is new from the top
//! down, then delete what is old from the bottom up. Let *r* be the first new row that has a packet: until *r* is there,
//! no new row has it; afterwards its first match is an old row or *r*; and when the old row goes, every old row below has
//! gone already. Two edits are made one where that is as safe, which is worked out for the lists as they are at that moment,
//! over all packets, as every other step is.
//!
//! Where no state is kept, a conversation needs two rules, one for what is asked and one for its reply; each packet by
//! itself is safe then, and the conversation may not be. There, what must stop passing is blocked first, by rules that are
//! there for the time of the change, so that at no moment anything passes that does not before and afterwards.

mod lines;
mod merged;
mod steps;
mod temporary;
mod typed;
mod views;

pub use lines::Changed;

use crate::meaning::Meaning;
use crate::rules::{Effect, Rule, RuleSet};
use crate::space::PacketSet;
use merged::Merged;
use std::borrow::Cow;

/// The way from one set of rules to another.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Changeover<'r> {
    /// The steps, in order. After each the gateway is in a safe state.
    pub steps: Vec<Step<'r>>,
    /// How many of the steps put the new rules in; the others take the old ones out.
    pub putting_in: usize,
    /// How many rows stay as they are.
    pub kept: usize,
    /// What comes to be otherwise for a moment because networks or addresses of the gateway itself change, if anything.
    pub surroundings: Option<Interim>,
    /// Where no state is kept: half of a conversation that would pass for a moment and passes neither before nor
    /// afterwards, if there is any that no rule for the time of the change can block.
    pub conversation: Option<Interim>,
}

/// Edits that are made at once: mostly a single one.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Step<'r> {
    /// The edits.
    pub edits: Vec<Edit<'r>>,
    /// What they change.
    pub changed: Changed,
    /// Why they have to be made at once, where that is more than one: what would happen between.
    pub together: Option<Interim>,
}

/// A place in a list, at the time of an edit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spot {
    /// The list's name.
    pub list: String,
    /// The place in it, from 0 on.
    pub place: usize,
    /// The number of the row there, through all lists.
    pub number: u32,
}

/// A row: of one of the two lists, or one for the time of the change.
pub type Row<'r> = Box<Cow<'r, Rule>>;

/// One edit.
#[derive(Clone, Debug)]
pub enum Edit<'r> {
    /// A row is added.
    Insert {
        /// Where it stands then.
        at: Spot,
        /// The row.
        rule: Row<'r>,
        /// The row that it stands above then, if there is one in its list.
        above: Option<Row<'r>>,
        /// Whether the list has a row that says the same, which goes later.
        again: bool,
        /// Whether it goes again before the end.
        temporary: bool,
    },
    /// A row is made another, in its place.
    Alter {
        /// Where it stands.
        at: Spot,
        /// What it says before.
        old: &'r Rule,
        /// What it says then.
        new: &'r Rule,
    },
    /// A row is moved.
    Move {
        /// Where it stands before.
        from: Spot,
        /// Where it stands then.
        to: Spot,
        /// The row as it was, which may have another name.
        old: &'r Rule,
        /// The row.
        rule: &'r Rule,
        /// The row that it stands above then, if there is one in its list.
        above: Option<Row<'r>>,
    },
    /// A row is taken out.
    Delete {
        /// Where it stands before.
        at: Spot,
        /// The row.
        rule: Row<'r>,
    },
    /// A list is filled, and only then put to use.
    Attach {
        /// Where its first row stands then.
        at: Spot,
        /// Its rows.
        rules: Vec<&'r Rule>,
    },
    /// A list is put out of use, and only then emptied.
    Detach {
        /// Where its first row stands before.
        at: Spot,
        /// Its rows.
        rules: Vec<&'r Rule>,
    },
    /// A row gets another name, which changes nothing for packets.
    Rename {
        /// Where it stands.
        at: Spot,
        /// What it is called before.
        old: &'r Rule,
        /// What it is called then.
        new: &'r Rule,
    },
    /// What the gateway does without rules is set otherwise: its ranks, or the end of a list.
    Set {
        /// The lists concerned.
        lists: Vec<String>,
    },
}

/// Packets to which something would happen, for a moment, that happens to them neither before nor afterwards.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Interim {
    /// The packets.
    pub packets: PacketSet,
    /// Whether they are packets of the new plan; else of the old one.
    pub of_new: bool,
    /// What happens to them before.
    pub before: Effect,
    /// What would happen to them between.
    pub between: Effect,
    /// What happens to them afterwards.
    pub after: Effect,
}

/// Works out the way from the rules of one plan to those of another: edits, one row at a time, of which none opens
/// what both plans block or cuts what both allow.
///
/// Where a gateway can only append rows (`insert` in the limits of the new plan), the way is made of moves that need
/// no insertion. Whether it is safe at every step says [`Changeover::is_safe`]; where it is not, the steps say which
/// packets would fare differently for a moment.
///
/// ```
/// use bastium_core::{changeover::changeover, meaning::Meaning, rules};
/// use jiff::civil::date;
///
/// # let text = std::fs::read_to_string("tests/two-networks.toml").expect("a file");
/// let new = text.replace("\"ipp\"", "[\"ipp\", \"snmp\"]");
/// let [old, new] = [&text, &new].map(|text| {
///     bastium_planfile::read("plan.toml", text.as_bytes()).expect("a plan without errors")
/// });
/// let [before, after] =
///     [&old, &new].map(|plan| Meaning::new(plan, date(2026, 6, 1)).expect("no contradictions"));
/// let (old_rules, new_rules) = (rules::compile(&before), rules::compile(&after));
/// let way = changeover((&before, &old_rules), (&after, &new_rules));
/// assert!(way.is_safe() && way.edits() > 0);
/// ```
pub fn changeover<'r>(
    old: (&Meaning<'_>, &'r RuleSet<'r>),
    new: (&Meaning<'_>, &'r RuleSet<'r>),
) -> Changeover<'r> {
    let limits = &new.0.plan().gateway().limits;
    let merged = Merged::new(old, new, false);
    let way = steps::make(&merged, limits);
    if limits.insert || !way.needs_insert() {
        return way;
    }
    steps::make(&Merged::new(old, new, true), limits)
}

impl Changeover<'_> {
    /// Whether it is safe at every step, one edit at a time.
    pub fn is_safe(&self) -> bool {
        self.surroundings.is_none()
            && self.conversation.is_none()
            && self.steps.iter().all(|step| step.together.is_none())
    }

    /// How many edits there are.
    pub fn edits(&self) -> usize {
        self.steps.iter().map(|step| step.edits.len()).sum()
    }

    /// Whether a row has to be put above others.
    fn needs_insert(&self) -> bool {
        let puts_above = |edit: &Edit<'_>| {
            matches!(edit, Edit::Insert { above: Some(_), .. } | Edit::Move { above: Some(_), .. })
        };
        self.steps.iter().flat_map(|step| &step.edits).any(puts_above)
    }
}
