//! The two address families, for code that is the same for both.

use super::{Block, Coordinate, Ends, Packet, PacketSet, Point, Region, ServicePoint};
use std::net::{Ipv4Addr, Ipv6Addr};

/// An address family, by the number that an address of it is.
pub trait Family: Coordinate + std::hash::Hash {
    /// The blocks of a set in this family.
    fn blocks(set: &PacketSet) -> &[Block<Self>];
    /// The set of a region.
    fn region(region: Region<Self>) -> PacketSet;
    /// The packet of a point; `None` past the end of the service line.
    fn packet(point: Point<Self>) -> Option<Packet>;
    /// The point of a packet, if it is of this family.
    fn point(packet: &Packet) -> Option<Point<Self>>;
}

impl Family for u32 {
    fn blocks(set: &PacketSet) -> &[Block<Self>] {
        set.v4.blocks()
    }

    fn region(region: Region<Self>) -> PacketSet {
        PacketSet { v4: region, ..PacketSet::empty() }
    }

    fn packet(point: Point<Self>) -> Option<Packet> {
        let ends = Ends::V4 {
            source: Ipv4Addr::from_bits(point.source),
            destination: Ipv4Addr::from_bits(point.destination),
        };
        let service = ServicePoint::from_coordinate(point.service)?;
        Some(Packet { enters: point.enters, ends, service, at: point.at })
    }

    fn point(packet: &Packet) -> Option<Point<Self>> {
        let Ends::V4 { source, destination } = packet.ends else { return None };
        Some(Point {
            enters: packet.enters,
            source: source.to_bits(),
            destination: destination.to_bits(),
            service: packet.service.coordinate(),
            at: packet.at,
        })
    }
}

impl Family for u128 {
    fn blocks(set: &PacketSet) -> &[Block<Self>] {
        set.v6.blocks()
    }

    fn region(region: Region<Self>) -> PacketSet {
        PacketSet { v6: region, ..PacketSet::empty() }
    }

    fn packet(point: Point<Self>) -> Option<Packet> {
        let ends = Ends::V6 {
            source: Ipv6Addr::from_bits(point.source),
            destination: Ipv6Addr::from_bits(point.destination),
        };
        let service = ServicePoint::from_coordinate(point.service)?;
        Some(Packet { enters: point.enters, ends, service, at: point.at })
    }

    fn point(packet: &Packet) -> Option<Point<Self>> {
        let Ends::V6 { source, destination } = packet.ends else { return None };
        Some(Point {
            enters: packet.enters,
            source: source.to_bits(),
            destination: destination.to_bits(),
            service: packet.service.coordinate(),
            at: packet.at,
        })
    }
}
