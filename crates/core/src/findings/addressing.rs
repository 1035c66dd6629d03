//! Subnets, pools and VLAN ids.

use crate::addressing::{Growth, Subnet, derive};
use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::name::Name;
use crate::plan::{Network, Plan};
use crate::service::built_in;
use crate::source::Span;
use crate::space::{AddressSet, Family, ServiceSet};
use crate::words::{count, either};
use ipnet::IpNet;
use std::net::IpAddr;

/// A finding about addresses.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum AddressingFinding {
    /// A fixed address that the pool leases out too.
    FixedInPool { host: Name, address: IpAddr, network: Name, at: Span },
    /// More devices than addresses.
    TooSmall { network: Name, expected: u32, room: u128, growth: Option<Growth>, at: Span },
    /// A subnet that was carved and does not stand in the file.
    NotPinned { network: Name, prefixes: Vec<IpNet>, at: Span },
    /// More devices than leases and fixed addresses.
    PoolTooSmall { network: Name, expected: u32, leases: u64, fixed: usize, at: Span },
    /// VLAN 1.
    VlanOne { network: Name, at: Span },
    /// Nothing is said about leases.
    NoDhcp { network: Name, at: Span },
    /// A pool, but no way to ask for a lease.
    PoolClosed { network: Name, at: Span },
    /// A subnet that is not the one that the VLAN id stands for.
    OffTie { network: Name, prefix: IpNet, vlan: u16, tied: IpNet, at: Span },
    /// A subnet outside the site's own space.
    OutsideSpace { network: Name, prefix: IpNet, at: Span },
}

impl Diagnose for AddressingFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::FixedInPool { host, address, network, at } => warning("fixed-in-pool", at)
                .says(format!("{address} of host `{host}` is in the DHCP pool of `{network}`"))
                .why("it may be leased to another device while the host is off")
                .help("choose an address outside the pool, or narrow the pool"),
            Self::TooSmall { network, expected, room, growth, at } => warning("subnet-too-small", at)
                .says(format!(
                    "`{network}` expects {}, but has only {room} {}",
                    count(*expected, "device"),
                    either(*room, "address", "addresses")
                ))
                .why("the last devices to connect get no address")
                .help(growth_words(growth.as_ref())),
            Self::NotPinned { network, prefixes, at } => advice("not-pinned", at)
                .says(format!("the subnet of `{network}` is assigned automatically and not written in the plan: {}", words(prefixes)))
                .why("when the plan changes, the subnet may change, and its devices need new addresses")
                .help("run `bastium addresses --pin` to write it into the plan"),
            Self::PoolTooSmall { network, expected, leases, fixed, at } => warning("pool-too-small", at)
                .says(format!(
                    "`{network}` expects {}, but has {} and {fixed} fixed {}",
                    count(*expected, "device"),
                    count(*leases, "lease"),
                    either(*fixed, "address", "addresses")
                ))
                .why("the last devices to connect get no address")
                .help("widen the pool"),
            Self::VlanOne { network, at } => warning("vlan-one", at)
                .says(format!("`{network}` is on VLAN 1"))
                .why("switches put unconfigured ports into VLAN 1, so whoever plugs in there joins this network")
                .help("choose another id"),
            Self::NoDhcp { network, at } => advice("no-dhcp", at)
                .says(format!("`{network}` has no `dhcp` key"))
                .why("a device that is plugged in gets no address")
                .help("add `dhcp = \"100-199\"`, or `dhcp = false` if its devices have fixed addresses"),
            Self::PoolClosed { network, at } => warning("pool-closed", at)
                .says(format!("`{network}` has a DHCP pool, but its devices may not use the gateway for DHCP"))
                .why("its devices get no address")
                .help("add \"dhcp\" to `uses-gateway-for` of the network or its zone"),
            Self::OffTie { network, prefix, vlan, tied, at } => warning("off-tie", at)
                .says(format!("`{network}` has VLAN {vlan} and subnet {prefix}, but `site.tie` would make it {tied}"))
                .why("readers rely on the tie, and would take its addresses for another network's")
                .help(format!("remove `subnet`, or write {tied}, or use the VLAN id that matches the subnet")),
            Self::OutsideSpace { network, prefix, at } => warning("outside-space", at)
                .says(format!("{prefix} of `{network}` is outside `site.space`"))
                .why("`site.space` is what belongs to this site; another site may use the subnet")
                .help("choose a subnet inside it, or widen the space"),
        }
    }
}

