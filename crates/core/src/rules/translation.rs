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
        ServiceSet { v4: self.takes.service.v4.moved(self.shift), ..ServiceSet::empty() }
    }

    /// The way back: what is asked for outside, for points of the line inside.
    pub(super) fn outward(&self, line: &IntervalSet<ServicePoint>) -> IntervalSet<ServicePoint> {
        line.moved(-self.shift)
    }

    /// What becomes of a packet that it takes.
    pub(super) fn apply(&self, packet: &Packet) -> Option<Packet> {
        Some(Packet {
            enters: Interface(packet.enters.0 + self.interface),
            ends: Ends::new(packet.source(), self.target)?,
            service: packet.service.moved(self.shift)?,
            at: packet.at,
        })
    }

    /// What a packet was before it took it; one of several such packets.
    pub(crate) fn undo(&self, plan: &Plan, packet: &Packet) -> Option<Packet> {
        let asked = self.takes.destination.ranges().next()?.0;
        Some(Packet {
            enters: plan.came_by(packet.enters),
            ends: Ends::new(packet.source(), asked)?,
            service: packet.service.moved(-self.shift)?,
            at: packet.at,
        })
    }

    /// What becomes of all the packets of a set that it takes.
    pub(super) fn apply_to(&self, set: &PacketSet) -> PacketSet {
        let interfaces = |interfaces: &IntervalSet<Interface>| {
            let moved = |interface: Interface| Interface(interface.0 + self.interface);
            let spans = interfaces.spans().iter().map(|(low, high)| (moved(*low), moved(*high)));
            IntervalSet::from_spans(spans)
        };
        let taken = set.intersection(&PacketSet::from(&self.takes));
        let products = taken.products().map(|product| Match {
            enters: interfaces(&product.enters),
            destination: self.target.into(),
            service: ServiceSet { v4: product.service.v4.moved(self.shift), ..ServiceSet::empty() },
            ..product
        });
        products.collect()
    }
}
