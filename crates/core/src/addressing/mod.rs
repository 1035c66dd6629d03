//! Subnets: what lies in them, which follow from a VLAN id, and which addresses are special.

mod carve;
mod derive;
mod placeholder;
mod special;
mod subnet;

pub use carve::{FreeSpace, Growth, grow, prefix_for};
pub use derive::{NoSubnet, Tie, derive};
pub use placeholder::Placeholder;
pub use special::{
    documentation, link_local, loopback, multicast, not_global, private_v4, unique_local,
    unspecified,
};
pub use subnet::{Pool, Subnet};
