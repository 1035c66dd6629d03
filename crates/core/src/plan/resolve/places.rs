//! Places: what zones, networks, hosts and groups stand for.

use super::super::draft;
use super::super::model::{Group, Host, HostId, Network, Uplink, Zone};
use super::super::place::{Directory, Kind, Place, Reach, names_in};
use super::super::traffic::Route;
use super::{Resolver, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::graph;
use crate::name::Name;
use crate::source::Span;
use crate::space::{AddressSet, Interface, IntervalSet};
use ipnet::IpNet;
use std::collections::HashMap;

/// What can be wrong with a place.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum PlaceProblem {
    /// There is no word in it.
    Empty { at: Option<Span> },
    /// No such name.
    Unknown { word: String, nearest: Option<String>, at: Span },
    /// A host without a fixed address.
    NotFixed { host: String, at: Span },
    /// An uplink whose own subnet nobody knows.
    NotKnown { uplink: String, at: Span },
    /// It looks like an address, a prefix or a range, but is none.
    NotAnAddress { word: String, at: Span },
    /// A prefix with bits set behind its length.
    HostBits { word: String, prefix: IpNet, at: Span },
    /// A range that runs backwards.
    Reversed { word: String, at: Span },
    /// A range from one family to the other.
    TwoFamilies { word: String, at: Span },
    /// An address of the gateway itself.
    GatewaysOwn { word: String, at: Span },
    /// An address that no network holds and that is not on the internet.
    Nowhere { word: String, at: Span },
    /// Two words without `+` or `-` between them.
    MissingSign { word: String, at: Span },
    /// A `+` or `-` without a word on each side.
    StraySign { at: Span },
    /// Groups that hold each other in a circle.
    Circle { names: Vec<String>, at: Span },
}

impl PlaceProblem {
    /// The same, placed at `owner` where it has no place of its own.
    pub(super) fn at_least(self, owner: Span) -> Self {
        match self {
            Self::Empty { at } => Self::Empty { at: at.or(Some(owner)) },
            other => other,
        }
    }
}

impl Diagnose for PlaceProblem {
    fn diagnose(&self) -> Diagnosis {
        let error = |name, at: &Span| Diagnosis::new(name, Severity::Error, Some(*at));
        match self {
            Self::Empty { at } => Diagnosis::new("empty-place", Severity::Error, *at)
                .says("no endpoint is named here")
                .help("name one; `any` means everything except the gateway"),
            Self::Unknown { word, nearest, at } => error("unknown-name", at)
                .says(format!("nothing in the plan is called `{word}`"))
                .help(nearest_or(
                    nearest.as_ref(),
                    "declare it as a zone, network, host or group, or write an address",
                )),
            Self::NotFixed { host, at } => error("address-not-fixed", at)
                .says(format!("host `{host}` has no fixed address, so no rule can name it"))
                .why("its next lease may have another address, and the rule would then match another device")
                .help(format!("give `[host.{host}]` an `address` outside the pool")),
            Self::NotKnown { uplink, at } => error("uplink-not-known", at)
                .says(format!("no neighbour is known on the link of uplink `{uplink}`"))
                .why("an uplink's name means the other addresses of its subnet, and its router; this one gets its address by DHCP, or its subnet has no other addresses")
                .help(format!("add `router` to `[uplink.{uplink}]`")),
            Self::NotAnAddress { word, at } => error("bad-address", at)
                .says(format!("`{word}` is not an address, a prefix or a range"))
                .help("write 10.44.24.40, 10.44.24.0/24, 10.44.24.40-10.44.24.47, or the like in IPv6"),
            Self::HostBits { word, prefix, at } => error("host-bits", at)
                .says(format!("`{word}` has bits set behind its prefix length"))
                .help(format!("write `{prefix}` for the prefix, or leave the length out for the one address")),
            Self::Reversed { word, at } => error("reversed-range", at)
                .says(format!("the range `{word}` ends before it begins"))
                .help("write the lower address first"),
            Self::TwoFamilies { word, at } => error("bad-address", at)
                .says(format!("the range `{word}` begins in one address family and ends in the other"))
                .help("write one range for IPv4 and one for IPv6"),
            Self::GatewaysOwn { word, at } => error("gateways-own-address", at)
                .says(format!("`{word}` is an address of the gateway"))
                .help("write `gateway` for the gateway itself"),
            Self::Nowhere { word, at } => error("address-nowhere", at)
                .says(format!("`{word}` is in no network of this plan and not on the internet"))
                .why("the gateway routes no packet from or to it")
                .help("correct the address, or declare the network it belongs to"),
            Self::MissingSign { word, at } => error("bad-place", at)
                .says(format!("a `+` or `-` is missing before `{word}`"))
                .help("write `staff + guests`, `any - printers`, or a list"),
            Self::StraySign { at } => error("bad-place", at)
                .says("a `+` or `-` stands without a name on each side")
                .help("write it between two names, with spaces around it"),
            Self::Circle { names, at } => error("group-circle", at)
                .says(format!("these groups contain each other: {}", names.join(" -> ")))
                .help("remove one of them from the other's `members`"),
        }
    }
}

