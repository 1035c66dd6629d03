//! Decides which sets get a name, and which name.
//!
//! What the plan has a name for keeps it; what else stands in several lines is named after the first of
//! them. Everything else stands in its line. Few sets are wanted: the kernel's cost of loading a file
//! grows with the square of their number.

use super::WriteContext;
use super::addresses::{Known, local_to_all, of_family, to_all_v4};
use super::onward::Chains;
use super::test::{Entry, Line, Test};
use bastium_core::space::{AddressSet, Family};
use std::collections::{HashMap, HashSet};

/// The type of a set, as the file says it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Kind {
    Addresses(Family),
    Ports,
    ProtocolPorts,
    Interfaces,
}

impl Kind {
    pub(super) fn words(self) -> &'static str {
        match self {
            Self::Addresses(Family::V4) => "ipv4_addr",
            Self::Addresses(Family::V6) => "ipv6_addr",
            Self::Ports => "inet_service",
            Self::ProtocolPorts => "inet_proto . inet_service",
            Self::Interfaces => "ifname",
        }
    }
}

/// What makes two sets the same.
type Content = (Kind, Vec<String>);

/// The named sets of a file.
#[derive(Default)]
pub(super) struct Names {
    by_content: HashMap<Content, String>,
    /// In the order in which they are first used.
    pub(super) sets: Vec<(String, Content)>,
}

/// The set that a test asks for, where it asks for one of several elements.
pub(super) fn content(test: &Test) -> Option<Content> {
    let (kind, elements) = match test {
        Test::Address { family, elements, .. } => (Kind::Addresses(*family), elements),
        Test::Ports { elements, .. } => (Kind::Ports, elements),
        Test::AnyPorts(elements) => (Kind::ProtocolPorts, elements),
        Test::In(elements) | Test::Out(elements) => (Kind::Interfaces, elements),
        _ => return None,
    };
    (elements.len() > 1).then(|| (kind, elements.clone()))
}

impl Names {
    /// Goes through all lines and names what is worth it.
    pub(super) fn of(context: &WriteContext<'_>, chains: &Chains) -> Self {
        let lines = || {
            let entries = chains.chains.iter().flat_map(|chain| &chain.entries);
            entries.filter_map(|entry| match entry {
                Entry::Line(line) => Some(line),
                Entry::Remark(_) => None,
            })
        };
        let mut uses: HashMap<Content, usize> = HashMap::new();
        for used in lines().flat_map(|line| &line.tests).filter_map(content) {
            *uses.entry(used).or_default() += 1;
        }
        let of_plan = plan_names(context);
        let mut names = Self::default();
        let mut taken: HashSet<String> = HashSet::new();
        for line in lines() {
            for used in line.tests.iter().filter_map(content) {
                if names.by_content.contains_key(&used) {
                    continue;
                }
                let wish = match of_plan.get(&used) {
                    Some(name) => name.clone(),
                    None if uses[&used] > 1 => wish(line, used.0),
                    None => continue,
                };
                let name = free(&mut taken, wish);
                names.sets.push((name.clone(), used.clone()));
                names.by_content.insert(used, name);
            }
        }
        names
    }

    /// The name of a test's set.
    pub(super) fn name(&self, test: &Test) -> Option<&str> {
        content(test).and_then(|content| self.by_content.get(&content)).map(String::as_str)
    }
}

/// What the plan calls its sets of addresses.
fn plan_names(context: &WriteContext<'_>) -> HashMap<Content, String> {
    let plan = context.plan;
    let mut places: Vec<(String, AddressSet)> = Vec::new();
    let groups = plan.groups().iter();
    places.extend(groups.map(|group| (group.name.to_string(), group.place.addresses.clone())));
    let hosts = plan.hosts().iter();
    places.extend(
        hosts.map(|host| (host.name.to_string(), host.addresses.iter().copied().collect())),
    );
    for id in plan.zone_ids() {
        let name = plan.zone(id).name.to_string();
        places.push((name.clone(), plan.zone_prefixes(id).clone()));
        places.push((format!("{name}_devices"), plan.zone_addresses(id).clone()));
    }
    for id in plan.network_ids() {
        let network = plan.network(id);
        places.push((network.name.to_string(), network.prefixes()));
        places.push((format!("{}_devices", network.name), network.device_addresses().clone()));
    }
    let nowhere = context.surroundings.no_route.first().map(|product| product.destination.clone());
    let (known, outside) = (Known::of(plan), plan.inside());
    places.extend(nowhere.map(|set| {
        let set = set.union(outside).union(known.placeholders());
        ("nowhere".to_owned(), set.difference(plan.gateway_outside()))
    }));
    let stays = context.surroundings.no_route.get(1).map(|product| product.source.clone());
    places.extend(stays.map(|set| ("link_only".to_owned(), set)));
    places.push(("everyone".to_owned(), local_to_all()));
    places.push(("everyone".to_owned(), to_all_v4()));
    let offers = context.surroundings.services.iter().zip(context.surroundings.interfaces());
    places.extend(offers.map(|(set, interface)| {
        (format!("gateway_in_{}", plan.interface_name(interface)), set.clone())
    }));
    let mut names = HashMap::new();
    for (name, addresses) in places {
        for (family, mark) in [(Family::V4, "v4"), (Family::V6, "v6")] {
            let elements = of_family(&addresses, family).words();
            if elements.len() > 1 {
                let content = (Kind::Addresses(family), elements);
                names.entry(content).or_insert_with(|| format!("{name}_{mark}"));
            }
        }
    }
    names
}

/// A name after the line that uses a set first.
fn wish(line: &Line, kind: Kind) -> String {
    let mut words = line.tag.split('@').next().unwrap_or_default();
    let ports = matches!(kind, Kind::Ports | Kind::ProtocolPorts);
    if ports && !line.service.is_empty() {
        words = &line.service;
    }
    let plain = |c: char| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '_' };
    let words: String = words.replace(", ", "_").chars().map(plain).take(120).collect();
    let six = line.tests.iter().any(|test| test.family() == Some(Family::V6));
    let end = match kind {
        Kind::Addresses(Family::V4) => "v4",
        Kind::Addresses(Family::V6) => "v6",
        Kind::Ports | Kind::ProtocolPorts if six => "ports_v6",
        Kind::Ports | Kind::ProtocolPorts => "ports",
        Kind::Interfaces => "interfaces",
    };
    format!("of_{words}_{end}")
}

fn free(taken: &mut HashSet<String>, wish: String) -> String {
    let mut name = wish.clone();
    let mut number = 2;
    while !taken.insert(name.clone()) {
        name = format!("{wish}_{number}");
        number += 1;
    }
    name
}
