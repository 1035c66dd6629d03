//! Networks: VLAN ids, subnets, the gateway's address in each, pools.

use super::super::draft::{self, Dhcp, Draft};
use super::super::ids::ZoneId;
use super::super::model::{Network, Site, Uplink, Zone};
use super::super::place::Kind;
use super::super::traffic::Tunnel;
use super::homes::{Home, homes, prefix, vlan};
use super::ports::Ports;
use super::{NetworkProblem, Resolver, names, services};
use crate::addressing::{Pool, Subnet, link_local, loopback, multicast};
use crate::name::{Name, nearest};
use crate::source::{Located, Span, Text};
use crate::space::{AddressSet, ServiceSet};
use ipnet::IpNet;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr};

/// The most networks, tunnels and uplinks. Interfaces are numbered with sixteen bits; those of two plans that have nothing in
/// common, each once more for what is translated, have to fit.
const MOST: usize = 15_000;
const _: () = assert!(2 * (2 * MOST) < 0xffff);

/// The networks; `None` where one cannot be built.
pub(super) fn networks(
    draft: &Draft,
    site: &Site,
    zones: &[Zone],
    ports: &Ports,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Vec<Option<Network>> {
    if draft.networks.len() + draft.tunnels.len() + draft.uplinks.len() > MOST {
        resolver.problem(NetworkProblem::TooMany { at: draft.site.at });
    }
    let around = Around { zones, ports, known };
    let homes = homes(draft, site, resolver);
    let networks = draft.networks.iter().zip(&homes);
    let mut built: Vec<Option<Network>> =
        networks.map(|(draft, home)| network(draft, home, &around, resolver)).collect();
    built.extend(draft.tunnels.iter().map(|draft| tunnel(draft, &around, resolver)));
    taken_vlans(&draft.networks, resolver);
    untagged_twice(draft, &built, resolver);
    overlaps(&built, resolver);
    built
}

/// What a network can name.
struct Around<'a> {
    zones: &'a [Zone],
    ports: &'a Ports,
    known: &'a HashMap<String, ServiceSet>,
}

/// A tunnel, which is a network without a VLAN: its clients are its devices.
fn tunnel(draft: &draft::Tunnel, around: &Around<'_>, resolver: &mut Resolver) -> Option<Network> {
    let uses = draft.uses.as_ref().and_then(|words| services::uses(words, around.known, resolver));
    let at = draft.name.at;
    let listens = draft.listens.as_ref();
    let listens = listens.and_then(|words| services::some(words, at, around.known, resolver));
    let name = Name::new(&draft.name.value).ok()?;
    let zone = zone(draft.zone.as_ref(), &name, at, around.zones, resolver);
    if draft.clients.is_empty() {
        resolver.problem(NetworkProblem::NoClients { tunnel: name.clone(), at });
        return None;
    }
    let prefixes = draft.clients.iter().map(|text| prefix(text, resolver).map(|p| (p, text.at)));
    let prefixes: Vec<(IpNet, Span)> = prefixes.collect::<Option<_>>()?;
    let subnets = subnets(&draft.gateway, prefixes, resolver)?;
    Some(Network {
        name,
        tags: Vec::new(),
        zone: zone.unwrap_or(ZoneId(0)),
        vlan: None,
        port: None,
        devices: Network::devices_in(&subnets),
        subnets,
        pool: None,
        dhcp_said: true,
        expected: expected(draft.hosts, resolver),
        isolate: false,
        uses,
        at,
        vlan_at: at,
        tunnel: Some(Tunnel { listens }),
        carved: false,
    })
}

fn expected(hosts: Option<Located<i64>>, resolver: &mut Resolver) -> Option<u32> {
    let hosts = hosts?;
    let number = u32::try_from(hosts.value).ok();
    if number.is_none() {
        resolver.problem(NetworkProblem::Expected { number: hosts.value, at: hosts.at });
    }
    number
}

