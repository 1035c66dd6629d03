//! Controls: checks whose reply shows that the other end of a silent check is there and answers.
//!
//! Silence by itself proves nothing, since a printer that is switched off is silent as well. A control goes to the
//! same device and service, from a place that may reach it.

use super::time::Point;
use super::{Check, Expect, Probe, Stand, Standpoint, Target};
use crate::space::Family;
use std::collections::HashMap;
use std::net::IpAddr;

/// What a reply can show of one of the two ends. A reply is a control of a check that needs what it shows.
#[derive(PartialEq, Eq, Hash)]
enum Shown<'c> {
    /// That some server on the internet answers.
    Anyone,
    /// That a request for that service at that end is answered.
    Service(&'c Target, Probe),
    /// That the gateway answers at that test point.
    Gateway(Point),
    /// That somebody at that address answers requests from that test point.
    Address(IpAddr, Point),
}

fn other_end(check: &Check) -> Shown<'_> {
    match (&check.target, check.probe) {
        (Target::Anyone { .. }, _) | (_, Probe::Web) => Shown::Anyone,
        (target, probe) => Shown::Service(target, probe),
    }
}

/// What a check shows of the other end if it is answered.
fn shown(reply: &Check) -> impl Iterator<Item = Shown<'_>> {
    let is_reply = reply.expect == Expect::Reply && reply.probe != Probe::Lease;
    let point = reply.standpoint.point();
    let all = [
        Some(other_end(reply)),
        Some(Shown::Address(reply.packet.destination(), point)),
        reply.is_to_gateway.then_some(Shown::Gateway(point)),
    ];
    all.into_iter().flatten().filter(move |_| is_reply)
}

/// What makes silence in a check evidence, each of them: it comes from the same end, asked for the same. The gateway's own
/// silence is evidence where it answers something at that very place.
fn needed(silent: &Check) -> impl Iterator<Item = Shown<'_>> {
    let point = silent.standpoint.point();
    let all = [
        Some(other_end(silent)),
        silent.is_to_gateway.then_some(Shown::Gateway(point)),
        silent.is_to_gateway.then(|| Shown::Address(silent.packet.destination(), point)),
    ];
    all.into_iter().flatten()
}

/// Whether a reply to one check makes silence in the other evidence.
pub(super) fn controls(reply: &Check, silent: &Check) -> bool {
    needed(silent).any(|needed| shown(reply).any(|shown| shown == needed))
}

/// Whether a check shows nothing without a control: silence of whom the tester has not set up himself. That nothing is
/// announced is seen where other things are.
pub(super) fn needs_one(check: &Check) -> bool {
    check.expect == Expect::Silence && check.probe != Probe::Browse && check.set_up().is_none()
}

impl Check {
    /// Whether what is expected, silence, shows nothing by itself.
    pub fn needs_control(&self) -> bool {
        needs_one(self)
    }
}

/// What a reply shows of the tester: that it is connected, with that address. A lease shows that of a device that
/// joins.
fn own_end(check: &Check) -> (&Standpoint, Family) {
    (&check.standpoint, check.packet.family())
}

/// Whether a reply to one check shows that the tester of the other one is connected.
pub(super) fn shows_own_end(reply: &Check, silent: &Check) -> bool {
    reply.expect == Expect::Reply && own_end(reply) == own_end(silent)
}

/// Finds for each check that needs them controls among the others, for either end: the first in the list.
pub(super) fn find(stands: &mut [Stand]) {
    let all: Vec<&Check> = stands.iter().flat_map(|stand| &stand.checks).collect();
    let (mut other_ends, mut own_ends) = (HashMap::new(), HashMap::new());
    for (place, reply) in all.iter().enumerate() {
        shown(reply).for_each(|shown| _ = other_ends.entry(shown).or_insert(place));
        if reply.expect == Expect::Reply {
            own_ends.entry(own_end(reply)).or_insert(place);
        }
    }
    let id = |place: &usize| all[*place].id.clone();
    let find = |silent: &&Check| {
        let other = needed(silent).filter_map(|needed| other_ends.get(&needed)).min().map(id);
        (other, own_ends.get(&own_end(silent)).map(id))
    };
    let found: Vec<_> =
        all.iter().map(|check| if needs_one(check) { find(check) } else { (None, None) }).collect();
    let checks = stands.iter_mut().flat_map(|stand| &mut stand.checks);
    for (check, found) in checks.zip(found) {
        (check.control, check.own_end) = found;
    }
}
