//! One subnet of a network, and the addresses in it that play a part.

use crate::space::{AddressSet, Family};
use ipnet::IpNet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// A subnet and the gateway's address in it, which lies inside and is not the broadcast address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Subnet {
    prefix: IpNet,
    gateway: IpAddr,
}

impl Subnet {
    /// Puts the two together.
    ///
    /// Returns `None` where the prefix has host bits set, or the gateway's address lies outside it
    /// or cannot be given to a device.
    pub fn new(prefix: IpNet, gateway: IpAddr) -> Option<Self> {
        let subnet = Self { prefix, gateway };
        (prefix == prefix.trunc() && subnet.usable().contains(gateway)).then_some(subnet)
    }

    /// The same with the gateway at the first usable address; `None` where there is no room for one.
    pub fn with_first_gateway(prefix: IpNet) -> Option<Self> {
        let subnet = Self { prefix, gateway: prefix.network() };
        let (first, _) = subnet.usable().ranges().next()?;
        Self::new(prefix, first)
    }

    /// The prefix.
    pub fn prefix(&self) -> IpNet {
        self.prefix
    }

    /// The gateway's address in it.
    pub fn gateway(&self) -> IpAddr {
        self.gateway
    }

    /// Its family.
    pub fn family(&self) -> Family {
        Family::of(self.gateway)
    }

    /// The directed broadcast address: IPv4 only, and not in a /31 or /32 (RFC 3021).
    pub fn broadcast(&self) -> Option<IpAddr> {
        (self.prefix.addr().is_ipv4() && self.prefix.prefix_len() <= 30)
            .then(|| self.prefix.broadcast())
    }

    /// The subnet-router anycast address, which every router on the link answers (RFC 4291 2.6.1).
    pub fn anycast(&self) -> Option<IpAddr> {
        self.network_address().filter(IpAddr::is_ipv6)
    }

    /// The address with no host bits: the network address in IPv4, the subnet-router anycast address
    /// in IPv6 (RFC 4291 2.6.1). No device can have it, but in a /31, /32, /127 (RFC 6164) or /128.
    pub fn network_address(&self) -> Option<IpAddr> {
        let bits = self.prefix.max_prefix_len() - self.prefix.prefix_len();
        (bits > 1).then(|| self.prefix.network())
    }

    /// Every address that a device, or the gateway, can have.
    pub fn usable(&self) -> AddressSet {
        let reserved: AddressSet =
            [self.broadcast(), self.network_address()].into_iter().flatten().collect();
        AddressSet::from(self.prefix).difference(&reserved)
    }

    /// How many addresses devices can have, the gateway's not counted. Saturates at `u128::MAX`.
    pub fn room(&self) -> u128 {
        let bits = u32::from(self.prefix.max_prefix_len() - self.prefix.prefix_len());
        let all = 1u128.checked_shl(bits).unwrap_or(u128::MAX);
        let reserved = [self.broadcast(), self.network_address()];
        all - 1 - reserved.iter().flatten().count() as u128
    }

    /// The address with that host number: `50` in 10.44.24.0/24 is 10.44.24.50.
    pub fn host_number(&self, number: u128) -> Option<IpAddr> {
        let address = match self.prefix.network() {
            IpAddr::V4(start) => {
                let number = u32::try_from(number).ok()?;
                IpAddr::from(Ipv4Addr::from_bits(start.to_bits().checked_add(number)?))
            }
            IpAddr::V6(start) => Ipv6Addr::from_bits(start.to_bits().checked_add(number)?).into(),
        };
        self.prefix.contains(&address).then_some(address)
    }

    /// The subnet mask in dotted form, for IPv4.
    pub fn mask(&self) -> Option<Ipv4Addr> {
        match self.prefix {
            IpNet::V4(prefix) => Some(prefix.netmask()),
            IpNet::V6(_) => None,
        }
    }
}

/// A stretch of IPv4 addresses that the gateway leases out, first not above last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pool {
    first: Ipv4Addr,
    last: Ipv4Addr,
}

impl Pool {
    /// The pool from `first` to `last`; `None` where they are in the wrong order.
    pub fn new(first: Ipv4Addr, last: Ipv4Addr) -> Option<Self> {
        (first <= last).then_some(Self { first, last })
    }

    /// Its first address.
    pub fn first(&self) -> Ipv4Addr {
        self.first
    }

    /// Its last address.
    pub fn last(&self) -> Ipv4Addr {
        self.last
    }

    /// How many addresses it has.
    pub fn size(&self) -> u64 {
        u64::from(self.last.to_bits() - self.first.to_bits()) + 1
    }

    /// Whether that address is leased from it.
    pub fn contains(&self, address: IpAddr) -> bool {
        matches!(address, IpAddr::V4(address) if self.first <= address && address <= self.last)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn subnet(prefix: &str) -> Subnet {
        Subnet::with_first_gateway(prefix.parse().expect(prefix)).expect(prefix)
    }

    #[test]
    fn the_gateway_is_the_first_address_unless_said() {
        assert_eq!(subnet("10.44.24.0/24").gateway().to_string(), "10.44.24.1");
        assert_eq!(subnet("fd6b:2f4e:91c0:24::/64").gateway().to_string(), "fd6b:2f4e:91c0:24::1");
        assert_eq!(subnet("10.44.24.0/31").gateway().to_string(), "10.44.24.0");
    }

    #[test]
    fn the_gateway_must_lie_inside_and_be_an_address_for_devices() {
        let prefix: IpNet = "10.44.24.0/24".parse().expect("prefix");
        for outside in ["10.44.25.1", "10.44.24.0", "10.44.24.255", "fd6b::1"] {
            assert_eq!(Subnet::new(prefix, outside.parse().expect(outside)), None, "{outside}");
        }
        let crooked: IpNet = "10.44.24.7/24".parse().expect("prefix");
        assert_eq!(Subnet::new(crooked, "10.44.24.1".parse().expect("ip")), None);
    }

    #[test]
    fn room_counts_what_devices_can_have() {
        for (prefix, room) in [
            ("10.44.24.0/24", 253),
            ("10.44.24.0/30", 1),
            ("10.44.24.0/31", 1),
            ("10.44.24.4/32", 0),
            ("fd6b:2f4e:91c0:24::/64", (1 << 64) - 2),
            ("fd6b:2f4e:91c0:24::/127", 1),
        ] {
            assert_eq!(subnet(prefix).room(), room, "{prefix}");
        }
    }

    #[test]
    fn host_numbers_stay_inside() {
        let desks = subnet("10.44.24.0/24");
        assert_eq!(desks.host_number(50), Some("10.44.24.50".parse().expect("ip")));
        assert_eq!(desks.host_number(256), None);
        assert_eq!(desks.host_number(u128::MAX), None);
    }
}