fn network(
    draft: &draft::Network,
    home: &Home,
    around: &Around<'_>,
    resolver: &mut Resolver,
) -> Option<Network> {
    let uses = draft.uses.as_ref().and_then(|words| services::uses(words, around.known, resolver));
    let name = Name::new(&draft.name.value).ok();
    let (at, word) = (draft.name.at, draft.zone.as_ref());
    let zone = name.as_ref().and_then(|name| zone(word, name, at, around.zones, resolver));
    let vlan = vlan(draft);
    if let Some(given) = draft.vlan.filter(|_| vlan.is_none()) {
        resolver.problem(NetworkProblem::Vlan { vlan: given.value, at: given.at });
    }
    let port = draft.port.as_ref().and_then(|word| around.ports.check(word, resolver));
    let tags = names::tags(&draft.tags, resolver);
    let name = name?;
    let (prefixes, carved) = match home {
        Home::Said(prefixes) => (Some(prefixes), false),
        Home::Carved(prefixes) => (Some(prefixes), true),
        Home::Nowhere => (None, false),
    };
    let subnets = prefixes.and_then(|prefixes| subnets(&draft.gateway, prefixes.clone(), resolver));
    let expected = expected(draft.hosts, resolver);
    let subnets = subnets?;
    let pool = match &draft.dhcp {
        Some(Dhcp::Range(text)) => pool(text, &subnets, resolver),
        Some(Dhcp::Off(_)) | None => None,
    };
    Some(Network {
        name,
        tags,
        // A network without a good zone has been reported; the rest of it is checked all the same.
        zone: zone.unwrap_or(ZoneId(0)),
        vlan,
        port,
        devices: Network::devices_in(&subnets),
        subnets,
        pool,
        dhcp_said: draft.dhcp.is_some(),
        expected,
        isolate: draft.isolate.is_some_and(|isolate| isolate.value),
        uses,
        at: draft.name.at,
        vlan_at: draft.vlan.map_or(draft.name.at, |vlan| vlan.at),
        tunnel: None,
        carved,
    })
}

fn zone(
    word: Option<&Text>,
    name: &Name,
    at: Span,
    zones: &[Zone],
    resolver: &mut Resolver,
) -> Option<ZoneId> {
    let Some(word) = word else {
        resolver.problem(NetworkProblem::NoZone { network: name.clone(), at });
        return None;
    };
    let found = zones.iter().position(|zone| zone.name.as_str() == word.value);
    let declared = resolver.directory.find(&word.value).is_some_and(|e| e.kind == Kind::Zone);
    if found.is_none() && !declared {
        resolver.problem(NetworkProblem::UnknownZone {
            word: word.value.clone(),
            nearest: nearest(&word.value, zones.iter().map(|z| z.name.as_str())).map(str::to_owned),
            at: word.at,
        });
    }
    found.map(ZoneId)
}

fn subnets(
    gateway: &[Text],
    prefixes: Vec<(IpNet, Span)>,
    resolver: &mut Resolver,
) -> Option<Vec<Subnet>> {
    let gateways = gateways(gateway, &prefixes, resolver);
    let mut subnets = Vec::new();
    for (prefix, at) in prefixes {
        let given = gateways.iter().find(|address| prefix.contains(*address));
        let subnet = match given {
            Some(address) => Subnet::new(prefix, *address),
            None => Subnet::with_first_gateway(prefix),
        };
        if subnet.is_none() || !AddressSet::from(prefix).is_disjoint(&unusable()) {
            resolver.problem(NetworkProblem::Special { prefix, at });
            return None;
        }
        subnets.extend(subnet);
    }
    Some(subnets)
}

/// Addresses that no network can have.
pub(super) fn unusable() -> AddressSet {
    let this_network: Option<IpNet> = "0.0.0.0/8".parse().ok();
    let reserved: Option<IpNet> = "240.0.0.0/4".parse().ok();
    let unspecified = AddressSet::from(IpAddr::from([0u16; 8]));
    [this_network, reserved]
        .into_iter()
        .flatten()
        .collect::<AddressSet>()
        .union(&unspecified)
        .union(&multicast())
        .union(&loopback())
        .union(&link_local())
}

/// The gateway's addresses that fit; problems of the others are noted.
fn gateways(words: &[Text], prefixes: &[(IpNet, Span)], resolver: &mut Resolver) -> Vec<IpAddr> {
    let mut addresses = Vec::new();
    for word in words {
        let Ok(address) = word.value.parse::<IpAddr>() else {
            resolver
                .problem(NetworkProblem::NotAnAddress { word: word.value.clone(), at: word.at });
            continue;
        };
        let home = prefixes.iter().find(|(prefix, _)| prefix.contains(&address));
        if home.is_some_and(|(prefix, _)| Subnet::new(*prefix, address).is_some()) {
            addresses.push(address);
        } else {
            let subnets = prefixes.iter().map(|entry| entry.0).collect();
            resolver.problem(NetworkProblem::GatewayOutside { address, subnets, at: word.at });
        }
    }
    addresses
}

