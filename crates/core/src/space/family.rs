//! The two address families, as a value.

use std::net::IpAddr;

/// IPv4 or IPv6.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Family {
    /// IPv4.
    V4,
    /// IPv6.
    V6,
}

impl Family {
    /// Both, IPv4 first.
    pub const ALL: [Self; 2] = [Self::V4, Self::V6];

    /// The other one.
    pub fn other(self) -> Self {
        match self {
            Self::V4 => Self::V6,
            Self::V6 => Self::V4,
        }
    }

    /// The family of an address.
    pub fn of(address: IpAddr) -> Self {
        if address.is_ipv4() { Self::V4 } else { Self::V6 }
    }

    /// `IPv4` or `IPv6`.
    pub fn word(self) -> &'static str {
        match self {
            Self::V4 => "IPv4",
            Self::V6 => "IPv6",
        }
    }
}
