//! Packets as points of a family's number space, and back.

use super::{Coordinate, Ends, Packet, Point};
use std::net::{Ipv4Addr, Ipv6Addr};

/// A number that is an address of one family, and what the packets of that family are in such numbers.
pub trait AsPoint: Coordinate {
    /// The packet of a point.
    fn packet(point: Point<Self>) -> Packet;
    /// The point of a packet, if it is of this family.
    fn point(packet: &Packet) -> Option<Point<Self>>;
}

macro_rules! as_point {
    ($number:ty, $ends:ident, $address:ident) => {
        impl AsPoint for $number {
            fn packet(point: Point<Self>) -> Packet {
                let ends = Ends::$ends {
                    source: $address::from_bits(point.source),
                    destination: $address::from_bits(point.destination),
                };
                Packet { enters: point.enters, ends, service: point.service, at: point.at }
            }

            fn point(packet: &Packet) -> Option<Point<Self>> {
                let Ends::$ends { source, destination } = packet.ends else { return None };
                Some(Point {
                    enters: packet.enters,
                    source: source.to_bits(),
                    destination: destination.to_bits(),
                    service: packet.service,
                    at: packet.at,
                })
            }
        }
    };
}
as_point!(u32, V4, Ipv4Addr);
as_point!(u128, V6, Ipv6Addr);
