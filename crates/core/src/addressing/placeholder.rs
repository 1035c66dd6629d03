//! Addresses that stand for ones that nobody knows beforehand.
//!
//! What a domain name means, and which address a provider leases to an uplink, is not written in a
//! plan. Packet sets need an address all the same, so each such thing gets one of IPv4 and one of
//! IPv6 that no packet can have: from 240.0.0.0/4 (RFC 1112 4) and from the discard prefix 100::/64
//! (RFC 6666). They are never shown: a plan knows what each stands for.

use crate::space::AddressSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// What an address can stand for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Placeholder {
    /// Whatever a domain name leads to, by its place in the plan's list.
    Domain(u16),
    /// The address that an uplink is leased, by its place in the plan's list.
    Uplink(u16),
}

const V4: u32 = 0xf000_0000;
const V6: u128 = 0x0100_0000_0000_0000_ba57_0000_0000_0000;

impl Placeholder {
    /// The IPv4 and the IPv6 address that stand for it.
    pub fn addresses(self) -> [IpAddr; 2] {
        let (kind, number) = match self {
            Self::Domain(number) => (1u32, number),
            Self::Uplink(number) => (2, number),
        };
        let offset = kind << 16 | u32::from(number);
        [
            Ipv4Addr::from_bits(V4 | offset).into(),
            Ipv6Addr::from_bits(V6 | u128::from(offset)).into(),
        ]
    }

    /// The same as a set.
    pub fn set(self) -> AddressSet {
        self.addresses().into_iter().collect()
    }

    /// What an address stands for, if it can stand for anything.
    pub fn of(address: IpAddr) -> Option<Self> {
        let offset = match address {
            IpAddr::V4(address) => address.to_bits().checked_sub(V4)?,
            IpAddr::V6(address) => u32::try_from(address.to_bits().checked_sub(V6)?).ok()?,
        };
        let [0, kind, high, low] = offset.to_be_bytes() else { return None };
        let number = u16::from_be_bytes([high, low]);
        match kind {
            1 => Some(Self::Domain(number)),
            2 => Some(Self::Uplink(number)),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_address_stands_for_can_be_reported() {
        for placeholder in
            [Placeholder::Domain(0), Placeholder::Domain(u16::MAX), Placeholder::Uplink(3)]
        {
            for address in placeholder.addresses() {
                assert_eq!(Placeholder::of(address), Some(placeholder));
                let special = crate::addressing::not_global().contains(address);
                assert!(special, "{address} is nobody's");
            }
        }
        for ordinary in ["10.44.24.1", "255.255.255.255", "fd6b:2f4e:91c0::1", "ff02::1"] {
            assert_eq!(Placeholder::of(ordinary.parse().expect(ordinary)), None, "{ordinary}");
        }
    }
}
