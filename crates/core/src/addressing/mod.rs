//! Subnets: what lies in them, which follow from a VLAN id, and which addresses are special.

mod derive;
mod special;
mod subnet;

pub use derive::{NoSubnet, Tie, derive};
pub use special::{
    documentation, link_local, loopback, multicast, not_global, private_v4, unique_local,
};
pub use subnet::{Family, Pool, Subnet};
