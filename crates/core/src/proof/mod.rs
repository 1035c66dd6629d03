//! Whether the compiled rules match the plan: exactly, over whole packet sets.

mod anomalies;
mod boxes;
mod carried;
mod cell;
mod change;
mod comparison;
mod fate;
mod guarantee;
mod joint;
mod leak;
mod lines;
mod lookup;
pub(crate) mod partition;
mod planless;
mod prove;
mod replies;
mod table;
pub(crate) mod witness_search;

pub use boxes::{NamedBox, Wording, hours};
pub use carried::{Carried, CarriedLine, Divergence, alike, carried};
pub use change::{Change, Changes, LineChange, MovedHost, RuleChange, changes, line_changes};
pub use fate::Fate;
pub use guarantee::{Kept, guarantee};
pub(crate) use joint::{Joint, Side};
pub use leak::{Leak, leaks};
pub use lines::Expects;
pub use lookup::{Lookup, Ready};
pub use planless::{
    PlanlessChange, PlanlessSingles, planless_changes, planless_changes_in, planless_singles,
};
pub use prove::{
    Idle, Order, Proof, Proved, Singles, Unproved, equal, never_asked, packets_covered, prove,
    proved, singles,
};
pub use replies::{Answers, answers};

use crate::meaning::Meaning;
use crate::rules::{Outcome, RuleIndex, RuleSet};
use crate::space::{Interface, IntervalSet, Match, Packet, PacketSet};
use crate::verdict::{Decision, Verdict};

/// A packet on which plan and rules differ.
#[derive(Clone, Debug)]
pub struct Difference<'r> {
    /// The packet.
    pub packet: Packet,
    /// All packets that differ in the same way.
    pub packets: PacketSet,
    /// What the plan means.
    pub meaning: Decision,
    /// What the rules do.
    pub rules: Outcome<'r>,
}

/// Compares meaning and rules on a set, as the filter sees its packets: same verdict, same logging. What
/// never reaches a rule list (it stays in its network, or has no way) is left out. An empty answer is a
/// proof.
pub fn differences<'r>(
    meaning: &Meaning<'_>,
    rules: &'r RuleSet<'r>,
    set: &PacketSet,
) -> Vec<Difference<'r>> {
    between(meaning, &seen(meaning, rules, set), |packets| rules.parts(packets))
}

/// The same for one of many small sets, where the rules are laid out.
pub(crate) fn differences_by<'r>(
    meaning: &Meaning<'_>,
    rules: &RuleIndex<'r>,
    set: &PacketSet,
) -> Vec<Difference<'r>> {
    between(meaning, &seen(meaning, rules.rules(), set), |packets| rules.parts(packets))
}

fn between<'r>(
    meaning: &Meaning<'_>,
    set: &PacketSet,
    parts: impl Fn(&PacketSet) -> Vec<(PacketSet, Outcome<'r>)>,
) -> Vec<Difference<'r>> {
    let mut differences = Vec::new();
    for part in meaning.parts(set) {
        if !part.decision.verdict.is_filtered() {
            continue;
        }
        for (packets, outcome) in parts(&part.packets) {
            if agrees(part.decision, outcome) {
                continue;
            }
            if let Some(packet) = packets.sample() {
                let meaning = part.decision;
                differences.push(Difference { packet, packets, meaning, rules: outcome });
            }
        }
    }
    differences
}

/// The packets of a set as the lists see them, those left out that no list sees.
fn seen(meaning: &Meaning<'_>, rules: &RuleSet, set: &PacketSet) -> PacketSet {
    let mut seen = rules.set_as_filtered(set);
    if rules.before_translation {
        let enters = IntervalSet::range(Interface(0), meaning.plan().gateway_interface());
        seen = seen.intersection(&PacketSet::from(Match { enters, ..Match::everything() }));
    }
    seen.difference(&rules.unseen)
}

/// Whether a rule list does with a packet what the plan means.
pub fn agrees(decision: Decision, outcome: Outcome<'_>) -> bool {
    decision.verdict == Verdict::from(outcome.action) && decision.logged == outcome.logged
}
