//! Candidates for checks: a packet, how it is sent, and which mistakes it would show.

use super::Probe;
use crate::plan::NetworkId;
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
    /// Which of the things that one person tries in any case it is.
    pub(super) everyday: Option<Everyday>,
    /// Whether it tries what the plan guarantees.
    pub(super) guarantee: bool,
    /// The mistakes that it shows, by number.
    pub(super) shows: Vec<u32>,
}

/// What is in every carried list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Everyday {
    /// That a network gives addresses.
    Lease(NetworkId),
    /// That its devices do not manage the gateway.
    ManageInside(NetworkId),
    /// That the gateway answers a network's questions for names, or does not.
    Names(NetworkId),
    /// That a network has a way out, or has none.
    WayOut(NetworkId),
    /// That those who may manage the gateway can.
    Manage,
    /// That nobody outside can, by that uplink, by its place in the plan's list.
    ManageOutside(usize),
}

impl Candidate {
    /// A candidate that nothing is known about yet.
    pub(super) fn new(id: String, packet: Packet, probe: Probe) -> Self {
        Self {
            id,
            packet,
            probe,
            needed: false,
            everyday: None,
            guarantee: false,
            shows: Vec::new(),
        }
    }

    /// The same, as one that belongs in every list.
    pub(super) fn needed(self) -> Self {
        Self { needed: true, ..self }
    }
}
