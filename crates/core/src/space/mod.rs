//! Exact packet sets: the arithmetic that everything else stands on.
//!
//! From small to large: an [`IntervalSet`] is a set of numbers on one line; an [`AddressSet`] holds
//! one for IPv4 and one for IPv6; a [`ServiceSet`] does the same on the *service line*, where
//! protocol, destination port and ICMP type are folded into one number; a [`Block`] is a product of
//! such sets; a [`PacketSet`] is a union of blocks, one union for each family.
//!
//! Everything here is exact. Nothing is sampled and nothing is rounded: subtraction returns what is
//! left over, and an empty answer means that there is no such packet.

mod address_bits;
mod address_set;
mod as_point;
mod block;
mod bounding_box;
mod difference;
mod family;
mod interval;
mod minute;
mod nearby;
mod packet;
mod packet_set;
mod search;
mod service_point;
mod service_set;
mod service_words;
mod tidy;

pub use address_bits::AddressBits;
pub use address_set::AddressSet;
pub use as_point::AsPoint;
pub use block::{Block, Point, Region};
pub(crate) use bounding_box::BoundingBox;
pub use family::Family;
pub use interval::{Coordinate, IntervalSet};
pub use minute::{DAYS, Minute, time_of_day};
pub(crate) use nearby::BlockIndex;
pub use nearby::Nearby;
pub use packet::{Ends, Interface, Packet};
pub use packet_set::{Match, PacketSet};
pub use search::Search;
pub use service_point::{Protocol, ServicePoint};
pub use service_set::ServiceSet;
