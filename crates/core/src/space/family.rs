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
    /// An address as a number that is wide enough for both families.
    fn bits(self) -> u128;
    /// The address of such a number; `None` for one too large.
    fn from_bits(bits: u128) -> Option<Self>;
}

macro_rules! family {
    ($number:ty, $side:ident, $ends:ident, $address:ident) => {
        impl Family for $number {
            fn blocks(set: &PacketSet) -> &[Block<Self>] {
                set.$side.blocks()
            }

            fn region(region: Region<Self>) -> PacketSet {
                PacketSet { $side: region, ..PacketSet::empty() }
            }

            fn packet(point: Point<Self>) -> Option<Packet> {
                let ends = Ends::$ends {
                    source: $address::from_bits(point.source),
                    destination: $address::from_bits(point.destination),
                };
                let service = ServicePoint::from_coordinate(point.service)?;
                Some(Packet { enters: point.enters, ends, service, at: point.at })
            }

            fn point(packet: &Packet) -> Option<Point<Self>> {
                let Ends::$ends { source, destination } = packet.ends else { return None };
                Some(Point {
                    enters: packet.enters,
                    source: source.to_bits(),
                    destination: destination.to_bits(),
                    service: packet.service.coordinate(),
                    at: packet.at,
                })
            }

            fn bits(self) -> u128 {
                self.into()
            }

            fn from_bits(bits: u128) -> Option<Self> {
                bits.try_into().ok()
            }
        }
    };
}
family!(u32, v4, V4, Ipv4Addr);
family!(u128, v6, V6, Ipv6Addr);
