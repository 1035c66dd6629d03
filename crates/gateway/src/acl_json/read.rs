//! Reads access control lists of RFC 8519 into types: each entry as what it matches, exactly, and whatever is not
//! understood by its name. Nothing is approximated.

pub(crate) use super::entry::{Answer, Entry};
use super::entry::{Leaves, Segments, header, icmp, transport};
use bastium_core::plan::Action;
use bastium_core::space::{AddressSet, Family, Protocol, ServiceSet};
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;

/// The file (RFC 8519 4.1, in the encoding of RFC 7951).
#[derive(Clone, Debug, Deserialize)]
struct File {
    #[serde(rename = "ietf-access-control-list:acls", alias = "acls")]
    acls: Acls,
}

/// All lists, and where they are put.
#[derive(Clone, Debug, Deserialize)]
pub(crate) struct Acls {
    #[serde(default, rename = "acl")]
    pub(crate) lists: Vec<List>,
    #[serde(default, rename = "attachment-points")]
    points: Points,
    #[serde(flatten)]
    rest: BTreeMap<String, Value>,
}

#[derive(Clone, Debug, Default, Deserialize)]
struct Points {
    #[serde(default)]
    interface: Vec<Point>,
    #[serde(flatten)]
    rest: Leaves,
}

/// An interface with its lists.
#[derive(Clone, Debug, Deserialize)]
pub(crate) struct Point {
    #[serde(rename = "interface-id")]
    pub(crate) interface: String,
    #[serde(default)]
    ingress: Way,
    #[serde(default)]
    egress: Way,
    #[serde(flatten)]
    rest: BTreeMap<String, Value>,
}

#[derive(Clone, Debug, Default, Deserialize)]
struct Way {
    #[serde(default, rename = "acl-sets")]
    sets: Sets,
    #[serde(flatten)]
    rest: Leaves,
}

#[derive(Clone, Debug, Default, Deserialize)]
struct Sets {
    #[serde(default, rename = "acl-set")]
    set: Vec<SetName>,
    #[serde(flatten)]
    rest: Leaves,
}

#[derive(Clone, Debug, Deserialize)]
struct SetName {
    name: String,
    /// What the gateway counts.
    #[serde(default, rename = "ace-statistics")]
    _counted: Value,
    #[serde(flatten)]
    rest: Leaves,
}

/// The types of lists that speak of packets of IP (RFC 8519, 4.1).
const KINDS: [&str; 5] = [
    "ipv4-acl-type",
    "ipv6-acl-type",
    "mixed-eth-ipv4-acl-type",
    "mixed-eth-ipv6-acl-type",
    "mixed-eth-ipv4-ipv6-acl-type",
];

/// A list.
#[derive(Clone, Debug, Deserialize)]
pub(crate) struct List {
    pub(crate) name: String,
    #[serde(default, rename = "type")]
    kind: String,
    #[serde(default)]
    aces: Aces,
    #[serde(flatten)]
    rest: BTreeMap<String, Value>,
}

#[derive(Clone, Debug, Default, Deserialize)]
struct Aces {
    #[serde(default)]
    ace: Vec<Ace>,
    #[serde(flatten)]
    rest: Leaves,
}

#[derive(Clone, Debug, Deserialize)]
struct Ace {
    name: String,
    #[serde(default)]
    matches: Matches,
    actions: Actions,
    #[serde(default)]
    statistics: BTreeMap<String, Value>,
    #[serde(flatten)]
    rest: BTreeMap<String, Value>,
}

#[derive(Clone, Debug, Deserialize)]
struct Actions {
    forwarding: String,
    #[serde(default)]
    logging: Option<String>,
    #[serde(flatten)]
    rest: Leaves,
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Matches {
    ipv4: Option<Leaves>,
    ipv6: Option<Leaves>,
    tcp: Option<Leaves>,
    udp: Option<Leaves>,
    icmp: Option<Leaves>,
    ingress_interface: Option<String>,
    egress_interface: Option<String>,
    #[serde(flatten)]
    rest: Leaves,
}

/// Whether a file is one of the module's.
pub(crate) fn is_acl(json: &Value) -> bool {
    ["ietf-access-control-list:acls", "acls"].iter().any(|key| json.get(key).is_some())
}

/// Reads the file.
///
/// # Errors
/// When it is not built as the module says.
pub(crate) fn read(text: &str) -> Result<Acls, serde_json::Error> {
    serde_json::from_str::<File>(text).map(|file| file.acls)
}

impl Acls {
    /// The interfaces that have lists.
    pub(crate) fn points(&self) -> &[Point] {
        &self.points.interface
    }

    /// What was not understood beside the entries.
    pub(crate) fn unclear(&self) -> Vec<(String, String)> {
        let of = |at: &str, rest: &Leaves| -> Vec<(String, String)> {
            rest.keys().map(|key| (at.to_owned(), format!("`{key}`"))).collect()
        };
        let mut all = of("the lists", &self.rest);
        all.extend(of("the interfaces", &self.points.rest));
        for point in self.points() {
            let rests = point.rests();
            all.extend(rests.flat_map(|rest| of(&point.at(), rest)));
        }
        for list in &self.lists {
            let rests = [&list.rest, &list.aces.rest].into_iter();
            all.extend(rests.flat_map(|rest| of(&list.name, rest)));
            let kind = word(&list.kind);
            if !kind.is_empty() && !KINDS.contains(&kind) {
                all.push((list.name.clone(), format!("`type {}`", list.kind)));
            }
        }
        for point in self.points() {
            let missing = point.names().filter(|name| self.list(name).is_none());
            all.extend(
                missing.map(|name| (point.at(), format!("the list {name}, which is not there"))),
            );
        }
        for (place, list) in self.lists.iter().enumerate() {
            if self.lists[..place].iter().any(|above| above.name == list.name) {
                all.push((list.name.clone(), "a second list of that name".to_owned()));
            }
        }
        all
    }

