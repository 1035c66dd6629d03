//! Hosts: that each lies in its network, and that no two share an address.

use super::super::draft;
use super::super::ids::NetworkId;
use super::super::model::{Host, Network};
use super::{NetworkProblem, Resolver, names, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use macaddr::MacAddr6;
use std::collections::HashMap;
use std::net::IpAddr;

/// What can be wrong with a host.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum HostProblem {
    /// It names no network.
    NoNetwork { host: Name, at: Span },
    /// It names a network that is not there.
    UnknownNetwork { word: String, nearest: Option<String>, at: Span },
    /// Its address lies outside its network.
    Outside { address: IpAddr, network: Name, home: Option<Name>, at: Span },
    /// Its address is the gateway's.
    IsGateway { address: IpAddr, at: Span },
    /// Its address is the network's own or the broadcast one.
    Reserved { address: IpAddr, at: Span },
    /// Another host has its address.
    AddressTaken { address: IpAddr, other: Name, at: Span, first: Span },
    /// Its hardware address is none.
    NotAMac { word: String, at: Span },
    /// Another host has its hardware address.
    MacTaken { mac: MacAddr6, other: Name, at: Span, first: Span },
}

impl Diagnose for HostProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::NoNetwork { host, at } => error("no-network", at)
                .says(format!("host `{host}` has no network"))
                .help("add a line like `network = \"desks\"`"),
            Self::UnknownNetwork { word, nearest, at } => error("unknown-network", at)
                .says(format!("no network is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[network.NAME]`")),
            Self::Outside { address, network, home, at } => error("address-outside", at)
                .says(format!("{address} is not in network `{network}`"))
                .why("the device could not reach its gateway")
                .help(match home {
                    Some(home) => format!("correct the address, or write `network = \"{home}\"`, where it lies"),
                    None => "correct the address".to_owned(),
                }),
            Self::IsGateway { address, at } => error("address-taken", at)
                .says(format!("{address} is the gateway's own address"))
                .why("two devices with the same address disconnect each other")
                .help("choose another address"),
            Self::Reserved { address, at } => error("address-reserved", at)
                .says(format!("{address} is the network or broadcast address of its subnet"))
                .why("no device can use it")
                .help("choose another address"),
            Self::AddressTaken { address, other, at, first } => error("address-taken", at)
                .says(format!("{address} is already the address of host `{other}`"))
                .why("two devices with the same address disconnect each other")
                .help("give one of the two another address")
                .also(*first, "the other one"),
            Self::NotAMac { word, at } => error("bad-mac", at)
                .says(format!("`{word}` is not the MAC address of a device"))
                .help("write six bytes like 02:00:5e:36:00:10; an odd first byte marks a multicast address"),
            Self::MacTaken { mac, other, at, first } => error("mac-taken", at)
                .says(format!("{mac} is already the MAC address of host `{other}`"))
                .why("only one of the two can have the reservation")
                .help("correct one of the two")
                .also(*first, "the other one"),
        }
    }
}

/// The hosts; `None` where one cannot be built.
pub(super) fn hosts(
    drafts: &[draft::Host],
    networks: &[Option<Network>],
    resolver: &mut Resolver,
) -> Vec<Option<Host>> {
    let by_name: HashMap<&str, usize> = networks
        .iter()
        .enumerate()
        .filter_map(|(index, network)| Some((network.as_ref()?.name.as_str(), index)))
        .collect();
    let mut taken = Taken::default();
    drafts.iter().map(|draft| host(draft, networks, &by_name, &mut taken, resolver)).collect()
}

/// The addresses that hosts have so far.
#[derive(Default)]
struct Taken {
    addresses: HashMap<IpAddr, (Name, Span)>,
    macs: HashMap<MacAddr6, (Name, Span)>,
}

fn host(
    draft: &draft::Host,
    networks: &[Option<Network>],
    by_name: &HashMap<&str, usize>,
    taken: &mut Taken,
    resolver: &mut Resolver,
) -> Option<Host> {
    let name = Name::new(&draft.name.value).ok()?;
    let index = home(draft, &name, by_name, resolver);
    let network = index.and_then(|index| networks[index].as_ref());
    let mut addresses = Vec::new();
    for word in &draft.addresses {
        let Ok(address) = word.value.parse::<IpAddr>() else {
            resolver
                .problem(NetworkProblem::NotAnAddress { word: word.value.clone(), at: word.at });
            continue;
        };
        if let Some(network) = network {
            check_address(address, network, networks, word, resolver);
        }
        let (at, other) = (word.at, taken.addresses.get(&address).cloned());
        match other {
            Some((other, first)) => {
                resolver.problem(HostProblem::AddressTaken { address, other, at, first })
            }
            None => drop(taken.addresses.insert(address, (name.clone(), at))),
        }
        addresses.push(address);
    }
    let mac = draft.mac.as_ref().and_then(|word| mac(word, &name, taken, resolver));
    let broken = addresses.len() < draft.addresses.len();
    let tags = names::tags(&draft.tags, resolver);
    let network = NetworkId(index?);
    (!broken).then_some(Host { name, tags, network, addresses, mac, at: draft.name.at })
}

fn home(
    draft: &draft::Host,
    name: &Name,
    by_name: &HashMap<&str, usize>,
    resolver: &mut Resolver,
) -> Option<usize> {
    let Some(word) = &draft.network else {
        resolver.problem(HostProblem::NoNetwork { host: name.clone(), at: draft.name.at });
        return None;
    };
    let index = by_name.get(word.value.as_str()).copied();
    if index.is_none() && !resolver.declares_network(&word.value) {
        resolver.problem(HostProblem::UnknownNetwork {
            word: word.value.clone(),
            nearest: nearest(&word.value, by_name.keys().copied()).map(str::to_owned),
            at: word.at,
        });
    }
    index
}

fn check_address(
    address: IpAddr,
    network: &Network,
    networks: &[Option<Network>],
    word: &Text,
    resolver: &mut Resolver,
) {
    let at = word.at;
    let holds = |network: &&Network| network.prefixes().contains(address);
    if !holds(&network) {
        let home = networks.iter().flatten().find(holds).map(|home| home.name.clone());
        let network = network.name.clone();
        resolver.problem(HostProblem::Outside { address, network, home, at });
    } else if network.subnets.iter().any(|s| s.gateway() == address) {
        resolver.problem(HostProblem::IsGateway { address, at });
    } else if !network.device_addresses().contains(address) {
        resolver.problem(HostProblem::Reserved { address, at });
    }
}

fn mac(word: &Text, name: &Name, taken: &mut Taken, resolver: &mut Resolver) -> Option<MacAddr6> {
    let at = word.at;
    let single = |mac: &MacAddr6| mac.is_unicast() && !mac.is_nil();
    let Some(mac) = word.value.parse::<MacAddr6>().ok().filter(single) else {
        resolver.problem(HostProblem::NotAMac { word: word.value.clone(), at });
        return None;
    };
    match taken.macs.get(&mac).cloned() {
        Some((other, first)) => resolver.problem(HostProblem::MacTaken { mac, other, at, first }),
        None => drop(taken.macs.insert(mac, (name.clone(), at))),
    }
    Some(mac)
}
