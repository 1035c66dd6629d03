//! Places: what a name, an address or a small expression of them stands for.

use super::ids::HostId;
use super::place_problem::PlaceProblem;
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use crate::space::{AddressSet, Interface, IntervalSet};
use ipnet::IpNet;
use std::collections::HashMap;
use std::net::IpAddr;
use std::ops::Range;

/// A place, resolved: the addresses that it has, and whether the gateway itself belongs to it.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Place {
    /// As it is written, list items joined by `, `.
    pub text: String,
    /// Its addresses. The gateway's are never among them.
    pub addresses: AddressSet,
    /// The networks that it names whole, by the interfaces on which they enter: a device on such a link
    /// belongs to it, also with a link-local address, where the gateway is spoken to.
    pub links: IntervalSet<Interface>,
    /// Whether the gateway itself belongs to it.
    pub gateway: bool,
    /// The hosts that it names to have them in.
    pub hosts: Vec<HostId>,
    /// The hosts that it names to have them out.
    pub without: Vec<HostId>,
}

impl Place {
    /// The union with another place; the text stays this one's.
    fn add(&mut self, other: &Self) {
        self.addresses = self.addresses.union(&other.addresses);
        self.links = self.links.union(&other.links);
        self.gateway |= other.gateway;
        self.hosts.extend(&other.hosts);
        self.without.extend(&other.without);
    }

    fn take_away(&mut self, other: &Self) {
        self.addresses = self.addresses.difference(&other.addresses);
        self.links = self.links.difference(&other.links);
        self.gateway &= !other.gateway;
        self.without.extend(&other.hosts);
    }
}

/// The kinds of things that share one space of names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A zone.
    Zone,
    /// A network.
    Network,
    /// A host.
    Host,
    /// A group.
    Group,
    /// A tunnel.
    Tunnel,
    /// A route.
    Route,
    /// A domain.
    Domain,
    /// An uplink.
    Uplink,
}

impl Kind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Zone => "zone",
            Self::Network => "network",
            Self::Host => "host",
            Self::Group => "group",
            Self::Tunnel => "tunnel",
            Self::Route => "route",
            Self::Domain => "domain",
            Self::Uplink => "uplink",
        }
    }
}

/// What is known about a name.
#[derive(Clone, Debug)]
pub(super) enum Reach {
    /// Where it is.
    Known(Place),
    /// A host that has no fixed address.
    NotFixed,
    /// An uplink that is leased its address, so that nobody knows its subnet.
    NotKnown,
    /// Its own declaration has a problem, which is reported there.
    Broken,
}

#[derive(Clone, Debug)]
pub(super) struct Entry {
    pub(super) name: Name,
    pub(super) kind: Kind,
    pub(super) at: Span,
    pub(super) reach: Reach,
}

/// All the names of a plan, and what lies inside and outside.
#[derive(Clone, Debug, Default)]
pub(super) struct Directory {
    entries: Vec<Entry>,
    by_name: HashMap<Name, usize>,
    pub(super) inside: AddressSet,
    /// What is inside and can be a device's.
    pub(super) devices: AddressSet,
    pub(super) internet: AddressSet,
    /// What lies in the uplinks' own subnets and is not the internet's: a provider's box at a private address.
    pub(super) beside: AddressSet,
    /// The interfaces of all networks and tunnels.
    pub(super) links: IntervalSet<Interface>,
    /// All addresses of the gateway: those in its networks, and those at its uplinks.
    pub(super) gateway: AddressSet,
    pub(super) gateway_inside: AddressSet,
    pub(super) gateway_outside: AddressSet,
    /// Addresses that only stand for something: nobody can name them as addresses.
    pub(super) placeholders: AddressSet,
}

impl Directory {
    pub(super) fn find(&self, name: &str) -> Option<&Entry> {
        self.by_name.get(name).map(|index| &self.entries[*index])
    }

    pub(super) fn insert(&mut self, entry: Entry) {
        self.by_name.insert(entry.name.clone(), self.entries.len());
        self.entries.push(entry);
    }

    /// Enters where something is, unless its name was taken by something of another kind.
    pub(super) fn set_reach(&mut self, name: &Name, kind: Kind, reach: Reach) {
        let entry = self.by_name.get(name).map(|index| &mut self.entries[*index]);
        if let Some(entry) = entry.filter(|entry| entry.kind == kind) {
            entry.reach = reach;
        }
    }

