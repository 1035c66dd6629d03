//! Addresses to ask about and to test with: which one stands for a network, a zone, or a set of addresses.

use crate::plan::{NetworkId, Plan};
use crate::space::{AddressSet, IntervalSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The addresses in which any device that joins a network may find itself: the pool, and in IPv6
/// everything that no host has. Without a pool, one free address stands for them.
pub(crate) fn anonymous(plan: &Plan, id: NetworkId) -> AddressSet {
    let network = plan.network(id);
    let mut set = named_by_nobody(plan, id);
    set.v4 = match network.pool {
        Some(pool) => {
            let pool = IntervalSet::range(pool.first().to_bits(), pool.last().to_bits());
            set.v4.intersection(&pool)
        }
        None => free(&set.v4).map(IntervalSet::point).unwrap_or_default(),
    };
    set
}

fn named_by_nobody(plan: &Plan, id: NetworkId) -> AddressSet {
    let hosts = plan.hosts().iter().filter(|host| host.network == id);
    let taken: AddressSet = hosts.flat_map(|host| host.addresses.iter().copied()).collect();
    plan.network_addresses(id).difference(&taken)
}

/// The address to set by hand in a network without a pool.
pub(crate) fn free_address(plan: &Plan, id: NetworkId) -> Option<IpAddr> {
    free(&named_by_nobody(plan, id).v4).map(|bits| Ipv4Addr::from_bits(bits).into())
}

/// A high address is the least likely to be in anyone's range.
fn free(set: &IntervalSet<u32>) -> Option<u32> {
    set.spans().last().map(|span| span.1)
}

/// The first address of a set in a family.
pub(crate) fn first(set: &AddressSet, v6: bool) -> Option<IpAddr> {
    if v6 {
        set.v6.first().map(|bits| Ipv6Addr::from_bits(bits).into())
    } else {
        set.v4.first().map(|bits| Ipv4Addr::from_bits(bits).into())
    }
}

/// The addresses of a set, best ones to test with first: hosts of the plan, then what a device that
/// joins a network may get, then any.
pub(crate) fn candidates(plan: &Plan, set: &AddressSet, v6: bool) -> Vec<IpAddr> {
    let hosts = plan.hosts().iter().flat_map(|host| host.addresses.iter().copied());
    let of_family = |address: &IpAddr| address.is_ipv6() == v6;
    let mut found: Vec<IpAddr> =
        hosts.filter(of_family).filter(|address| set.contains(*address)).collect();
    for id in plan.network_ids() {
        found.extend(first(&anonymous(plan, id).intersection(set), v6));
    }
    found.extend(first(set, v6));
    found.dedup();
    found
}
