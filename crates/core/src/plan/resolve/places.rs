//! Places: what zones, networks, hosts and groups stand for.

use super::super::draft;
use super::super::parts::{Group, Host, HostId, Network, Zone};
use super::super::place::{Directory, Place, Reach, names_in};
use super::{Workshop, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::name::Name;
use crate::source::Span;
use crate::space::AddressSet;
use ipnet::IpNet;
use std::collections::{HashMap, HashSet};

/// What can be wrong with a place.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum PlaceProblem {
    /// There is no word in it.
    Empty { at: Option<Span> },
    /// No such name.
    Unknown { word: String, nearest: Option<String>, at: Span },
    /// A name that a table declares which is not read yet.
    Unread { word: String, table: String, at: Span },
    /// A host without a fixed address.
    NotFixed { host: String, at: Span },
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
                .says("no place is named here")
                .cure("name one; `any` means every place but the gateway"),
            Self::Unknown { word, nearest, at } => error("unknown-name", at)
                .says(format!("nothing in the plan is called `{word}`"))
                .cure(nearest_or(
                    nearest.as_ref(),
                    "declare it as a zone, network, host or group, or write an address",
                )),
            Self::Unread { word, table, at } => error("not-read-yet", at)
                .says(format!("`{word}` is declared as a {table}, which this version does not read yet"))
                .why("left out, the rest would mean something else than it says")
                .cure("name an address, a prefix or a group instead, or take the entry out until then"),
            Self::NotFixed { host, at } => error("address-not-fixed", at)
                .says(format!("host `{host}` has no fixed address, so no rule can name it"))
                .why("it gets another address with its next lease, and the rule would then speak of another device")
                .cure(format!("give `[host.{host}]` an `address` outside the pool")),
            Self::NotAnAddress { word, at } => error("bad-address", at)
                .says(format!("`{word}` is not an address, a prefix or a range"))
                .cure("write 10.44.24.40, 10.44.24.0/24, 10.44.24.40-10.44.24.47, or the like in IPv6"),
            Self::HostBits { word, prefix, at } => error("host-bits", at)
                .says(format!("`{word}` has bits set behind its prefix length"))
                .cure(format!("write `{prefix}` for the prefix, or leave the length out for the one address")),
            Self::Reversed { word, at } => error("reversed-range", at)
                .says(format!("the range `{word}` runs backwards"))
                .cure("write the lower address first"),
            Self::TwoFamilies { word, at } => error("bad-address", at)
                .says(format!("the range `{word}` begins in one address family and ends in the other"))
                .cure("write one range for IPv4 and one for IPv6"),
            Self::GatewaysOwn { word, at } => error("gateways-own-address", at)
                .says(format!("`{word}` is an address of the gateway"))
                .cure("write `gateway` for the gateway itself"),
            Self::Nowhere { word, at } => error("address-nowhere", at)
                .says(format!("`{word}` lies in no network of this plan and is not on the internet"))
                .why("no packet from or to it has a way through the gateway")
                .cure("correct the address, or declare the network it belongs to"),
            Self::MissingSign { word, at } => error("bad-place", at)
                .says(format!("a `+` or `-` is missing before `{word}`"))
                .cure("write `staff + guests`, `any - printers`, or a list"),
            Self::StraySign { at } => error("bad-place", at)
                .says("a `+` or `-` stands without a name on each side")
                .cure("write it between two names, with spaces around it"),
            Self::Circle { names, at } => error("group-circle", at)
                .says(format!("these groups hold each other: {}", names.join(" -> ")))
                .cure("take one of them out of the other's `members`"),
        }
    }
}

/// Enters what zones and networks stand for.
pub(super) fn reach_of_zones(
    zones: &[Zone],
    networks: &[Option<Network>],
    directory: &mut Directory,
) {
    let known = |addresses| Reach::Known(Place { addresses, ..Place::default() });
    for network in networks.iter().flatten() {
        directory.set_reach(&network.name, known(network.device_addresses()));
    }
    for (index, zone) in zones.iter().enumerate() {
        let own = networks.iter().flatten().filter(|n| n.zone.0 == index);
        let addresses: AddressSet = own.map(Network::device_addresses).collect();
        directory.set_reach(&zone.name, known(addresses));
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
        directory.set_reach(&host.name, reach);
    }
}

/// Resolves the groups, each after those it holds.
pub(super) fn groups(drafts: &[draft::Group], shop: &mut Workshop) -> Vec<Group> {
    let named = drafts.iter().enumerate();
    let mut waiting: Vec<(usize, &draft::Group)> =
        named.filter(|(_, draft)| Name::new(&draft.name.value).is_ok()).collect();
    let mut done: Vec<(usize, Group)> = Vec::new();
    while !waiting.is_empty() {
        let pending: HashSet<&str> = waiting.iter().map(|w| w.1.name.value.as_str()).collect();
        let waits = |draft: &draft::Group| {
            draft.members.iter().flat_map(|m| names_in(&m.value)).any(|n| pending.contains(n))
        };
        let (blocked, ready): (Vec<_>, Vec<_>) = waiting.into_iter().partition(|w| waits(w.1));
        if ready.is_empty() {
            report_circle(&blocked, shop);
            break;
        }
        for (index, draft) in ready {
            let Ok(name) = Name::new(&draft.name.value) else { continue };
            let Some(place) = shop.place(&draft.members, draft.name.at) else { continue };
            shop.directory.set_reach(&name, Reach::Known(place.clone()));
            done.push((index, Group { name, place, at: draft.name.at }));
        }
        waiting = blocked;
    }
    done.sort_by_key(|entry| entry.0);
    done.into_iter().map(|entry| entry.1).collect()
}

fn report_circle(blocked: &[(usize, &draft::Group)], shop: &mut Workshop) {
    let names = |draft: &draft::Group| {
        draft.members.iter().flat_map(|m| names_in(&m.value)).map(str::to_owned).collect::<Vec<_>>()
    };
    let members: Vec<(String, Vec<String>)> =
        blocked.iter().map(|(_, draft)| (draft.name.value.clone(), names(draft))).collect();
    let edges = members
        .iter()
        .map(|(name, members)| (name.as_str(), members.iter().map(String::as_str).collect()))
        .collect();
    let Some(found) = circle(&edges, blocked[0].1.name.value.as_str()) else { return };
    let member = blocked.iter().find(|b| b.1.name.value == found[0]);
    let at = member.map_or(Span::default(), |b| b.1.name.at);
    let names = found.iter().map(ToString::to_string).collect();
    shop.problem(PlaceProblem::Circle { names, at });
}

/// One circle that can be reached from `start`, its first name again at the end. Every node of
/// `edges` must lead to another one of them.
pub(super) fn circle<'a>(
    edges: &HashMap<&'a str, Vec<&'a str>>,
    start: &'a str,
) -> Option<Vec<&'a str>> {
    let mut path = vec![start];
    loop {
        let here = *path.last()?;
        let next = edges.get(here)?.iter().copied().find(|name| edges.contains_key(name))?;
        if let Some(first) = path.iter().position(|name| *name == next) {
            path.push(next);
            return Some(path.split_off(first));
        }
        path.push(next);
    }
}
