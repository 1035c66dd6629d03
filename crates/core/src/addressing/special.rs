//! Addresses that are not ordinary ones, from the IANA special-purpose address registries.
//!
//! Source: IANA "IPv4 / IPv6 Special-Purpose Address Registry" (RFC 6890 and its updates). Listed are
//! the entries whose "globally reachable" column is false, with the exceptions that it makes inside.

use crate::space::AddressSet;
use ipnet::IpNet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::LazyLock;

/// Blocks that are not globally reachable.
const NOT_GLOBAL: &[&str] = &[
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.0.0.0/24",
    "192.0.2.0/24",
    "192.168.0.0/16",
    "198.18.0.0/15",
    "198.51.100.0/24",
    "203.0.113.0/24",
    "240.0.0.0/4",
    "::/127",
    "::ffff:0:0/96",
    "64:ff9b:1::/48",
    "100::/64",
    "100:0:0:1::/64",
    "2001::/23",
    "2001:db8::/32",
    "3fff::/20",
    "5f00::/16",
    "fc00::/7",
    "fe80::/10",
];

/// Blocks inside those that are globally reachable all the same.
const GLOBAL_INSIDE: &[&str] = &[
    "192.0.0.9/32",
    "192.0.0.10/32",
    "2001:1::1/128",
    "2001:1::2/128",
    "2001:1::3/128",
    "2001:3::/32",
    "2001:4:112::/48",
    "2001:20::/28",
    "2001:30::/28",
];

/// Prefixes for documentation (RFC 5737, RFC 3849, RFC 9637).
const DOCUMENTATION: &[&str] =
    &["192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", "3fff::/20"];

fn set(prefixes: &[&str]) -> AddressSet {
    prefixes.iter().filter_map(|text| text.parse::<IpNet>().ok()).collect()
}

/// Everything that is not globally reachable, the documentation prefixes apart: examples and
/// rehearsals use those as if they were somewhere on the internet.
pub fn not_global() -> AddressSet {
    static SET: LazyLock<AddressSet> = LazyLock::new(|| {
        let not_global = set(NOT_GLOBAL).difference(&set(GLOBAL_INSIDE));
        not_global.difference(&documentation())
    });
    SET.clone()
}

/// The addresses of a host that has none yet (RFC 1122 3.2.1.3, RFC 4291 2.5.2).
pub fn unspecified() -> AddressSet {
    [IpAddr::V4(Ipv4Addr::UNSPECIFIED), IpAddr::V6(Ipv6Addr::UNSPECIFIED)].into_iter().collect()
}

/// The documentation prefixes.
pub fn documentation() -> AddressSet {
    static SET: LazyLock<AddressSet> = LazyLock::new(|| set(DOCUMENTATION));
    SET.clone()
}

/// Multicast: 224.0.0.0/4 (RFC 5771) and ff00::/8 (RFC 4291).
pub fn multicast() -> AddressSet {
    static SET: LazyLock<AddressSet> = LazyLock::new(|| set(&["224.0.0.0/4", "ff00::/8"]));
    SET.clone()
}

/// IPv6 link-local addresses (RFC 4291 2.5.6). Those of IPv4 are not used by any plan.
pub fn link_local() -> AddressSet {
    static SET: LazyLock<AddressSet> = LazyLock::new(|| set(&["fe80::/10"]));
    SET.clone()
}

/// Loopback: 127.0.0.0/8 and ::1.
pub fn loopback() -> AddressSet {
    static SET: LazyLock<AddressSet> = LazyLock::new(|| set(&["127.0.0.0/8", "::1/128"]));
    SET.clone()
}

/// IPv6 unique local addresses (RFC 4193).
pub fn unique_local() -> AddressSet {
    static SET: LazyLock<AddressSet> = LazyLock::new(|| set(&["fc00::/7"]));
    SET.clone()
}

/// Private IPv4 addresses (RFC 1918), which are translated on their way out.
pub fn private_v4() -> AddressSet {
    static SET: LazyLock<AddressSet> =
        LazyLock::new(|| set(&["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"]));
    SET.clone()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_prefix_of_the_tables_reads() {
        for text in [NOT_GLOBAL, GLOBAL_INSIDE, DOCUMENTATION].concat() {
            let prefix: IpNet = text.parse().expect(text);
            assert_eq!(prefix, prefix.trunc(), "{text} has host bits");
        }
    }

    #[test]
    fn private_addresses_are_not_global_but_examples_are() {
        let not_global = not_global();
        for text in
            ["10.44.24.1", "192.168.0.1", "fd6b:2f4e:91c0:24::1", "fe80::1", "::1", "127.0.0.1"]
        {
            assert!(not_global.contains(text.parse().expect(text)), "{text}");
        }
        for text in ["198.51.100.14", "203.0.113.80", "2001:db8::1", "192.0.0.9", "2001:20::1"] {
            assert!(!not_global.contains(text.parse().expect(text)), "{text}");
        }
    }
}
