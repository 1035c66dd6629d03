//! A whole site in the kernel: the gateway, a cable for each of its networks and uplinks, and at the
//! other end of each the devices. What is built is described as data, without any plan.

mod build;
mod dnsmasq_process;
mod inject;
mod lease;
pub(crate) mod names;
mod testbed;
mod trunk;

pub use build::{Site, Undone};
pub use dnsmasq_process::DnsmasqProcess;
pub use inject::{Fate, Judged};
pub use names::Names;
pub use testbed::{Action, Asked, Attempt, Expected, Testbed};
pub use trunk::{Carried, Trunk};

use ipnet::IpNet;
use std::net::IpAddr;

/// What is at one interface of the gateway.
#[derive(Clone, Debug)]
pub struct Wire {
    /// The interface's name on the gateway.
    pub interface: String,
    /// The gateway's own addresses there.
    pub gateway: Vec<IpNet>,
    /// The addresses of the devices at the other end, with the prefix that is on the cable.
    pub devices: Vec<IpNet>,
    /// Subnets behind a router at the other end: the subnet, and the router's address.
    pub behind: Vec<(IpNet, IpAddr)>,
    /// Addresses that are beyond the cable: behind its routers, or anywhere on the internet.
    pub beyond: Vec<IpAddr>,
    /// For an uplink: the routers that the gateway sends everything else to.
    pub routers: Vec<IpAddr>,
}

impl Wire {
    /// The gateway's hardware address on the cable with that number (locally administered).
    pub(crate) fn gateway_mac(number: usize) -> [u8; 6] {
        let [low, high, ..] = number.to_le_bytes();
        [0x02, 0x00, 0x5e, 0x01, high, low]
    }

    /// The gateway's link-local address there, which follows from its hardware address (RFC 4291,
    /// appendix A).
    pub fn own_link_local(number: usize) -> IpAddr {
        let [a, b, c, d, e, f] = Self::gateway_mac(number).map(u16::from);
        let last = [(a ^ 2) << 8 | b, c << 8 | 0xff, 0xfe00 | d, e << 8 | f];
        std::net::Ipv6Addr::new(0xfe80, 0, 0, 0, last[0], last[1], last[2], last[3]).into()
    }

    /// The devices' hardware address there.
    pub(crate) fn device_mac(number: usize) -> [u8; 6] {
        let [low, high, ..] = number.to_le_bytes();
        [0x02, 0x00, 0x5e, 0x02, high, low]
    }
}
