//! Routes: subnets behind other routers, and which addresses a longer prefix leads elsewhere.

use super::super::draft;
use super::super::ids::NetworkId;
use super::super::model::{Network, Uplink, Zone};
use super::super::place::Kind;
use super::super::traffic::Route;
use super::{NetworkProblem, Resolver, nearest_or};
use crate::addressing::Subnet;
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use crate::space::AddressSet;
use ipnet::IpNet;
use std::net::IpAddr;

/// What can be wrong with a route.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum RouteProblem {
    /// It does not say where to, or by which router.
    Incomplete { route: Name, missing: &'static str, at: Span },
    /// The router is no device of a network, nor a host of that name.
    Via { word: String, nearest: Option<String>, at: Span },
    /// The router is a host without an address of the subnet's family.
    NoAddress { host: String, to: IpNet, at: Span },
    /// The router is of the other address family.
    OtherFamily { via: IpAddr, to: IpNet, at: Span },
    /// It leads everywhere.
    Everywhere { at: Span },
    /// It leads into a subnet that is here already.
    Within { to: IpNet, network: Name, at: Span, first: Span },
    /// Another route leads there.
    Twice { to: IpNet, other: Name, at: Span, first: Span },
    /// It shares addresses with an uplink.
    MeetsUplink { to: IpNet, uplink: Name, at: Span, first: Span },
    /// It names a zone that is not there.
    UnknownZone { word: String, nearest: Option<String>, at: Span },
}

impl Diagnose for RouteProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Incomplete { route, missing, at } => error("incomplete-route", at)
                .says(format!("route `{route}` does not say `{missing}`"))
                .help(match *missing {
                    "to" => "add a line like `to = \"10.44.128.0/24\"`",
                    _ => "add a line like `via = \"10.44.10.9\"`, the router that leads there",
                }),
            Self::Via { word, nearest, at } => error("bad-router", at)
                .says(format!(
                    "`{word}` is neither a host nor the address of a device in one of the networks"
                ))
                .why("the next hop has to be in a network that the gateway is attached to")
                .help(nearest_or(
                    nearest.as_ref(),
                    "write the router's address in the network where it is, or the host's name",
                )),
            Self::NoAddress { host, to, at } => error("bad-router", at)
                .says(format!(
                    "host `{host}` has no {} address, and {to} is reached by it",
                    if to.addr().is_ipv4() { "IPv4" } else { "IPv6" }
                ))
                .help("give the host an address of that family"),
            Self::OtherFamily { via, to, at } => error("bad-router", at)
                .says(format!("{via} and {to} are of different address families"))
                .help("write the router's address in the family of the subnet"),
            Self::Everywhere { at } => error("bad-route", at)
                .says("a route cannot be the default route")
                .why("the uplinks provide the default route")
                .help("name the subnet that is behind the router"),
            Self::Within { to, network, at, first } => error("subnets-overlap", at)
                .says(format!("{to} is part of network `{network}` itself"))
                .why("the gateway reaches that network directly")
                .help("correct the subnet, or remove the route")
                .also(*first, "the network"),
            Self::Twice { to, other, at, first } => error("subnets-overlap", at)
                .says(format!("route `{other}` already leads to {to}"))
                .help("remove one of the two")
                .also(*first, "the other one"),
            Self::MeetsUplink { to, uplink, at, first } => error("subnets-overlap", at)
                .says(format!("{to} overlaps the subnet of uplink `{uplink}`"))
                .why("every address must be either inside or outside")
                .help("correct the subnet")
                .also(*first, "the uplink"),
            Self::UnknownZone { word, nearest, at } => error("unknown-zone", at)
                .says(format!("no zone is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[zone.NAME]`")),
        }
    }
}

/// The routes that can be built; the problems of the others are noted.
pub(super) fn routes(
    drafts: &[draft::Route],
    hosts: &[draft::Host],
    networks: &[Option<Network>],
    uplinks: &[Uplink],
    zones: &[Zone],
    resolver: &mut Resolver,
) -> Vec<Route> {
    let mut routes: Vec<Route> = Vec::new();
    for draft in drafts {
        if let Some(route) = route(draft, hosts, networks, zones, resolver) {
            meets(&route, networks, uplinks, &routes, resolver);
            routes.push(route);
        }
    }
    let subnets = networks.iter().flatten().flat_map(|network| &network.subnets);
    let subnets: Vec<IpNet> = subnets.map(Subnet::prefix).collect();
    let all: Vec<IpNet> = subnets.into_iter().chain(routes.iter().map(|r| r.to)).collect();
    for route in &mut routes {
        let longer = |p: &&IpNet| p.prefix_len() > route.to.prefix_len() && route.to.contains(*p);
        let elsewhere: AddressSet = all.iter().filter(longer).copied().collect();
        route.reach = AddressSet::from(route.to).difference(&elsewhere);
        let usable = Subnet::with_first_gateway(route.to).map(|subnet| subnet.usable());
        route.devices = usable.unwrap_or_default().intersection(&route.reach);
    }
    routes
}

