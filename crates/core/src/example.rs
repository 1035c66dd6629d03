//! Addresses to ask about and to test with: which one stands for a network, a zone, or a set of addresses.

use crate::plan::{NetworkId, Plan};
use crate::space::{AddressSet, Ends, Family, Packet, PacketSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The address to set by hand in a network without a pool.
pub(crate) fn free_address(plan: &Plan, id: NetworkId) -> Option<IpAddr> {
    plan.unnamed_addresses(id).v4.last().map(|bits| Ipv4Addr::from_bits(bits).into())
}

/// The first address of a set in a family.
pub(crate) fn first(set: &AddressSet, family: Family) -> Option<IpAddr> {
    first_shared(set, &AddressSet::full(), family)
}

/// The first address of a family that two sets share.
fn first_shared(one: &AddressSet, other: &AddressSet, family: Family) -> Option<IpAddr> {
    match family {
        Family::V4 => one.v4.first_shared(&other.v4).map(|bits| Ipv4Addr::from_bits(bits).into()),
        Family::V6 => one.v6.first_shared(&other.v6).map(|bits| Ipv6Addr::from_bits(bits).into()),
    }
}

/// Addresses on the internet that belong to nobody (RFC 5737, RFC 3849), to show packets with.
const EXAMPLES: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(192, 0, 2, 10)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 0x10)),
];

/// The addresses of a set, best ones to go to first: hosts of the plan, then what a device that joins
/// a network may get, then an example, then any.
pub(crate) fn candidates(plan: &Plan, set: &AddressSet, family: Family) -> Vec<IpAddr> {
    let mut found: Vec<IpAddr> = hosts(plan, set, family).collect();
    for id in plan.network_ids() {
        found.extend(first_shared(plan.anonymous_addresses(id), set, family));
    }
    found.extend(EXAMPLES.into_iter().filter(|a| Family::of(*a) == family && set.contains(*a)));
    found.extend(first(set, family));
    found.dedup();
    found
}

/// The addresses of a set, best ones to come from first: any device of a network before hosts, since
/// a tester has one at hand.
pub(crate) fn sources(plan: &Plan, set: &AddressSet, family: Family) -> Vec<IpAddr> {
    let whole = |id: &NetworkId| {
        let anyone = plan.anonymous_addresses(*id);
        if family == Family::V6 {
            anyone.v6.is_subset(&set.v6)
        } else {
            anyone.v4.is_subset(&set.v4)
        }
    };
    let networks = plan.network_ids().filter(whole);
    let mut found: Vec<IpAddr> =
        networks.filter_map(|id| first(plan.anonymous_addresses(id), family)).collect();
    found.extend(candidates(plan, set, family));
    found.dedup();
    found
}

fn hosts(plan: &Plan, set: &AddressSet, family: Family) -> impl Iterator<Item = IpAddr> {
    let all = plan.hosts().iter().flat_map(|host| host.addresses.iter().copied());
    all.filter(move |address| Family::of(*address) == family && set.contains(*address))
}

/// A packet of the set between addresses that somebody has; `None` only for an empty set.
pub(crate) fn packet(plan: &Plan, packets: &PacketSet) -> Option<Packet> {
    let ordinary = packets.sample()?;
    let typical = packets.products().find_map(|product| {
        let family = if product.source.v4.is_empty() { Family::V6 } else { Family::V4 };
        let line = product.service.line(family);
        let service =
            if line.contains(ordinary.service) { ordinary.service } else { line.first()? };
        let source = *candidates(plan, &product.source, family).first()?;
        let targets = candidates(plan, &product.destination, family);
        let destination = targets.into_iter().find(|address| *address != source)?;
        let (enters, ends) = (product.enters.first()?, Ends::new(source, destination)?);
        Some(Packet { enters, ends, service, at: product.at.first()? })
    });
    // Addresses that somebody has may still be none of this very set.
    Some(typical.filter(|packet| packets.contains(packet)).unwrap_or(ordinary))
}
