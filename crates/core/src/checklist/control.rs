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
            || (silent.to == "gateway"
                && (reply.to == "gateway"
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

/// Finds for each check that needs one a control among the others.
pub(super) fn find(stands: &mut [Stand]) {
    let found: Vec<Vec<Option<String>>> = stands
        .iter()
        .map(|stand| stand.checks.iter().map(|check| control_of(check, stands)).collect())
        .collect();
    for (stand, found) in stands.iter_mut().zip(found) {
        for (check, control) in stand.checks.iter_mut().zip(found) {
            check.control = control;
        }
    }
}

fn control_of(check: &Check, stands: &[Stand]) -> Option<String> {
    let mut all = stands.iter().flat_map(|stand| &stand.checks);
    let control = all.find(|reply| needs_one(check) && controls(reply, check))?;
    Some(control.id.clone())
}