    /// The names that a place expression can use.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        let declared = self.entries.iter().map(|entry| entry.name.as_str());
        declared.chain(["any", "internet", "gateway"])
    }

    /// What a set is called in its family.
    pub(super) fn name_in_family(&self, addresses: &AddressSet) -> Option<String> {
        let same = |place: &AddressSet| match (addresses.v4.is_empty(), addresses.v6.is_empty()) {
            (false, true) => place.v4 == addresses.v4,
            (true, false) => place.v6 == addresses.v6,
            _ => place == addresses,
        };
        let known = |entry: &&Entry| match &entry.reach {
            Reach::Known(place) => !place.gateway && same(&place.addresses),
            _ => false,
        };
        if same(&self.internet) {
            return Some("internet".to_owned());
        }
        let found = self.entries.iter().find(known).map(|entry| entry.name.to_string());
        found.or_else(|| same(&self.anywhere()).then(|| "any".to_owned()))
    }

    /// The same, where a set is a network or a zone but for one place in it: `imaging - ultrasound`.
    pub(super) fn name_but_for_one(&self, addresses: &AddressSet) -> Option<String> {
        let (v4, v6) = (!addresses.v4.is_empty(), !addresses.v6.is_empty());
        self.entries.iter().find_map(|entry| {
            let (Reach::Known(place), Kind::Zone | Kind::Network) = (&entry.reach, entry.kind)
            else {
                return None;
            };
            if (v4 && v6) || addresses.is_empty() || !addresses.is_subset(&place.addresses) {
                return None;
            }
            let mut rest = place.addresses.difference(addresses);
            if v4 {
                rest.v6 = crate::space::IntervalSet::empty();
            } else {
                rest.v4 = crate::space::IntervalSet::empty();
            }
            let other = self.name_in_family(&rest).filter(|_| !rest.is_empty())?;
            Some(format!("{} - {other}", entry.name))
        })
    }

    /// Every place but the gateway.
    fn anywhere(&self) -> AddressSet {
        self.devices.union(&self.internet).union(&self.beside)
    }

    /// Resolves a list of expressions. `None` where a word has no meaning; if that has been reported
    /// already (a broken declaration elsewhere) nothing is added to `problems`.
    pub(super) fn place(&self, words: &[Text], problems: &mut Vec<PlaceProblem>) -> Option<Place> {
        let mut whole = Some(Place::default());
        let mut texts = Vec::new();
        for word in words {
            let part = self.expression(word, problems);
            texts.push(tokens(&word.value).map(|(token, _)| token).collect::<Vec<_>>().join(" "));
            whole = whole.zip(part).map(|(mut whole, part)| {
                whole.add(&part);
                whole
            });
        }
        if words.is_empty() {
            problems.push(PlaceProblem::Empty { at: None });
            return None;
        }
        whole.map(|place| Place { text: texts.join(", "), ..place })
    }

    /// `term`, or `term + term - term …`, read from the left.
    fn expression(&self, text: &Text, problems: &mut Vec<PlaceProblem>) -> Option<Place> {
        let mut result = Some(Place::default());
        let mut sign = Some('+');
        let mut last = None;
        for (token, range) in tokens(&text.value) {
            let at = text.part(range);
            last = Some(at);
            match (token, sign) {
                ("+" | "-", Some(_)) => {
                    problems.push(PlaceProblem::StraySign { at });
                    return None;
                }
                ("+", None) => sign = Some('+'),
                ("-", None) => sign = Some('-'),
                (_, None) => {
                    problems.push(PlaceProblem::MissingSign { word: token.to_owned(), at });
                    return None;
                }
                (word, Some(operator)) => {
                    let term = self.term(word, at, problems);
                    result = result.zip(term).map(|(mut place, term)| {
                        if operator == '+' {
                            place.add(&term);
                        } else {
                            place.take_away(&term);
                        }
                        place
                    });
                    sign = None;
                }
            }
        }
        if sign.is_some() {
            problems.push(match last {
                Some(at) => PlaceProblem::StraySign { at },
                None => PlaceProblem::Empty { at: Some(text.at) },
            });
            return None;
        }
        result
    }

    fn term(&self, word: &str, at: Span, problems: &mut Vec<PlaceProblem>) -> Option<Place> {
        match word {
            "any" => {
                let (addresses, links) = (self.anywhere(), self.links.clone());
                return Some(Place { addresses, links, ..Place::default() });
            }
            "internet" => return Some(plain(self.internet.clone())),
            "gateway" => return Some(Place { gateway: true, ..Place::default() }),
            _ => {}
        }
        let word_owned = || word.to_owned();
        let problem = match self.find(word).map(|entry| &entry.reach) {
            Some(Reach::Known(place)) => return Some(place.clone()),
            Some(Reach::Broken) => return None,
            Some(Reach::NotFixed) => PlaceProblem::NotFixed { host: word_owned(), at },
            Some(Reach::NotKnown) => PlaceProblem::NotKnown { uplink: word_owned(), at },
            None if word.contains(['.', ':', '/']) => match literal(word) {
                Ok(addresses) => match self.settle(word, addresses, at) {
                    Ok(place) => return Some(place),
                    Err(problem) => problem,
                },
                Err(problem) => problem.into_problem(word_owned(), at),
            },
            None => PlaceProblem::Unknown { word: word_owned(), nearest: self.meant(word), at },
        };
        problems.push(problem);
        None
    }

    /// What may have been meant by a word that is no name: everything but a place, or the nearest name.
    fn meant(&self, word: &str) -> Option<String> {
        let others = word.strip_prefix('!').or_else(|| word.strip_prefix("not-"));
        match others.map(str::trim).filter(|name| self.find(name).is_some()) {
            Some(name) => Some(format!("any - {name}")),
            None => nearest(word, self.names()).map(str::to_owned),
        }
    }

    /// Checks that a literal lies somewhere, and takes the gateway's own addresses out of it.
    fn settle(&self, word: &str, all: AddressSet, at: Span) -> Result<Place, PlaceProblem> {
        let word = word.to_owned();
        let all = all.difference(&self.placeholders);
        let addresses = all.difference(&self.gateway);
        if addresses.is_empty() && !all.is_empty() {
            return Err(PlaceProblem::GatewaysOwn { word, at });
        }
        let somewhere = [&self.inside, &self.internet, &self.beside];
        if somewhere.iter().all(|place| addresses.is_disjoint(place)) {
            return Err(PlaceProblem::Nowhere { word, at });
        }
        Ok(plain(addresses))
    }
}

