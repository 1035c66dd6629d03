//! What lists without state let through beyond the plan: packets that only look like replies.

use crate::meaning::Meaning;
use crate::plan::Action;
use crate::rules::{Otherwise, Rule, RuleSet};
use crate::space::{Match, Nearby, PacketSet, ServiceSet};
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
pub fn leaks<'r>(meaning: &Meaning<'_>, rules: &'r RuleSet<'r>) -> Vec<Leak<'r>> {
    let mut leaks = Vec::new();
    let keeps_state = rules.rules().all(|rule| !rule.is_for_replies());
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
    // What lists above deny does not come to the next one.
    let mut decided: Vec<Taken> = Vec::new();
    for list in &rules.lists {
        let own = |rule: &Rule| {
            let matches = rule.packets().map(PacketSet::from);
            matches.map_or_else(PacketSet::empty, |matches| matches.intersection(&list.covers))
        };
        let first_packets = |rule: &Rule| match rule.is_for_replies() {
            false => own(rule),
            true => PacketSet::empty(),
        };
        let taken = Taken::by(list.rules.iter().map(first_packets).collect());
        for (place, rule) in list.rules.iter().enumerate() {
            if let Some(from) = rule.replies_from() {
                let left = taken.leave(own(rule), place);
                add(
                    Some(rule),
                    &decided.iter().fold(left, |left, t| t.leave(left, usize::MAX)),
                    from,
                );
            }
        }
        if list.otherwise == Otherwise::GoOn {
            decided.push(taken);
        }
    }
    let past = rules.unseen.intersection(&arriving(meaning));
    let past = decided.iter().fold(past, |past, taken| taken.leave(past, usize::MAX));
    for (packets, outcome) in rules.parts(&past) {
        if outcome.action == Action::Allow && outcome.rule.is_none() {
            add(None, &packets, &ServiceSet::any());
        }
    }
    leaks
}

/// What the rules of a list take, rule by rule.
struct Taken {
    sets: Vec<PacketSet>,
    nearby: Nearby,
}

impl Taken {
    fn by(sets: Vec<PacketSet>) -> Self {
        let nearby = Nearby::new(&sets);
        Self { sets, nearby }
    }

    /// What the rules above a place leave of a set.
    fn leave(&self, set: PacketSet, place: usize) -> PacketSet {
        let near = self.nearby.to(&set).into_iter().take_while(|other| *other < place);
        near.fold(set, |left, other| left.difference(&self.sets[other]))
    }
}

/// What comes in from outside the gateway, before anything is translated.
fn arriving(meaning: &Meaning<'_>) -> PacketSet {
    let last = meaning.plan().gateway_interface().0;
    let enters = (0..last).map(crate::space::Interface).collect();
    Match { enters, ..Match::everything() }.into()
}
