//! What lists without state let through beyond the plan: packets that look like replies.

use crate::meaning::Meaning;
use crate::plan::Action;
use crate::rules::{Otherwise, Rule, RuleSet};
use crate::space::{Match, PacketSet, ServiceSet};
use crate::verdict::{Decision, Verdict};

/// Packets that a rule for replies lets through, and that the plan would not.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Leak<'r> {
    /// The rule; `None` for what passes no list at all.
    pub rule: Option<&'r Rule>,
    /// The packets, as first packets of conversations of their own.
    pub packets: PacketSet,
    /// The ports that they come from. Of TCP, only what is no opening (ACK or RST is set) gets through.
    pub from: ServiceSet,
    /// What the plan would do with them.
    pub decision: Decision,
}

/// Everything that gets through beyond the plan: nothing where the gateway keeps state.
pub fn leaks<'r>(meaning: &Meaning<'_>, rules: &'r RuleSet) -> Vec<Leak<'r>> {
    let mut leaks = Vec::new();
    let keeps_state = rules.rules().all(|rule| rule.back.is_none());
    if keeps_state && rules.unseen.is_empty() {
        return leaks;
    }
    let mut add = |rule: Option<&'r Rule>, packets: &PacketSet, from: &ServiceSet| {
        for part in meaning.parts(packets) {
            let denied = matches!(part.decision.verdict, Verdict::Block | Verdict::Reject);
            if denied {
                let (packets, decision, from) = (part.packets, part.decision, from.clone());
                leaks.push(Leak { rule, packets, from, decision });
            }
        }
    };
    let mut decided = PacketSet::empty();
    for list in &rules.lists {
        let mut here = list.covers.clone();
        for rule in &list.rules {
            let Some(matches) = &rule.matches else { continue };
            let own = PacketSet::from(matches).intersection(&here);
            match &rule.back {
                Some(from) => add(Some(rule), &own.difference(&decided), from),
                None => here = here.difference(&own),
            }
        }
        // What such a list denies does not come to the next one.
        if list.otherwise == Otherwise::GoOn {
            decided = decided.union(&list.covers.difference(&here));
        }
    }
    let past = rules.unseen.intersection(&arriving(meaning)).difference(&decided);
    for (packets, outcome) in rules.parts(&past) {
        if outcome.action == Action::Allow && outcome.rule.is_none() {
            add(None, &packets, &ServiceSet::any());
        }
    }
    leaks
}

/// What comes in from outside the gateway, before anything is translated.
fn arriving(meaning: &Meaning<'_>) -> PacketSet {
    let last = meaning.plan().gateway_leg().0;
    let enters = (0..last).map(crate::space::Leg).collect();
    Match { enters, ..Match::everything() }.into()
}
