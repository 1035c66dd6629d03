//! Where a check is made from, and how to get there.

use crate::example;
use crate::meaning::{Meaning, uses};
use crate::plan::{Hang, NetworkId, Plan};
use crate::space::Family;
use crate::words::either;
use std::net::IpAddr;

/// Where a check is made from.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Standpoint {
    /// In a network, as any device that joins it.
    Network(NetworkId),
    /// In a network, with that address: as the host that has it, or by hand.
    Address(NetworkId, IpAddr),
    /// Behind a router of a network, in the subnet of a route, by its place among the routes of the network,
    /// with that address.
    Behind(NetworkId, usize, IpAddr),
    /// Outside, anywhere on the internet.
    Outside,
    /// Outside, at an address that the plan names.
    OutsideAt(IpAddr),
    /// Outside, at an address from which packets come by that uplink, by its place in the plan's list.
    OutsideBy(usize, IpAddr),
}

impl Standpoint {
    /// The network it is in; `None` outside.
    pub fn network(&self) -> Option<NetworkId> {
        match self {
            Self::Network(id) | Self::Address(id, _) | Self::Behind(id, ..) => Some(*id),
            Self::Outside | Self::OutsideAt(_) | Self::OutsideBy(..) => None,
        }
    }

    /// What the place is called.
    pub fn name(&self, meaning: &Meaning<'_>) -> String {
        let plan = meaning.plan();
        match self {
            Self::Network(id) => plan.network(*id).name.to_string(),
            Self::Address(id, address) => match plan.host_at(*address) {
                Some(host) => host.name.to_string(),
                None => format!("{} as {address}", plan.network(*id).name),
            },
            Self::Behind(id, route, address) => {
                format!("{} as {address}", route_name(plan, *id, *route))
            }
            Self::Outside => "internet".to_owned(),
            Self::OutsideAt(address) => format!("internet at {address}"),
            Self::OutsideBy(uplink, address) => {
                format!("internet at {address}, by {}", plan.uplinks()[*uplink].name)
            }
        }
    }

    /// How to get there.
    pub fn how(&self, meaning: &Meaning<'_>) -> String {
        let plan = meaning.plan();
        let join = |id: NetworkId| {
            let network = plan.network(id);
            let tagged = match network.vlan {
                _ if network.tunnel.is_some() => {
                    return format!("come in by the tunnel {}", network.name);
                }
                Some(vlan) => format!("VLAN {vlan}"),
                None => "untagged".to_owned(),
            };
            let sockets = sockets(plan, id);
            if sockets.is_empty() {
                return format!("join {} ({tagged})", network.name);
            }
            format!("join {} ({tagged}): {}", network.name, sockets.join(", or "))
        };
        match self {
            Self::Network(id) => match (plan.network(*id).pool, example::free_address(plan, *id)) {
                (Some(_), _) => format!("{}; take {}", join(*id), given(meaning, *id)),
                _ if plan.network(*id).tunnel.is_some() => join(*id),
                (None, Some(free)) => format!("{}; set the address {free} by hand", join(*id)),
                (None, None) => join(*id),
            },
            Self::Address(id, address) => match plan.host_at(*address) {
                Some(host) => format!(
                    "at {} itself, or {} with its address {address} while it is unplugged",
                    host.name,
                    join(*id)
                ),
                None => format!("{}; set the address {address} by hand", join(*id)),
            },
            Self::Behind(id, route, address) => format!(
                "join {}, behind its router in {}; set the address {address} by hand",
                route_name(plan, *id, *route),
                plan.network(*id).name
            ),
            Self::OutsideBy(uplink, address) => format!(
                "ask the owner of {address} on the internet to run it, while its traffic arrives at {}",
                plan.uplinks()[*uplink].name
            ),
            Self::OutsideAt(address) => {
                format!("ask the owner of {address} on the internet to run it")
            }
            Self::Outside => {
                "stand outside, with a laptop on mobile data; not on any network of the site"
                    .to_owned()
            }
        }
    }
}

/// What a lease in a network is compared with, on one line that changes with any of it.
pub(super) fn leased(meaning: &Meaning<'_>, id: NetworkId) -> String {
    let vlan = meaning.plan().network(id).vlan.map(|vlan| format!("VLAN {vlan}, "));
    format!("{}{}", vlan.unwrap_or_default(), given(meaning, id))
}

/// What a network with a pool gives to a device that joins it, and what else would be a mistake.
fn given(meaning: &Meaning<'_>, id: NetworkId) -> String {
    let network = meaning.plan().network(id);
    let mut parts = Vec::new();
    if let Some(pool) = network.pool {
        parts.push(format!("an address by DHCP, {} to {}", pool.first(), pool.last()));
    }
    if let Some(subnet) = network.subnet(Family::V4) {
        let names = uses::names_everywhere(meaning, id);
        let what = if names { "router and resolver" } else { "router" };
        parts.push(format!("{what} {}", subnet.gateway()));
    }
    let v6 = network.subnets_of(Family::V6).map(|subnet| subnet.prefix().to_string());
    let v6: Vec<String> = v6.collect();
    parts.push(match v6.is_empty() {
        false => format!("IPv6 of {} alone", v6.join(" and ")),
        true => "no IPv6 address but fe80:".to_owned(),
    });
    parts.join(", ")
}

/// The name of a route, by its place among those of a network.
fn route_name(plan: &Plan, id: NetworkId, place: usize) -> &str {
    let mut behind = plan.routes().iter().filter(|route| route.network == id);
    behind.nth(place).map_or("", |route| route.name.as_str())
}

/// Where a laptop gets into a network: switch ports that carry it untagged, and Wi-Fi names.
fn sockets(plan: &Plan, id: NetworkId) -> Vec<String> {
    let wiring = plan.wiring();
    let switches = wiring.switches.iter().enumerate().filter_map(|(index, switch)| {
        // Where another switch or an access point hangs, nobody plugs in a laptop.
        let taken = |port: &str| {
            let hangs =
                |on: &Hang| matches!(on, Hang::Switch(at, own) if at.0 == index && own == port);
            switch.uplinks.iter().any(|own| own == port)
                || wiring.switches.iter().map(|other| &other.hangs_on).any(hangs)
                || wiring.access_points.iter().map(|point| &point.hangs_on).any(hangs)
        };
        let ports = switch.ports.iter().filter(|port| port.untagged == Some(id));
        let ports = ports.filter(|port| !taken(&port.name));
        let ports: Vec<&str> = ports.map(|port| port.name.as_str()).collect();
        let word = either(ports.len(), "port", "ports");
        (!ports.is_empty()).then(|| format!("{} {word} {}", switch.name, rows(&ports).join(", ")))
    });
    let wifi = wiring.wifi.iter().filter(|wifi| wifi.network == id);
    switches.chain(wifi.map(|wifi| format!("Wi-Fi {}", wifi.shown))).collect()
}

/// Numbers that follow each other as one: `3-8`.
fn rows(ports: &[&str]) -> Vec<String> {
    let follows = |one: &&str, next: &&str| {
        let numbers = (one.parse::<u32>(), next.parse::<u32>());
        matches!(numbers, (Ok(one), Ok(next)) if one.checked_add(1) == Some(next))
    };
    let rows = ports.chunk_by(follows).map(|row| match row {
        [first, .., last] => format!("{first}-{last}"),
        _ => row.concat(),
    });
    rows.collect()
}
