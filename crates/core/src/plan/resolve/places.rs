//! Places: what zones, networks, hosts and groups stand for.

use super::super::draft;
use super::super::ids::HostId;
use super::super::model::{Group, Host, Network, Uplink, Zone};
use super::super::place::{Directory, Kind, Place, Reach, names_in};
use super::super::place_problem::PlaceProblem;
use super::super::traffic::Route;
use super::Resolver;
use crate::graph;
use crate::name::Name;
use crate::space::{AddressSet, Interface, IntervalSet};
use std::collections::HashMap;

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