fn pool(text: &Text, subnets: &[Subnet], resolver: &mut Resolver) -> Option<Pool> {
    let word = || text.value.clone();
    let v4: Vec<&Subnet> = subnets.iter().filter(|s| s.prefix().addr().is_ipv4()).collect();
    let outside = NetworkProblem::PoolOutside {
        word: word(),
        subnet: v4.first().map(|s| s.prefix()),
        at: text.at,
    };
    let Some((first, last)) = text.value.split_once('-') else {
        resolver.problem(NetworkProblem::NotAPool { word: word(), at: text.at });
        return None;
    };
    let (first, last) = (first.trim(), last.trim());
    let address = |word: &str| match word.parse::<u32>() {
        Ok(number) => v4.first().map(|s| s.host_number(number.into())),
        Err(_) => word.parse::<Ipv4Addr>().ok().map(|address| Some(address.into())),
    };
    let bad = NetworkProblem::NotAPool { word: word(), at: text.at };
    let ends = match (address(first), address(last)) {
        _ if v4.is_empty() => Err(outside),
        (None, _) | (_, None) => Err(bad),
        (Some(Some(IpAddr::V4(first))), Some(Some(IpAddr::V4(last)))) => Pool::new(first, last)
            .ok_or(bad)
            .and_then(|pool| match v4.iter().find(|s| holds(s, pool)) {
                None => Err(outside),
                Some(home) if pool.contains(home.gateway()) => {
                    Err(NetworkProblem::PoolHoldsGateway { gateway: home.gateway(), at: text.at })
                }
                Some(_) => Ok(pool),
            }),
        _ => Err(outside),
    };
    ends.map_err(|problem| resolver.problem(problem)).ok()
}

fn holds(subnet: &Subnet, pool: Pool) -> bool {
    let all = AddressSet::range(pool.first().into(), pool.last().into());
    all.is_subset(&subnet.usable())
}

fn taken_vlans(drafts: &[draft::Network], resolver: &mut Resolver) {
    let mut first: HashMap<u16, (Name, Span)> = HashMap::new();
    for draft in drafts {
        let (Some(located), Ok(name)) = (draft.vlan, Name::new(&draft.name.value)) else {
            continue;
        };
        let Ok(vlan @ 1..=4094) = u16::try_from(located.value) else { continue };
        let at = located.at;
        match first.get(&vlan).cloned() {
            Some((other, first)) => {
                resolver.problem(NetworkProblem::VlanTaken { vlan, other, at, first })
            }
            None => drop(first.insert(vlan, (name, at))),
        }
    }
}

fn untagged_twice(draft: &Draft, built: &[Option<Network>], resolver: &mut Resolver) {
    let mut first: HashMap<&str, &Network> = HashMap::new();
    for (draft, network) in draft.networks.iter().zip(built) {
        let (None, Some(network)) = (draft.vlan, network) else { continue };
        let Some(port) = network.port.as_deref() else { continue };
        match first.get(port) {
            Some(other) => resolver.problem(NetworkProblem::UntaggedTwice {
                port: port.to_owned(),
                other: other.name.clone(),
                at: network.at,
                first: other.at,
            }),
            None => drop(first.insert(port, network)),
        }
    }
}

/// Sorted by where they begin, prefixes that share addresses contain each other: each one need only be
/// compared with those that are still open before it.
fn overlaps(built: &[Option<Network>], resolver: &mut Resolver) {
    let mut all: Vec<(IpNet, &Network)> = Vec::new();
    for network in built.iter().flatten() {
        // Derived twins of one VLAN id are reported as that already.
        let twin = |other: &&Network| other.vlan.is_some() && other.vlan == network.vlan;
        let repeats =
            |prefix: IpNet| all.iter().any(|(p, n)| *p == prefix && twin(n) && n.at != network.at);
        let own: Vec<IpNet> = network.subnets.iter().map(Subnet::prefix).collect();
        let fresh: Vec<IpNet> = if network.vlan.is_some() {
            own.into_iter().filter(|prefix| !repeats(*prefix)).collect()
        } else {
            own
        };
        all.extend(fresh.into_iter().map(|prefix| (prefix, network)));
    }
    all.sort_by_key(|(prefix, network)| {
        (prefix.addr().is_ipv6(), prefix.network(), prefix.prefix_len(), network.at)
    });
    let mut open: Option<(IpNet, &Network)> = None;
    for (prefix, network) in all {
        match open.filter(|(wide, _)| wide.contains(&prefix)) {
            Some((other, with)) => {
                let (late, early, prefix, other) = if with.at <= network.at {
                    (network, with, prefix, other)
                } else {
                    (with, network, other, prefix)
                };
                let (with, at, first) = (early.name.clone(), late.at, early.at);
                resolver.problem(NetworkProblem::Overlap { prefix, other, with, at, first });
            }
            None => open = Some((prefix, network)),
        }
    }
}

/// No network shares addresses with an uplink's own subnet.
pub(super) fn beside_uplinks(
    built: &[Option<Network>],
    uplinks: &[Uplink],
    resolver: &mut Resolver,
) {
    for network in built.iter().flatten() {
        for uplink in uplinks {
            let own = uplink.own();
            let shared = |prefix: &IpNet| !AddressSet::from(*prefix).is_disjoint(&own);
            if let Some(prefix) = network.subnets.iter().map(Subnet::prefix).find(shared) {
                let (uplink, at, first) = (uplink.name.clone(), network.at, uplink.at);
                resolver.problem(NetworkProblem::OverlapsUplink { prefix, uplink, at, first });
            }
        }
    }
}