fn words(prefixes: &[IpNet]) -> String {
    prefixes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

fn growth_words(growth: Option<&Growth>) -> String {
    let Some(growth) = growth else {
        return "give it a larger subnet; the space has none free, so widen that too".to_owned();
    };
    let prefix = growth.prefix;
    match (growth.in_place, growth.moves.as_slice()) {
        (true, []) => format!("widen it to {prefix}: no device moves"),
        (false, _) => format!("give it {prefix}, which is free: only its own devices move"),
        (true, moves) => {
            let moves = moves.iter().map(|(from, to)| format!("{from} to {to}"));
            format!("widen it to {prefix}, and move {}", moves.collect::<Vec<_>>().join(", "))
        }
    }
}

pub(super) fn find(plan: &Plan) -> Vec<AddressingFinding> {
    let mut found = Vec::new();
    let dhcp = built_in("dhcp").map(|service| service.set()).unwrap_or_default();
    for id in plan.network_ids() {
        let network = plan.network(id);
        let hosts: Vec<_> = plan.hosts().iter().filter(|host| host.network == id).collect();
        size(plan, network, hosts.iter().map(|host| host.addresses.as_slice()), &mut found);
        lease(plan, network, &dhcp, &mut found);
        let (name, at) = (network.name.clone(), network.at);
        if network.carved {
            let prefixes = network.subnets.iter().map(Subnet::prefix).collect();
            found.push(AddressingFinding::NotPinned { network: name.clone(), prefixes, at });
        }
        if network.vlan == Some(1) {
            found.push(AddressingFinding::VlanOne { network: name.clone(), at: network.vlan_at });
        }
        found.extend(off_tie(plan, network));
        let space: AddressSet = plan.site().space.iter().copied().collect();
        for prefix in network.subnets.iter().map(Subnet::prefix) {
            let inside = AddressSet::from(prefix).is_subset(&space);
            if !space.is_empty() && !inside {
                found.push(AddressingFinding::OutsideSpace { network: name.clone(), prefix, at });
            }
        }
        for host in hosts {
            for &address in &host.addresses {
                if network.pool.is_some_and(|pool| pool.contains(address)) {
                    let (host, at, network) = (host.name.clone(), host.at, name.clone());
                    found.push(AddressingFinding::FixedInPool { host, address, network, at });
                }
            }
        }
    }
    found
}

/// The subnets that have another place in the site's space than their VLAN id says.
fn off_tie(plan: &Plan, network: &Network) -> Vec<AddressingFinding> {
    let (Some(vlan), site) = (network.vlan, plan.site()) else { return Vec::new() };
    let Ok(tied) = derive(site.tie, Some(vlan), &site.space) else { return Vec::new() };
    // What lies outside the space is another finding; and in a part of it that has no subnet for the id, any may be
    // chosen.
    let inside = |prefix: &IpNet| {
        let ties = |space: &IpNet| tied.iter().any(|tied| space.contains(tied));
        site.space.iter().any(|space| space.contains(prefix) && ties(space))
    };
    let own = network.subnets.iter().map(Subnet::prefix).filter(inside);
    let away = own.filter_map(|prefix| {
        let here = |tied: &&IpNet| tied.addr().is_ipv4() == prefix.addr().is_ipv4();
        let meets = |tied: &&IpNet| tied.contains(&prefix) || prefix.contains(*tied);
        let mut near = tied.iter().filter(here).peekable();
        let first = **near.peek()?;
        (!near.any(|tied| meets(&tied))).then(|| AddressingFinding::OffTie {
            network: network.name.clone(),
            prefix,
            vlan,
            tied: first,
            at: network.vlan_at,
        })
    });
    if network.carved { Vec::new() } else { away.collect() }
}

fn size<'a>(
    plan: &Plan,
    network: &Network,
    hosts: impl Iterator<Item = &'a [IpAddr]>,
    found: &mut Vec<AddressingFinding>,
) {
    let Some(expected) = network.expected else { return };
    let (name, at) = (network.name.clone(), network.at);
    let v4 = network.subnets.iter().filter(|s| s.prefix().addr().is_ipv4());
    let v6_only = v4.clone().next().is_none();
    let room = v4.map(Subnet::room).fold(0u128, u128::saturating_add);
    if !v6_only && u128::from(expected) > room {
        let growth = plan.growth(network);
        found.push(AddressingFinding::TooSmall { network: name, expected, room, growth, at });
        return;
    }
    let Some(pool) = network.pool else { return };
    let outside = |address: &IpAddr| address.is_ipv4() && !pool.contains(*address);
    let fixed = hosts.filter(|addresses| addresses.iter().any(outside)).count();
    let leases = pool.size();
    if u64::from(expected) > leases.saturating_add(fixed as u64) {
        found.push(AddressingFinding::PoolTooSmall { network: name, expected, leases, fixed, at });
    }
}

fn lease(plan: &Plan, network: &Network, dhcp: &ServiceSet, found: &mut Vec<AddressingFinding>) {
    let (name, at) = (network.name.clone(), network.at);
    let has_v4 = network.subnet(Family::V4).is_some();
    if !network.dhcp_said && has_v4 {
        found.push(AddressingFinding::NoDhcp { network: name.clone(), at });
    }
    let uses = network.uses.as_ref().or(plan.zone(network.zone).uses.as_ref());
    let may_ask = uses.is_some_and(|uses| dhcp.v4.is_subset(&uses.set.v4));
    if network.pool.is_some() && !may_ask {
        found.push(AddressingFinding::PoolClosed { network: name, at });
    }
}
