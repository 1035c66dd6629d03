//! Faults of leases and of router advertisements.

use crate::cable::{Advertised, Leased};
use bastium_core::meaning::{Meaning, uses};
use bastium_core::plan::NetworkId;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Something that is wrong with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LeaseFault {
    /// No server answered, and the plan has a pool.
    NoServer,
    /// A server answered, and the plan has no pool.
    Unplanned(Ipv4Addr),
    /// More than one server answers.
    SecondServer(Vec<Ipv4Addr>),
    /// What was offered was not given.
    NotGiven,
    /// The address is none of the pool.
    OutsidePool(Ipv4Addr),
    /// The address is one of another network, so that this is that one.
    OtherNetwork(Ipv4Addr, NetworkId),
    /// The subnet has another length.
    Length(Option<u8>, u8),
    /// The router is another.
    Router(Option<Ipv4Addr>, Ipv4Addr),
    /// The gateway answers for names there, and other servers are given.
    NameServers(Vec<Ipv4Addr>, Ipv4Addr),
    /// It is given for no time, or for ever.
    Time(Option<u32>),
    /// The plan has IPv6 there, and no router advertises itself.
    NoRouter,
    /// A router advertises itself in a network without IPv6.
    UnplannedRouter(Ipv6Addr),
    /// Several routers advertise themselves.
    SecondRouter(Vec<Ipv6Addr>),
    /// A prefix is advertised that is none of the network's.
    Prefix(Ipv6Addr, u8),
}

/// What is wrong with what came in a network.
pub fn faults(
    meaning: &Meaning<'_>,
    id: NetworkId,
    leased: Option<&Leased>,
    routers: &[Advertised],
) -> Vec<LeaseFault> {
    let mut found = Vec::new();
    if let Some(leased) = leased {
        lease_faults(meaning, id, leased, &mut found);
    }
    router_faults(meaning, id, routers, &mut found);
    found
}

fn lease_faults(
    meaning: &Meaning<'_>,
    id: NetworkId,
    leased: &Leased,
    found: &mut Vec<LeaseFault>,
) {
    let network = meaning.plan().network(id);
    let servers: Vec<Ipv4Addr> = leased.offers.iter().map(|offer| offer.server).collect();
    let Some(pool) = network.pool else {
        found.extend(servers.into_iter().map(LeaseFault::Unplanned));
        return;
    };
    if servers.is_empty() {
        // Where the gateway need not answer, another server has the pool, and may be anywhere.
        found.extend(uses::leases(meaning, id).then_some(LeaseFault::NoServer));
        return;
    }
    if servers.len() > 1 {
        found.push(LeaseFault::SecondServer(servers));
    }
    let Some(taken) = &leased.taken else {
        found.push(LeaseFault::NotGiven);
        return;
    };
    let other = meaning.plan().network_of(taken.address.into()).filter(|other| *other != id);
    if let Some(other) = other {
        // All else follows from that.
        found.push(LeaseFault::OtherNetwork(taken.address, other));
        return;
    }
    if taken.address < pool.first() || taken.address > pool.last() {
        found.push(LeaseFault::OutsidePool(taken.address));
    }
    let subnet = network.subnets.iter().find(|subnet| subnet.gateway().is_ipv4());
    let Some((subnet, IpAddr::V4(gateway))) = subnet.map(|subnet| (subnet, subnet.gateway()))
    else {
        return;
    };
    let length = subnet.prefix().prefix_len();
    if taken.prefix_length != Some(length) {
        found.push(LeaseFault::Length(taken.prefix_length, length));
    }
    if taken.router != Some(gateway) {
        found.push(LeaseFault::Router(taken.router, gateway));
    }
    if uses::names_everywhere(meaning, id) && !taken.name_servers.contains(&gateway) {
        found.push(LeaseFault::NameServers(taken.name_servers.clone(), gateway));
    }
    if taken.seconds.is_none_or(|seconds| seconds == 0 || seconds == u32::MAX) {
        found.push(LeaseFault::Time(taken.seconds));
    }
}

fn router_faults(
    meaning: &Meaning<'_>,
    id: NetworkId,
    routers: &[Advertised],
    found: &mut Vec<LeaseFault>,
) {
    let network = meaning.plan().network(id);
    let prefixes: Vec<_> = network.subnets.iter().map(|subnet| subnet.prefix()).collect();
    let planned = prefixes.iter().any(|prefix| prefix.network().is_ipv6());
    let default = routers.iter().filter(|router| router.lifetime > 0).map(|router| router.router);
    let default: Vec<Ipv6Addr> = default.collect();
    if !planned {
        found.extend(routers.iter().map(|router| LeaseFault::UnplannedRouter(router.router)));
        return;
    }
    match default.len() {
        // Where nothing is leased, addresses and routers are set by hand.
        0 if network.pool.is_some() && uses::leases(meaning, id) => {
            found.push(LeaseFault::NoRouter)
        }
        0 => {}
        1 => {}
        _ => found.push(LeaseFault::SecondRouter(default)),
    }
    for (prefix, length, _) in routers.iter().filter_map(|router| router.prefix) {
        let known = prefixes
            .iter()
            .any(|own| own.network() == IpAddr::V6(prefix) && own.prefix_len() == length);
        if !known {
            found.push(LeaseFault::Prefix(prefix, length));
        }
    }
}