fn route(
    draft: &draft::Route,
    hosts: &[draft::Host],
    networks: &[Option<Network>],
    zones: &[Zone],
    resolver: &mut Resolver,
) -> Option<Route> {
    let name = Name::new(&draft.name.value).ok()?;
    let at = draft.name.at;
    for (missing, word) in [("to", &draft.to), ("via", &draft.via)] {
        if word.is_none() {
            resolver.problem(RouteProblem::Incomplete { route: name.clone(), missing, at });
        }
    }
    let to = draft.to.as_ref().and_then(|word| subnet(word, resolver));
    let via = draft.via.as_ref().and_then(|word| via(word, to, hosts, networks, resolver));
    let zone = draft.zone.as_ref().map(|word| zone(word, zones, resolver));
    let (to, (via, network), word) = (to?, via?, draft.via.as_ref()?);
    if via.is_ipv4() != to.addr().is_ipv4() {
        resolver.problem(RouteProblem::OtherFamily { via, to, at: word.at });
        return None;
    }
    let zone = match zone {
        Some(zone) => zone?,
        None => networks.get(network.0)?.as_ref()?.zone,
    };
    let (reach, devices) = (AddressSet::empty(), AddressSet::empty());
    Some(Route { name, to, via, network, zone, reach, devices, at })
}

fn subnet(word: &Text, resolver: &mut Resolver) -> Option<IpNet> {
    let at = word.at;
    let Ok(to) = word.value.parse::<IpNet>() else {
        resolver.problem(NetworkProblem::NotASubnet { word: word.value.clone(), at });
        return None;
    };
    if to != to.trunc() {
        let (word, prefix) = (word.value.clone(), to.trunc());
        resolver.problem(NetworkProblem::HostBits { word, prefix, at });
        return None;
    }
    if to.prefix_len() == 0 {
        resolver.problem(RouteProblem::Everywhere { at });
        return None;
    }
    if !AddressSet::from(to).is_disjoint(&super::networks::unusable()) {
        resolver.problem(NetworkProblem::Special { prefix: to, at });
        return None;
    }
    Some(to)
}

fn via(
    word: &Text,
    to: Option<IpNet>,
    hosts: &[draft::Host],
    networks: &[Option<Network>],
    resolver: &mut Resolver,
) -> Option<(IpAddr, NetworkId)> {
    let mut address = word.value.parse::<IpAddr>().ok();
    if let Some(host) = hosts.iter().find(|host| host.name.value == word.value) {
        let own = host.addresses.iter().filter_map(|word| word.value.parse().ok());
        address = own
            .into_iter()
            .find(|own: &IpAddr| to.is_none_or(|to| to.addr().is_ipv4() == own.is_ipv4()));
        if let (None, Some(to)) = (address, to) {
            let host = word.value.clone();
            resolver.problem(RouteProblem::NoAddress { host, to, at: word.at });
            return None;
        }
    }
    let home = address.and_then(|address| {
        let holds = |network: &Option<Network>| {
            network.as_ref().is_some_and(|n| n.device_addresses().contains(address))
        };
        Some((address, NetworkId(networks.iter().position(holds)?)))
    });
    // Where a network could not be built, nobody can say whether the router is in it.
    if home.is_none() && (address.is_none() || networks.iter().all(Option::is_some)) {
        let names = hosts.iter().map(|host| host.name.value.as_str());
        let nearest = nearest(&word.value, names).map(str::to_owned);
        resolver.problem(RouteProblem::Via { word: word.value.clone(), nearest, at: word.at });
    }
    home
}

fn zone(word: &Text, zones: &[Zone], resolver: &mut Resolver) -> Option<super::super::ZoneId> {
    let found = zones.iter().position(|zone| zone.name.as_str() == word.value);
    let declared = resolver.directory.find(&word.value).is_some_and(|e| e.kind == Kind::Zone);
    if found.is_none() && !declared {
        let names = zones.iter().map(|zone| zone.name.as_str());
        resolver.problem(RouteProblem::UnknownZone {
            word: word.value.clone(),
            nearest: nearest(&word.value, names).map(str::to_owned),
            at: word.at,
        });
    }
    found.map(super::super::ZoneId)
}

fn meets(
    route: &Route,
    networks: &[Option<Network>],
    uplinks: &[Uplink],
    earlier: &[Route],
    resolver: &mut Resolver,
) {
    let (to, at) = (route.to, route.at);
    for network in networks.iter().flatten() {
        if network.subnets.iter().any(|subnet| subnet.prefix().contains(&to)) {
            let (network, first) = (network.name.clone(), network.at);
            resolver.problem(RouteProblem::Within { to, network, at, first });
        }
    }
    if let Some(other) = earlier.iter().find(|other| other.to == to) {
        let (other, first) = (other.name.clone(), other.at);
        resolver.problem(RouteProblem::Twice { to, other, at, first });
    }
    for uplink in uplinks {
        if !uplink.own().is_disjoint(&AddressSet::from(to)) {
            let (uplink, first) = (uplink.name.clone(), uplink.at);
            resolver.problem(RouteProblem::MeetsUplink { to, uplink, at, first });
        }
    }
}
