//! Guarantees: whether what must never pass never does, and what must always pass always does.

use crate::asking::{End, question};
use crate::meaning::Meaning;
use crate::plan::{Guarantee, NetworkId};
use crate::sample;
use crate::space::{IntervalSet, Packet};
use crate::verdict::{Cause, Decision, Verdict};

/// How a guarantee fares.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Kept {
    /// A packet that breaks it, with what decides that packet; `None` if it holds.
    pub broken_by: Option<(Packet, Decision)>,
    /// Networks in which devices meet without the gateway though they never should.
    pub within: Vec<NetworkId>,
}

/// Looks at every packet that a guarantee speaks of: both families, all hours.
///
/// What stays within a network counts neither way, and for what must always pass a packet that has no
/// way, or could not come from there, does not count either.
pub fn guarantee(meaning: &Meaning<'_>, guarantee: &Guarantee) -> Kept {
    let (from, to) = (End::of(guarantee.from.clone()), End::of(guarantee.to.clone()));
    let mut kept = Kept { broken_by: None, within: Vec::new() };
    let always = IntervalSet::full();
    let Ok(packets) = question(meaning, &from, &to, &guarantee.service, &always) else {
        return kept;
    };
    for part in meaning.parts(&packets) {
        let (verdict, cause) = (part.decision.verdict, part.decision.cause);
        let breaks = match (guarantee.always, verdict) {
            (false, verdict) => verdict == Verdict::Allow,
            (true, Verdict::Block | Verdict::Reject) => !matches!(cause, Cause::Forged(..)),
            (true, _) => false,
        };
        if let (Cause::SameNetwork(id), false) = (cause, guarantee.always) {
            kept.within.push(id);
        }
        if breaks && kept.broken_by.is_none() {
            let packet = sample::packet(meaning.plan(), &part.packets);
            kept.broken_by = packet.map(|packet| (packet, part.decision));
        }
    }
    kept
}
