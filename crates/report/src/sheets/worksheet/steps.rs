//! The steps of a worksheet, in the order in which a gateway accepts them.

use super::rules::{COLUMNS, Entered, EnteredRule};
use super::{Step, Values, one, values};
use crate::sheets::{PortSheet, rules::form_words, rules::translation_rows};
use bastium_core::plan::{Network, NetworkId, Plan};
use bastium_core::rules::RuleSet;
use bastium_core::space::{Protocol, ServiceSet};
use std::net::IpAddr;

pub(super) fn step(
    name: &'static str,
    title: &'static str,
    tables: Vec<Values>,
    afterwards: &str,
) -> Step {
    let (warnings, afterwards) = (Vec::new(), afterwards.to_owned());
    Step { number: 0, name, title, tables, warnings, afterwards }
}

/// The interfaces: every network, tunnel and uplink.
pub(super) fn interfaces(plan: &Plan) -> Step {
    let networks = plan.network_ids().filter(|id| plan.network(*id).tunnel.is_none()).map(|id| {
        let network = plan.network(id);
        let device = plan.device_name(plan.network_interface(id)).unwrap_or_default();
        [
            one(&network.name),
            one(device),
            network.vlan.map_or_else(|| one("untagged"), one),
            network.port.iter().cloned().collect(),
            addresses_at(network, true),
            addresses_at(network, false),
            one(&plan.zone(network.zone).name),
        ]
    });
    let tunnels = plan.network_ids().filter(|id| plan.network(*id).tunnel.is_some()).map(|id| {
        let network = plan.network(id);
        let tunnel = network.tunnel.as_ref();
        let listens = tunnel.and_then(|tunnel| tunnel.listens.as_ref());
        [
            one(&network.name),
            listens.map_or_else(Vec::new, |listens| listens.set.words()),
            addresses_at(network, true),
            addresses_at(network, false),
            one(&plan.zone(network.zone).name),
        ]
    });
    let uplinks = plan.uplinks().iter().map(|uplink| {
        [
            one(&uplink.name),
            uplink.port.iter().cloned().collect(),
            match uplink.dhcp {
                true => one("by DHCP"),
                false => uplink.addresses.iter().map(ToString::to_string).collect(),
            },
            uplink.routers.iter().map(ToString::to_string).collect(),
        ]
    });
    let aggregates =
        plan.gateway().aggregates.iter().map(|(name, ports)| [one(name), ports.clone()]);
    let routes = plan.routes().iter().map(|route| {
        [one(&route.name), one(route.to), one(route.via), one(&plan.network(route.network).name)]
    });
    step(
        "interfaces",
        "Interfaces and addresses",
        vec![
            values("aggregates of ports", ["name", "ports"], aggregates),
            values("uplinks", ["name", "port", "address", "router"], uplinks),
            values(
                "networks",
                ["name", "device", "VLAN", "port", "IPv4 address", "IPv6 address", "zone"],
                networks,
            ),
            values(
                "tunnels",
                ["name", "listens on", "IPv4 address", "IPv6 address", "zone"],
                tunnels,
            ),
            values("routes", ["name", "to", "router", "in"], routes),
        ],
        "every interface is up with its address; a device with a fixed address in a network gets a reply to a ping of \
         the gateway's address there, once rules allow it",
    )
}

fn addresses_at(network: &Network, v4: bool) -> Vec<String> {
    let own = network.subnets.iter().filter(|subnet| subnet.gateway().is_ipv4() == v4);
    own.map(|subnet| format!("{}/{}", subnet.gateway(), subnet.prefix().prefix_len())).collect()
}

/// What the gateway leases out.
pub(super) fn leases(plan: &Plan) -> Step {
    let leased = plan.network_ids().filter_map(|id| Some((id, plan.network(id).pool?)));
    let scopes = leased.map(|(id, pool)| {
        let network = plan.network(id);
        let gateway = network.subnets.iter().map(|subnet| subnet.gateway()).find(IpAddr::is_ipv4);
        let router: Vec<String> = gateway.iter().map(ToString::to_string).collect();
        let resolver = if names_from_gateway(plan, id) { router.clone() } else { one("none") };
        [one(&network.name), one(pool.first()), one(pool.last()), router, resolver]
    });
    let fixed = plan.hosts().iter().flat_map(|host| {
        let v4 = host.addresses.iter().filter(|address| address.is_ipv4());
        let leased = v4.filter_map(|address| Some((plan.network_of(*address)?, address)));
        let leased = leased.filter(|(id, _)| plan.network(*id).pool.is_some());
        let mac = host.mac.as_ref().map(ToString::to_string);
        leased.map(move |(id, address)| {
            let mac = mac.clone().unwrap_or_else(|| "set at the device".to_owned());
            [one(&host.name), one(mac), one(address), one(&plan.network(id).name)]
        })
    });
    step(
        "leases",
        "DHCP",
        vec![
            values("DHCP ranges", ["network", "first", "last", "router", "resolver"], scopes),
            values("fixed addresses", ["name", "hardware address", "address", "network"], fixed),
        ],
        "a device that joins a network gets an address between first and last, with this router and resolver",
    )
}

/// Whether a network may ask the gateway for names.
fn names_from_gateway(plan: &Plan, id: NetworkId) -> bool {
    let network = plan.network(id);
    let uses = network.uses.as_ref().or(plan.zone(network.zone).uses.as_ref());
    uses.is_some_and(|uses| ServiceSet::ports(Protocol::UDP, 53, 53).v4.is_subset(&uses.set.v4))
}

