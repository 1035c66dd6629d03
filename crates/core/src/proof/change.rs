//! What changes from one plan to another, exactly: which traffic is opened, closed or gets a different verdict, and
//! which rules are added, removed, moved or changed.

mod moved;
mod rules;

pub use moved::MovedHost;
pub use rules::{LineChange, RuleChange, line_changes};

use super::comparison::{Clash, compare};
use super::fate::Fate;
use super::joint::Joint;
use super::lines::{MeaningLines, Reading};
use super::partition::Partition;
use crate::meaning::Meaning;
use crate::plan::Action;
use crate::rules::RuleSet;
use crate::space::PacketSet;
use crate::verdict::{Decision, Verdict};
use std::collections::BTreeMap;

/// What changes between two plans.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Changes<'r> {
    /// The traffic that fares otherwise.
    pub traffic: Vec<Change>,
    /// The rules that are others.
    pub rules: Vec<RuleChange<'r>>,
    /// The hosts that are elsewhere.
    pub moved: Vec<MovedHost>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

/// Traffic that fares otherwise than before.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Change {
    /// The packets, on the interfaces of the plan that [`Change::of_new`] says.
    pub packets: PacketSet,
    /// Whether they are packets of the new plan; else of the old one, since where they enter is gone.
    pub of_new: bool,
    /// What happened to them.
    pub before: Decision,
    /// What happens to them now.
    pub after: Decision,
}

impl Change {
    /// Whether it gets through now, and did not.
    pub fn opens(&self) -> bool {
        gets_through(self.after) && !gets_through(self.before)
    }

    /// Whether it got through, and does not any more.
    pub fn closes(&self) -> bool {
        gets_through(self.before) && !gets_through(self.after)
    }
}

/// Devices of one network reach each other, gateway or not.
fn gets_through(decision: Decision) -> bool {
    matches!(decision.verdict, Verdict::Allow | Verdict::NotRouted)
}

/// What the sender of a packet notices of its fate.
fn noticed(decision: Decision) -> Fate {
    let action = match decision.verdict {
        Verdict::Allow | Verdict::NotRouted => Action::Allow,
        Verdict::Reject => Action::Reject,
        Verdict::Block | Verdict::NoRoute => Action::Block,
    };
    Fate::Decided(action, false)
}

/// Compares two plans, and the rules that each was compiled to.
///
/// Networks, uplinks and domains of the two are paired by name, else by what is on them; traffic is compared over
/// every packet, as in [`prove`](super::prove). A change carries what decided before and what decides now. Only what
/// the sender of a packet can notice counts: that a rule logs, or is called something else, is a change of rules and
/// not of traffic.
pub fn changes<'r>(
    old: &Meaning<'_>,
    new: &Meaning<'_>,
    rules: (&'r RuleSet<'r>, &'r RuleSet<'r>),
) -> Changes<'r> {
    let joint = Joint::of(old.plan(), new.plan());
    let interfaces = (joint.old.interfaces(), joint.new.interfaces());
    let partition = Partition::joint(
        &[(old, interfaces.0), (new, interfaces.1)],
        joint.outer(),
        &PacketSet::empty(),
    );
    let read = |meaning, side| {
        let reading =
            Reading { fate: noticed, side: Some(side), offered_outside: true, expects: None };
        MeaningLines::new(meaning, &partition, &reading)
    };
    let (before, after) = (read(old, &joint.old), read(new, &joint.new));
    let compared = compare(&before.table, &after.table);
    let mut gathered: BTreeMap<(u32, u32), PacketSet> = BTreeMap::new();
    for Clash { one, other, packets } in compared.clashes {
        gathered.entry((one, other)).or_default().add(packets);
    }
    let mut traffic = Vec::new();
    for ((one, other), packets) in gathered {
        let (before, after) = (before.decisions[one as usize], after.decisions[other as usize]);
        for (of_new, packets) in joint.apart(&packets) {
            traffic.push(Change { packets, of_new, before, after });
        }
    }
    let rules = rules::changes(&joint, rules.0, rules.1);
    let moved = moved::moved(old, new);
    Changes { traffic, rules, moved, undecided: compared.undecided }
}
