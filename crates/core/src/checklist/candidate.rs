//! What could be checked.

use super::Probe;
use crate::space::Packet;

/// A check that has not been chosen yet.
#[derive(Clone, Debug)]
pub(super) struct Candidate {
    /// Its id.
    pub(super) id: String,
    /// The packet that it sends.
    pub(super) packet: Packet,
    /// How.
    pub(super) probe: Probe,
    /// Whether it belongs in every list, whatever it guards.
    pub(super) needed: bool,
    /// Whether it tries what the plan guarantees.
    pub(super) guarantee: bool,
    /// The mistakes that it shows, by number.
    pub(super) shows: Vec<u32>,
}

impl Candidate {
    /// A candidate that nothing is known about yet.
    pub(super) fn new(id: String, packet: Packet, probe: Probe) -> Self {
        Self { id, packet, probe, needed: false, guarantee: false, shows: Vec::new() }
    }

    /// The same, as one that belongs in every list.
    pub(super) fn needed(self) -> Self {
        Self { needed: true, ..self }
    }
}