/// The addresses that rules name.
pub(super) fn objects(entered: &Entered<'_>) -> Step {
    let rows = entered
        .objects
        .addresses
        .iter()
        .map(|object| [one(&object.name), one(object.kind), object.values.clone()]);
    let domains =
        entered.plan.domains().iter().map(|domain| [one(&domain.name), domain.names.clone()]);
    step(
        "addresses",
        "Addresses that rules name",
        vec![
            values("addresses", ["name", "kind", "values"], rows),
            values("domains", ["name", "domain names"], domains),
        ],
        "the gateway lists each name once, with these values",
    )
}

/// The services that rules name.
pub(super) fn services(entered: &Entered<'_>) -> Step {
    let rows = entered.objects.services.iter().map(|service| {
        let there = if service.well_known { "look for it first" } else { "to be made" };
        [one(&service.name), service.ports.clone(), one(there)]
    });
    step(
        "services",
        "Services that rules name",
        vec![values("services", ["name", "ports", "on the gateway"], rows)],
        "the gateway lists each service with these ports; one that it has by itself has the same ports",
    )
}

/// What the clock goes by, among the hours.
pub(in crate::sheets) const TIME_ZONE: &str = "time zone";

/// The hours that rules name.
pub(super) fn hours(entered: &Entered<'_>) -> Step {
    let rows = entered.objects.hours.iter().map(|hours| [one(&hours.name), one(&hours.value)]);
    let zone = entered.plan.site().time_zone.clone().map(|zone| [one(TIME_ZONE), one(zone)]);
    step(
        "hours",
        "Hours",
        vec![values("hours", ["name", "value"], rows.chain(zone))],
        "the gateway's clock shows the right time, and it has these hours",
    )
}

/// The rules, list by list.
pub(super) fn rules(entered: &Entered<'_>) -> Step {
    let lists = entered.lists.iter();
    let tables = lists
        .map(|list| values(list.title.clone(), COLUMNS, list.rules.iter().map(EnteredRule::cells)));
    step(
        "rules",
        "Rules, in this order: the first one that matches decides",
        tables.collect(),
        "the gateway shows these rules in this order; rules that share a number may be one setting there, as anti-spoofing \
         often is; `bastium audit` compares what runs with the plan",
    )
}

/// Translation, both ways.
pub(super) fn translation(rules: &RuleSet) -> Step {
    let plan = rules.plan();
    let out = plan.uplinks().iter().map(|uplink| {
        [
            one(&uplink.name),
            one("private IPv4 sources (RFC 1918)"),
            one("the address of the uplink"),
        ]
    });
    let inward = translation_rows(rules).into_iter().map(|row| {
        [
            row.at.clone(),
            one(row.outside),
            one(format!("{} ({})", row.to, row.address)),
            one(row.inside),
        ]
    });
    step(
        "translation",
        "Address translation",
        vec![
            values("source NAT on the way out", ["uplink", "source", "becomes"], out),
            values("port forwards on the way in", ["address", "service", "to", "as"], inward),
        ],
        "a device inside reaches the internet; from outside, each forwarded service answers",
    )
}

/// General settings, management, and what happens to what no rule matches.
pub(super) fn settings(rules: &RuleSet) -> Step {
    let plan = rules.plan();
    let unmatched = plan.matrix().unmatched();
    let log = if unmatched.log { ", logged" } else { "" };
    let mut rows = vec![[
        one("traffic that no rule matches"),
        one(format!("{}{log}", bastium_core::plan::Action::from(unmatched.denial).word())),
    ]];
    if let Some(manage) = &plan.gateway().manage {
        let factor = if manage.second_factor { ", with a second factor" } else { "" };
        let from = format!("{}{factor}", manage.from.text);
        rows.push([one("management from"), one(from)]);
        rows.push([one("management by"), one(&manage.service.text)]);
    }
    for (number, words) in (1..).zip(form_words(rules)) {
        rows.push([one(format!("setting {number}")), one(words)]);
    }
    step(
        "settings",
        "General settings",
        vec![values("settings", ["what", "value"], rows)],
        "the gateway can be managed from there, and from nowhere else: try both before you leave",
    )
}

/// What to set on each port and Wi-Fi name.
pub(super) fn ports(plan: &Plan) -> Step {
    let sheet = PortSheet::new(plan);
    let vlan = |row: &crate::sheets::VlanRow| match row.vlan {
        Some(vlan) => format!("{} ({vlan})", row.network),
        None => row.network.clone(),
    };
    let ports = sheet.ports.iter().map(|port| {
        [
            one(&port.device),
            one(&port.port),
            port.untagged.iter().map(vlan).collect(),
            port.tagged.iter().map(vlan).collect(),
            one(if port.isolate { "yes" } else { "" }),
            port.to.iter().cloned().collect(),
        ]
    });
    let wifi = sheet.wifi.iter().map(|wifi| {
        let vlan = wifi.vlan.map_or_else(String::new, |vlan| format!(" ({vlan})"));
        [
            one(&wifi.name),
            one(format!("{}{vlan}", wifi.network)),
            wifi.bands.iter().map(|band| format!("{band} GHz")).collect(),
            wifi.on.clone(),
            one(if wifi.isolate { "yes" } else { "" }),
        ]
    });
    step(
        "ports",
        "Switch ports and Wi-Fi",
        vec![
            values("ports", ["device", "port", "untagged", "tagged", "isolated", "to"], ports),
            values("Wi-Fi names", ["name", "network", "bands", "access points", "isolated"], wifi),
        ],
        "a device on each port or Wi-Fi name gets an address of the network that stands beside it",
    )
}