    /// The list of that name.
    pub(crate) fn list(&self, name: &str) -> Option<&List> {
        self.lists.iter().find(|list| list.name == name)
    }
}

impl Point {
    /// Where it is, in words.
    pub(crate) fn at(&self) -> String {
        format!("interface {}", self.interface)
    }

    /// The lists for what comes in, or for what goes out, in order.
    pub(crate) fn lists(&self, out: bool) -> impl Iterator<Item = &str> {
        let way = if out { &self.egress } else { &self.ingress };
        way.sets.set.iter().map(|set| set.name.as_str())
    }

    /// What stands there that nobody reads.
    fn rests(&self) -> impl Iterator<Item = &Leaves> {
        let ways = [&self.ingress, &self.egress].into_iter();
        let below = ways.flat_map(|way| {
            let sets = way.sets.set.iter().map(|set| &set.rest);
            [&way.rest, &way.sets.rest].into_iter().chain(sets)
        });
        std::iter::once(&self.rest).chain(below)
    }

    fn names(&self) -> impl Iterator<Item = &str> {
        self.lists(false).chain(self.lists(true))
    }
}

impl List {
    /// The families that the list is for.
    pub(crate) fn families(&self) -> AddressSet {
        let kind = word(&self.kind);
        match (kind.contains("ipv4"), kind.contains("ipv6")) {
            (true, false) => AddressSet::full().only_v4(),
            (false, true) => AddressSet::full().only_v6(),
            _ => AddressSet::full(),
        }
    }

    /// The entries, in order.
    pub(crate) fn entries(&self) -> impl Iterator<Item = Entry> + '_ {
        self.aces.ace.iter().map(|ace| ace.entry(self.families()))
    }

    /// The interfaces that its entries name.
    pub(crate) fn interfaces(&self) -> impl Iterator<Item = &str> {
        let matches = self.aces.ace.iter().map(|ace| &ace.matches);
        matches
            .flat_map(|m| [m.ingress_interface.as_deref(), m.egress_interface.as_deref()])
            .flatten()
    }
}

/// The word of an identity, without its module.
fn word(identity: &str) -> &str {
    identity.rsplit(':').next().unwrap_or_default()
}

impl Ace {
    fn entry(&self, families: AddressSet) -> Entry {
        let action = match word(&self.actions.forwarding) {
            "accept" => Some(Action::Allow),
            "reject" => Some(Action::Reject),
            "drop" => Some(Action::Block),
            _ => None,
        };
        let logging = self.actions.logging.as_deref().map(word);
        let counted = self.statistics.get("matched-packets");
        let mut entry = Entry {
            name: self.name.clone(),
            action,
            log: logging == Some("log-syslog"),
            source: families,
            destination: AddressSet::full(),
            service: ServiceSet::any(),
            from: None,
            segments: Segments::default(),
            ingress: self.matches.ingress_interface.clone(),
            egress: self.matches.egress_interface.clone(),
            hits: counted.and_then(|n| n.as_u64().or_else(|| n.as_str()?.parse().ok())),
            unclear: Vec::new(),
        };
        if action.is_none() {
            entry.unclear.push(format!("`forwarding {}`", self.actions.forwarding));
        }
        if !matches!(logging, None | Some("log-syslog" | "log-none")) {
            entry.unclear.push("`logging`, which is neither of the two".to_owned());
        }
        let rest = self.rest.keys().chain(self.actions.rest.keys()).chain(self.matches.rest.keys());
        entry.unclear.extend(rest.map(|key| format!("`{key}`")));
        self.matches.read(&mut entry);
        entry
    }
}

impl Matches {
    fn read(&self, entry: &mut Entry) {
        // Each is one of a choice: an entry with two is none of the module's.
        let network = [&self.ipv4, &self.ipv6].into_iter().flatten().count();
        let transport_of = [&self.tcp, &self.udp, &self.icmp].into_iter().flatten().count();
        for (count, what) in [(network, "two network headers"), (transport_of, "two protocols")] {
            if count > 1 {
                entry.unclear.push(what.to_owned());
            }
        }
        for (leaves, family) in [(&self.ipv4, Family::V4), (&self.ipv6, Family::V6)] {
            let Some(leaves) = leaves else { continue };
            entry.source = entry.source.of_family(family);
            header(entry, leaves, family);
        }
        for (name, leaves, protocol) in
            [("tcp", &self.tcp, Protocol::TCP), ("udp", &self.udp, Protocol::UDP)]
        {
            let Some(leaves) = leaves else { continue };
            entry.narrow(&ServiceSet::protocol(protocol));
            for (leaf, value) in leaves {
                if let Err(why) = transport(entry, protocol, leaf, value) {
                    entry.unclear.push(format!("`{name} {leaf}`{why}"));
                }
            }
        }
        if let Some(leaves) = &self.icmp {
            let family = if entry.source.v4.is_empty() { Family::V6 } else { Family::V4 };
            icmp(entry, leaves, family);
        }
    }
}