fn plain(addresses: AddressSet) -> Place {
    Place { addresses, ..Place::default() }
}

/// The words of an expression, with their byte ranges.
fn tokens(text: &str) -> impl Iterator<Item = (&str, Range<usize>)> {
    text.split_whitespace().map(move |token| {
        let start = token.as_ptr() as usize - text.as_ptr() as usize;
        (token, start..start + token.len())
    })
}

/// The words of a group member that may be names.
pub(super) fn names_in(text: &str) -> impl Iterator<Item = &str> {
    tokens(text).map(|(token, _)| token).filter(|token| !matches!(*token, "+" | "-"))
}

/// Why a word that looks like addresses is none.
enum NotAddresses {
    Unreadable,
    HostBits(IpNet),
    Reversed,
    TwoFamilies,
}

impl NotAddresses {
    fn into_problem(self, word: String, at: Span) -> PlaceProblem {
        match self {
            Self::Unreadable => PlaceProblem::NotAnAddress { word, at },
            Self::HostBits(prefix) => PlaceProblem::HostBits { word, prefix, at },
            Self::Reversed => PlaceProblem::Reversed { word, at },
            Self::TwoFamilies => PlaceProblem::TwoFamilies { word, at },
        }
    }
}

fn literal(word: &str) -> Result<AddressSet, NotAddresses> {
    if let Ok(address) = word.parse::<IpAddr>() {
        return Ok(address.into());
    }
    if let Ok(prefix) = word.parse::<IpNet>() {
        return match prefix == prefix.trunc() {
            true => Ok(prefix.into()),
            false => Err(NotAddresses::HostBits(prefix.trunc())),
        };
    }
    let (first, last) = word.split_once('-').ok_or(NotAddresses::Unreadable)?;
    let end = |text: &str| text.parse::<IpAddr>().map_err(|_| NotAddresses::Unreadable);
    let (first, last) = (end(first)?, end(last)?);
    if first.is_ipv4() != last.is_ipv4() {
        return Err(NotAddresses::TwoFamilies);
    }
    if first > last {
        return Err(NotAddresses::Reversed);
    }
    Ok(AddressSet::range(first, last))
}
