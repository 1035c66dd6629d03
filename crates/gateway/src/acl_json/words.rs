//! What an entry matches, in the terms of the YANG module.

use super::Prefixes;
use super::services::Service;
use bastium_core::addressing::Placeholder;
use bastium_core::space::{AddressSet, Family};
use ipnet::{IpNet, Ipv4Subnets, Ipv6Subnets};
use serde_json::{Map, Value, json};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Fills in the network header and what follows it.
pub(super) fn addresses(
    matches: &mut Map<String, Value>,
    family: Family,
    [source, destination]: Prefixes,
    service: &Service,
) {
    let word = if family == Family::V6 { "ipv6" } else { "ipv4" };
    let mut header = Map::new();
    if let Some(protocol) = service.protocol {
        header.insert("protocol".to_owned(), json!(protocol));
    }
    for (end, prefix) in [("destination", destination), ("source", source)] {
        if let Some(prefix) = prefix {
            header.insert(format!("{end}-{word}-network"), json!(prefix.to_string()));
        }
    }
    matches.insert(word.to_owned(), Value::Object(header));
    let mut transport = Map::new();
    if let Some(flag) = service.flag {
        transport.insert("flags".to_owned(), json!(flag));
    }
    if let (Some(1 | 58), Some((kind, code))) = (service.protocol, service.details) {
        transport.insert("type".to_owned(), json!(kind));
        if code != u16::MAX {
            transport.insert("code".to_owned(), json!(code));
        }
        matches.insert("icmp".to_owned(), Value::Object(transport));
        return;
    }
    for (end, ports) in [("source-port", service.from), ("destination-port", service.details)] {
        let ports = match ports {
            None => continue,
            Some((low, high)) if low == high => json!({ "operator": "eq", "port": low }),
            Some((low, high)) => json!({ "lower-port": low, "upper-port": high }),
        };
        transport.insert(end.to_owned(), ports);
    }
    // The module has words for the ports of these two alone.
    let name = if service.protocol == Some(6) { "tcp" } else { "udp" };
    if !transport.is_empty() {
        matches.insert(name.to_owned(), Value::Object(transport));
    }
}

/// The prefixes of one family; `None` for all of it. Addresses that only stand for others are left out.
pub(super) fn prefixes(set: &AddressSet, family: Family) -> Vec<Option<IpNet>> {
    let whole = set.has_all_of(family);
    if whole {
        return vec![None];
    }
    let here = set.ranges().filter(|(low, _)| Family::of(*low) == family);
    let here = here
        .filter(|(low, high)| Placeholder::of(*low).is_none() || Placeholder::of(*high).is_none());
    let prefixes = here.flat_map(|(low, high)| -> Vec<IpNet> {
        match (low, high) {
            (IpAddr::V4(a), IpAddr::V4(b)) => v4(a, b),
            (IpAddr::V6(a), IpAddr::V6(b)) => v6_prefixes(a, b),
            _ => Vec::new(),
        }
    });
    prefixes.map(Some).collect()
}

/// The prefix of just these two halves, where they are such; `Some(None)` is all addresses.
pub(super) fn whole_prefix(one: IpNet, other: IpNet) -> Option<Option<IpNet>> {
    let halves = one != other && one.prefix_len() == other.prefix_len();
    let whole = one.supernet().filter(|whole| halves && other.supernet() == Some(*whole))?;
    Some(Some(whole).filter(|whole| whole.prefix_len() > 0))
}

fn v4(low: Ipv4Addr, high: Ipv4Addr) -> Vec<IpNet> {
    Ipv4Subnets::new(low, high, 0).map(IpNet::from).collect()
}

fn v6_prefixes(low: Ipv6Addr, high: Ipv6Addr) -> Vec<IpNet> {
    Ipv6Subnets::new(low, high, 0).map(IpNet::from).collect()
}
