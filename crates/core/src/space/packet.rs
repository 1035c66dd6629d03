//! One packet: the first of a conversation.

use super::{Coordinate, Family, Minute, ServicePoint};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Where a packet comes from, as the gateway sees it: one of its networks, one of its uplinks, or
/// the gateway itself. The plan hands the numbers out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Interface(pub u16);

impl Interface {
    /// The interface of that number.
    ///
    /// # Panics
    /// Beyond [`Coordinate::LAST`]. A plan has no more than 15,000 networks and uplinks, and two of them together with
    /// everything that is translated stay below.
    pub fn of_index(index: usize) -> Self {
        Self(u16::try_from(index).expect("interfaces are numbered with sixteen bits"))
    }

    /// Its number, as a place in a list.
    pub fn index(self) -> usize {
        self.0.into()
    }
}

impl Coordinate for Interface {
    const FIRST: Self = Self(u16::MIN);
    const LAST: Self = Self(u16::MAX);
    fn next(self) -> Option<Self> {
        self.0.checked_add(1).map(Self)
    }
    fn previous(self) -> Option<Self> {
        self.0.checked_sub(1).map(Self)
    }
}

/// Source and destination address, which are always of one family.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Ends {
    /// An IPv4 packet.
    V4 {
        /// Where it says it comes from.
        source: Ipv4Addr,
        /// Where it goes.
        destination: Ipv4Addr,
    },
    /// An IPv6 packet.
    V6 {
        /// Where it says it comes from.
        source: Ipv6Addr,
        /// Where it goes.
        destination: Ipv6Addr,
    },
}

impl Ends {
    /// The two ends; `None` where the families differ.
    pub fn new(source: IpAddr, destination: IpAddr) -> Option<Self> {
        match (source, destination) {
            (IpAddr::V4(source), IpAddr::V4(destination)) => Some(Self::V4 { source, destination }),
            (IpAddr::V6(source), IpAddr::V6(destination)) => Some(Self::V6 { source, destination }),
            _ => None,
        }
    }

    /// The source address.
    pub fn source(self) -> IpAddr {
        match self {
            Self::V4 { source, .. } => source.into(),
            Self::V6 { source, .. } => source.into(),
        }
    }

    /// The destination address.
    pub fn destination(self) -> IpAddr {
        match self {
            Self::V4 { destination, .. } => destination.into(),
            Self::V6 { destination, .. } => destination.into(),
        }
    }
}

/// The first packet of a conversation, with everything that a verdict can depend on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Packet {
    /// Where it enters the gateway.
    pub enters: Interface,
    /// Source and destination.
    pub ends: Ends,
    /// Protocol with destination port, or with ICMP type and code.
    pub service: ServicePoint,
    /// The minute of the week, in the site's own time.
    pub at: Minute,
}

impl Packet {
    /// A packet on Monday at midnight: for where time does not matter.
    pub fn new(enters: Interface, ends: Ends, service: ServicePoint) -> Self {
        Self { enters, ends, service, at: Minute::default() }
    }

    /// The source address.
    pub fn source(&self) -> IpAddr {
        self.ends.source()
    }

    /// The destination address.
    pub fn destination(&self) -> IpAddr {
        self.ends.destination()
    }

    /// The family of both.
    pub fn family(&self) -> Family {
        Family::of(self.source())
    }
}
