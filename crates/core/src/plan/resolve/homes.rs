//! Where each network's subnets come from: written in the plan, derived from its VLAN id, or carved from the space.

use super::super::draft::{self, Draft};
use super::super::model::Site;
use super::{NetworkProblem, Resolver};
use crate::addressing::{FreeSpace, NoSubnet, derive, prefix_for};
use crate::name::Name;
use crate::source::{Span, Text};
use crate::space::AddressSet;
use ipnet::IpNet;

/// Where a network's subnets come from.
pub(super) enum Home {
    /// The file gives them, or they follow from its VLAN id.
    Said(Vec<(IpNet, Span)>),
    /// They are carved out of what is free of the space.
    Carved(Vec<(IpNet, Span)>),
    /// There is none, which has been reported.
    Nowhere,
}

/// Finds the subnets of every network: those that are said first, so that what is carved meets none
/// of them; then the largest first.
pub(super) fn homes(draft: &Draft, site: &Site, resolver: &mut Resolver) -> Vec<Home> {
    let mut homes: Vec<Option<Home>> =
        draft.networks.iter().map(|network| said(network, site, resolver)).collect();
    let mut waiting: Vec<usize> = (0..homes.len()).filter(|i| homes[*i].is_none()).collect();
    let wanted = |index: usize| {
        let hosts = draft.networks[index].hosts;
        prefix_for(hosts.map(|hosts| u32::try_from(hosts.value).unwrap_or(0)))
    };
    // A network that is declared further down never moves one above it, unless it is larger.
    waiting.sort_by_key(|index| (wanted(*index), *index));
    let mut free = free(draft, site, &homes);
    for index in waiting {
        let network = &draft.networks[index];
        let carved = wanted(index).and_then(|length| carve(length, network, site, &mut free));
        homes[index] = Some(carved.unwrap_or_else(|| {
            homeless(network, NoSubnet::NoRoom, resolver);
            Home::Nowhere
        }));
    }
    homes.into_iter().map(|home| home.unwrap_or(Home::Nowhere)).collect()
}

/// What is left of the space beside all that is said.
fn free(draft: &Draft, site: &Site, homes: &[Option<Home>]) -> FreeSpace {
    let tunnels = draft.tunnels.iter().flat_map(|tunnel| &tunnel.clients);
    let routes = draft.routes.iter().filter_map(|route| route.to.as_ref());
    let uplinks = draft.uplinks.iter().flat_map(|uplink| &uplink.address);
    let elsewhere = tunnels.chain(routes).chain(uplinks);
    let elsewhere = elsewhere.filter_map(|word| Some(word.value.parse::<IpNet>().ok()?.trunc()));
    let said = homes.iter().flatten().flat_map(|home| match home {
        Home::Said(prefixes) => prefixes.as_slice(),
        Home::Carved(_) | Home::Nowhere => &[],
    });
    let used: AddressSet = said.map(|entry| entry.0).chain(elsewhere).collect();
    FreeSpace::new(&site.space.iter().copied().collect(), &used)
}

fn carve(length: u8, network: &draft::Network, site: &Site, free: &mut FreeSpace) -> Option<Home> {
    let has = |v4: bool| site.space.iter().any(|prefix| prefix.addr().is_ipv4() == v4);
    let at = network.name.at;
    let mut prefixes = Vec::new();
    if has(true) {
        prefixes.push((free.take_v4(length)?, at));
    }
    if has(false) {
        prefixes.push((free.take_v6()?, at));
    }
    Some(Home::Carved(prefixes))
}

/// The subnets that are given, or that follow; `None` if they are to be carved.
fn said(draft: &draft::Network, site: &Site, resolver: &mut Resolver) -> Option<Home> {
    let given = draft.subnets.as_ref().filter(|given| !given.is_empty());
    if let Some(given) = given {
        let prefixes = given.iter().map(|text| prefix(text, resolver).map(|p| (p, text.at)));
        return Some(prefixes.collect::<Option<_>>().map_or(Home::Nowhere, Home::Said));
    }
    let vlan = vlan(draft);
    if draft.troubled || (draft.vlan.is_some() && vlan.is_none()) {
        return Some(Home::Nowhere);
    }
    match derive(site.tie, vlan, &site.space) {
        Ok(derived) => {
            let prefixes = derived.into_iter().map(|prefix| (prefix, draft.name.at));
            return Some(Home::Said(prefixes.collect()));
        }
        Err(_) if !resolver.subnets_follow => {}
        Err(NoSubnet::NotTied | NoSubnet::AboveOctet) if !site.space.is_empty() => return None,
        Err(reason) => homeless(draft, reason, resolver),
    }
    Some(Home::Nowhere)
}

fn homeless(draft: &draft::Network, reason: NoSubnet, resolver: &mut Resolver) {
    if let Ok(network) = Name::new(&draft.name.value) {
        let (vlan, at) = (vlan(draft), draft.name.at);
        resolver.problem(NetworkProblem::NoSubnet { network, reason, vlan, at });
    }
}

/// The VLAN id of a draft, if it is one.
pub(super) fn vlan(draft: &draft::Network) -> Option<u16> {
    let vlan = draft.vlan.and_then(|vlan| u16::try_from(vlan.value).ok());
    vlan.filter(|id| (1..=4094).contains(id))
}

/// The prefix of a subnet, if it is one.
pub(super) fn prefix(text: &Text, resolver: &mut Resolver) -> Option<IpNet> {
    let word = text.value.clone();
    match text.value.parse::<IpNet>() {
        Ok(prefix) if prefix == prefix.trunc() => return Some(prefix),
        Ok(prefix) => {
            let prefix = prefix.trunc();
            resolver.problem(NetworkProblem::HostBits { word, prefix, at: text.at });
        }
        Err(_) => resolver.problem(NetworkProblem::NotASubnet { word, at: text.at }),
    }
    None
}
