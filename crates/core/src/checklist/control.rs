//! What makes silence evidence: a check whose reply shows that the other end is there.

use super::{Check, Expect, Probe, Stand, Target};

/// The other end of a check, as far as a reply shows that it is there.
#[derive(PartialEq, Eq)]
enum OtherEnd<'c> {
    /// Any server on the internet.
    Anyone,
    /// What asks for that at that end.
    Service(&'c Target, Probe),
}

fn other_end(check: &Check) -> OtherEnd<'_> {
    match (&check.target, check.probe) {
        (Target::Anyone { .. }, _) | (_, Probe::Web) => OtherEnd::Anyone,
        (target, probe) => OtherEnd::Service(target, probe),
    }
}

/// Whether a reply to one check makes silence in the other evidence: it comes from the same end, asked for the same.
/// The gateway's own silence is evidence where it answers something at that very place.
pub(super) fn controls(reply: &Check, silent: &Check) -> bool {
    reply.expect == Expect::Reply
        && reply.probe != Probe::Lease
        && (other_end(reply) == other_end(silent)
            || (silent.is_to_gateway
                && (reply.is_to_gateway
                    || reply.packet.destination() == silent.packet.destination())
                && reply.standpoint.point() == silent.standpoint.point()))
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

/// Whether a reply to one check shows that whoever makes the other one is connected: it came to the same address. A lease
/// shows that of a device that joins.
pub(super) fn shows_own_end(reply: &Check, silent: &Check) -> bool {
    reply.expect == Expect::Reply
        && reply.standpoint == silent.standpoint
        && reply.packet.family() == silent.packet.family()
}

/// Finds for each check that needs them controls among the others, for either end.
pub(super) fn find(stands: &mut [Stand]) {
    let all = || stands.iter().flat_map(|stand| &stand.checks);
    let by = |silent: &Check, shows: fn(&Check, &Check) -> bool| {
        all().find(|reply| needs_one(silent) && shows(reply, silent)).map(|reply| reply.id.clone())
    };
    let found: Vec<(Option<String>, Option<String>)> =
        all().map(|check| (by(check, controls), by(check, shows_own_end))).collect();
    let checks = stands.iter_mut().flat_map(|stand| &mut stand.checks);
    for (check, found) in checks.zip(found) {
        (check.control, check.own_end) = found;
    }
}
