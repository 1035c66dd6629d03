//! How long a list takes the person who carries it: walking between test points, setting up, typing, waiting for
//! timeouts.

use super::{Check, Expect, Probe, Stand, Standpoint};
use crate::plan::NetworkId;
use std::collections::HashSet;
use std::net::IpAddr;

/// Seconds to get to another test point: walk there, plug in or join, and have an address.
pub(super) const MOVE: u32 = 150;
/// Seconds to take another address at the same test point.
pub(super) const ADDRESS: u32 = 60;
/// Seconds to set a device up at the other end, the way there included.
pub(super) const SET_UP: u32 = 180;
/// Seconds to type a command, read what it says, and tick it off.
const TYPING: u32 = 20;
/// Seconds more to compare all that a network gives with what it has to give.
const COMPARING: u32 = 5;

impl Expect {
    /// About how long it takes until that has come back, in seconds: silence has to be waited for.
    pub fn seconds(self) -> u32 {
        match self {
            Self::Reply | Self::Refused | Self::Unreachable => 2,
            Self::Silence => 4,
        }
    }
}

impl Check {
    /// About how long the check takes, in seconds: typing, waiting, reading.
    pub fn seconds(&self) -> u32 {
        let comparing = if self.probe == Probe::Lease { COMPARING } else { 0 };
        TYPING + self.expect.seconds() + comparing
    }

    /// The address at which a device has to be set up for it.
    pub fn set_up_at(&self) -> Option<IpAddr> {
        self.set_up().map(|_| self.packet.destination())
    }
}

/// A test point: a socket or a Wi-Fi name of a network, the subnet behind a router of one, or outside. Another address
/// there is no other test point.
pub type Point = (Option<NetworkId>, Option<usize>);

impl Standpoint {
    /// The test point that it is at.
    pub fn point(&self) -> Point {
        match self {
            Self::Behind(id, route, _) => (Some(*id), Some(*route)),
            other => (other.network(), None),
        }
    }
}

/// Numbers the test points of a list, in its order.
pub(super) fn number(stands: &mut [Stand]) {
    let mut known: Vec<Point> = Vec::new();
    for stand in stands {
        let point = stand.standpoint.point();
        let place = known.iter().position(|one| *one == point).unwrap_or(known.len());
        if place == known.len() {
            known.push(point);
        }
        stand.number = place + 1;
    }
}

/// A count as a number of seconds is multiplied by it.
pub(super) fn capped(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

/// At how many test points a list is made.
pub fn points(stands: &[Stand]) -> usize {
    stands.iter().map(|stand| stand.standpoint.point()).collect::<HashSet<Point>>().len()
}

/// The whole list's estimated time in seconds.
pub fn seconds(stands: &[Stand]) -> u32 {
    let checks = || stands.iter().flat_map(|stand| &stand.checks);
    let points = points(stands);
    let set_up: HashSet<IpAddr> = checks().filter_map(Check::set_up_at).collect();
    checks().map(Check::seconds).sum::<u32>()
        + MOVE * capped(points)
        + ADDRESS * capped(stands.len() - points)
        + SET_UP * capped(set_up.len())
}
