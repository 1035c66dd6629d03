//! What offered services are translated to.

use crate::plan::Plan;
use crate::space::{
    Ends, Interface, IntervalSet, Match, Packet, PacketSet, ServicePoint, ServiceSet,
};
use std::net::IpAddr;

/// A translation of destinations: what asks at the outside goes on to a host.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Translation {
    /// Its id, as those of rules.
    pub id: String,
    /// The packets that it takes, before they are translated.
    pub takes: Match,
    /// The host's address that they go to.
    pub target: IpAddr,
    /// Added to a point of the service line.
    pub(super) shift: i32,
    /// Added to the interface, for a translated packet.
    pub(super) interface: u16,
}

impl Translation {
    /// What its packets ask for once they are translated.
    pub fn inside(&self) -> ServiceSet {
        let (line, shift) = (self.takes.service.v4.spans().iter(), self.shift);
        let moved = line.filter_map(|(low, high)| {
            Some((low.checked_add_signed(shift)?, high.checked_add_signed(shift)?))
        });
        ServiceSet { v4: IntervalSet::from_spans(moved), ..ServiceSet::empty() }
    }

    /// The way back: what is asked for outside, for points of the line inside.
    pub(super) fn outward(&self, line: &IntervalSet<u32>) -> IntervalSet<u32> {
        let moved = |(low, high): &(u32, u32)| {
            Some((low.checked_add_signed(-self.shift)?, high.checked_add_signed(-self.shift)?))
        };
        IntervalSet::from_spans(line.spans().iter().filter_map(moved))
    }

    /// What becomes of a packet that it takes.
    pub(super) fn apply(&self, packet: &Packet) -> Option<Packet> {
        let service = packet.service.coordinate().checked_add_signed(self.shift)?;
        Some(Packet {
            enters: Interface(packet.enters.0 + self.interface),
            ends: Ends::new(packet.source(), self.target)?,
            service: ServicePoint::from_coordinate(service)?,
            at: packet.at,
        })
    }

    /// What a packet was before it took it; one of several such packets.
    pub(crate) fn undo(&self, plan: &Plan, packet: &Packet) -> Option<Packet> {
        let service = packet.service.coordinate().checked_add_signed(-self.shift)?;
        let asked = self.takes.destination.ranges().next()?.0;
        Some(Packet {
            enters: plan.came_by(packet.enters),
            ends: Ends::new(packet.source(), asked)?,
            service: ServicePoint::from_coordinate(service)?,
            at: packet.at,
        })
    }

    /// What becomes of all the packets of a set that it takes.
    pub(super) fn apply_to(&self, set: &PacketSet) -> PacketSet {
        let moved = |line: &IntervalSet<u32>| {
            IntervalSet::from_spans(line.spans().iter().filter_map(|(low, high)| {
                Some((low.checked_add_signed(self.shift)?, high.checked_add_signed(self.shift)?))
            }))
        };
        let interfaces = |interfaces: &IntervalSet<Interface>| {
            let moved = |interface: Interface| Interface(interface.0 + self.interface);
            let spans = interfaces.spans().iter().map(|(low, high)| (moved(*low), moved(*high)));
            IntervalSet::from_spans(spans)
        };
        let taken = set.intersection(&PacketSet::from(&self.takes));
        let products = taken.products().map(|product| Match {
            enters: interfaces(&product.enters),
            destination: self.target.into(),
            service: ServiceSet { v4: moved(&product.service.v4), ..ServiceSet::empty() },
            ..product
        });
        products.collect()
    }
}