/// Enters what zones, networks, tunnels and routes stand for.
pub(super) fn reach_of_zones(
    zones: &[Zone],
    networks: &[Option<Network>],
    routes: &[Route],
    directory: &mut Directory,
) {
    let known = |addresses, links| Reach::Known(Place { addresses, links, ..Place::default() });
    let interfaces = || (0u16..).map(Interface).zip(networks.iter().flatten());
    for (interface, network) in interfaces() {
        let kind = if network.tunnel.is_some() { Kind::Tunnel } else { Kind::Network };
        let reach = known(network.device_addresses().clone(), IntervalSet::point(interface));
        directory.set_reach(&network.name, kind, reach);
    }
    directory.links = interfaces().map(|(interface, _)| interface).collect();
    for route in routes {
        let reach = known(route.devices.clone(), IntervalSet::empty());
        directory.set_reach(&route.name, Kind::Route, reach);
    }
    for (index, zone) in zones.iter().enumerate() {
        let own = interfaces().filter(|(_, network)| network.zone.0 == index);
        let links = own.clone().map(|(interface, _)| interface).collect();
        let own = own.map(|(_, network)| network.device_addresses().clone());
        let behind = routes.iter().filter(|route| route.zone.0 == index);
        let addresses: AddressSet = own.chain(behind.map(|route| route.devices.clone())).collect();
        directory.set_reach(&zone.name, Kind::Zone, known(addresses, links));
    }
}

/// Enters what hosts stand for. `hosts` holds what became of each draft.
pub(super) fn reach_of_hosts(
    drafts: &[draft::Host],
    hosts: &[Option<Host>],
    directory: &mut Directory,
) {
    let mut number = 0;
    for (draft, host) in drafts.iter().zip(hosts) {
        let Some(host) = host else { continue };
        let id = HostId(number);
        number += 1;
        let reach = if draft.addresses.is_empty() {
            Reach::NotFixed
        } else {
            Reach::Known(Place {
                addresses: host.addresses.iter().copied().collect(),
                hosts: vec![id],
                ..Place::default()
            })
        };
        directory.set_reach(&host.name, Kind::Host, reach);
    }
}

/// Enters what the uplinks' names stand for: who is on their own link, but what is inside.
pub(super) fn reach_of_uplinks(uplinks: &[Uplink], directory: &mut Directory) {
    for uplink in uplinks {
        let known = directory.internet.union(&directory.beside);
        let addresses = uplink.neighbours().intersection(&known);
        let reach = match addresses.is_empty() {
            true => Reach::NotKnown,
            false => Reach::Known(Place { addresses, ..Place::default() }),
        };
        directory.set_reach(&uplink.name, Kind::Uplink, reach);
    }
}

/// Resolves the groups, each after those it holds.
pub(super) fn groups(drafts: &[draft::Group], resolver: &mut Resolver) -> Vec<Group> {
    let by_name: HashMap<&str, usize> = drafts
        .iter()
        .enumerate()
        .map(|(index, draft)| (draft.name.value.as_str(), index))
        .collect();
    let held = |draft: &draft::Group| {
        let names = draft.members.iter().flat_map(|member| names_in(&member.value));
        names.filter_map(|name| by_name.get(name).copied()).collect()
    };
    let needs: Vec<Vec<usize>> = drafts.iter().map(held).collect();
    let sorted = graph::sort(&needs);
    if let Some(circle) = sorted.circle {
        let at = drafts[circle[0]].name.at;
        let names = circle.iter().map(|index| drafts[*index].name.value.clone()).collect();
        resolver.problem(PlaceProblem::Circle { names, at });
    }
    let mut groups: Vec<(usize, Group)> = Vec::new();
    for index in sorted.order {
        let draft = &drafts[index];
        let Ok(name) = Name::new(&draft.name.value) else { continue };
        let Some(place) = resolver.place(&draft.members, draft.name.at) else { continue };
        resolver.directory.set_reach(&name, Kind::Group, Reach::Known(place.clone()));
        groups.push((index, Group { name, place, at: draft.name.at }));
    }
    groups.sort_by_key(|entry| entry.0);
    groups.into_iter().map(|entry| entry.1).collect()
}
