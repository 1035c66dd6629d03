//! Access control lists of RFC 8519, read into types: each entry as what it matches, exactly; and what of it
//! was not understood, by name. Nothing is bent until it fits.

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
}

#[derive(Clone, Debug, Default, Deserialize)]
struct Sets {
    #[serde(default, rename = "acl-set")]
    set: Vec<SetName>,
}

#[derive(Clone, Debug, Deserialize)]
struct SetName {
    name: String,
}

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
}

/// The containers of a header, leaf by leaf.
type Leaves = BTreeMap<String, Value>;

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

/// Which segments of TCP an entry takes: those with these flags, whatever else is set.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Segments {
    ack: bool,
    rst: bool,
}

/// What comes back over TCP: no entry that asks for one flag takes both.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Answer {
    /// With ACK, and no reset.
    GoesOn,
    /// A reset without ACK.
    Resets,
}

/// An entry of a list.
#[derive(Clone, Debug)]
pub(crate) struct Entry {
    /// What it is called there.
    pub(crate) name: String,
    /// What it does; `None` where that is not one of the module's three.
    pub(crate) action: Option<Action>,
    pub(crate) log: bool,
    /// Addresses as they stand there, of the entry's families alone.
    pub(crate) source: AddressSet,
    pub(crate) destination: AddressSet,
    /// Where it goes to: protocols, ports, ICMP types.
    pub(crate) service: ServiceSet,
    /// The ports that it comes from; `None` for any.
    pub(crate) from: Option<ServiceSet>,
    /// Which segments of TCP it takes.
    pub(crate) segments: Segments,
    pub(crate) ingress: Option<String>,
    pub(crate) egress: Option<String>,
    /// How many packets it has taken, where that is counted.
    pub(crate) hits: Option<u64>,
    /// What of it was not understood.
    pub(crate) unclear: Vec<String>,
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
        all.extend(self.points().iter().flat_map(|point| of(&point.at(), &point.rest)));
        all.extend(self.lists.iter().flat_map(|list| of(&list.name, &list.rest)));
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
        let rest = self.rest.keys().chain(self.matches.rest.keys());
        entry.unclear.extend(rest.map(|key| format!("`{key}`")));
        self.matches.read(&mut entry);
        entry
    }
}

impl Matches {
    fn read(&self, entry: &mut Entry) {
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

impl Entry {
    fn narrow(&mut self, service: &ServiceSet) {
        self.service = self.service.intersection(service);
    }
}

/// The leaves of a network header.
fn header(entry: &mut Entry, leaves: &Leaves, family: Family) {
    let word = if family == Family::V6 { "ipv6" } else { "ipv4" };
    for (leaf, value) in leaves {
        let prefix = || -> Option<AddressSet> {
            let net: ipnet::IpNet = value.as_str()?.parse().ok()?;
            (Family::of(net.addr()) == family).then(|| net.into())
        };
        if leaf == "protocol" {
            match number(value) {
                Ok(number) => entry.narrow(&ServiceSet::protocol(Protocol(number))),
                Err(why) => entry.unclear.push(format!("`{leaf}`{why}")),
            }
        } else if *leaf == format!("source-{word}-network") {
            match prefix() {
                Some(set) => entry.source = entry.source.intersection(&set),
                None => entry.unclear.push(format!("`{leaf}`, which is no prefix")),
            }
        } else if *leaf == format!("destination-{word}-network") {
            match prefix() {
                Some(set) => entry.destination = entry.destination.intersection(&set),
                None => entry.unclear.push(format!("`{leaf}`, which is no prefix")),
            }
        } else {
            entry.unclear.push(format!("`{leaf}`"));
        }
    }
}

/// A leaf of the header of TCP or UDP.
fn transport(
    entry: &mut Entry,
    protocol: Protocol,
    leaf: &str,
    value: &Value,
) -> Result<(), &'static str> {
    let set = |value: &Value| -> Result<ServiceSet, &'static str> {
        let spans = ports(value).ok_or(", which are no ports")?;
        let each = spans.iter().map(|(low, high)| ServiceSet::ports(protocol, *low, *high));
        Ok(each.fold(ServiceSet::empty(), |all, one| all.union(&one)))
    };
    match leaf {
        "destination-port" => entry.narrow(&set(value)?),
        "source-port" => entry.from = Some(set(value)?),
        "flags" if protocol == Protocol::TCP => {
            entry.segments = value.as_str().and_then(Segments::of_flags).ok_or("")?;
        }
        _ => return Err(""),
    }
    Ok(())
}

fn icmp(entry: &mut Entry, leaves: &Leaves, family: Family) {
    // Which of the two it is, the header says; else the family.
    let named = [Protocol::ICMP, Protocol::ICMP_V6].into_iter();
    let mut named = named.filter(|one| entry.service == ServiceSet::protocol(*one));
    let usual = if family == Family::V6 { Protocol::ICMP_V6 } else { Protocol::ICMP };
    let protocol = named.next().unwrap_or(usual);
    let mut of = |leaf: &str| -> Option<u8> {
        let read = number(leaves.get(leaf)?);
        read.map_err(|why| entry.unclear.push(format!("`icmp {leaf}`{why}"))).ok()
    };
    let own = match (of("type"), of("code")) {
        (Some(kind), code) => ServiceSet::icmp_types(protocol, &[kind], code),
        (None, _) => ServiceSet::protocol(protocol),
    };
    let others = leaves.keys().filter(|leaf| !["type", "code"].contains(&leaf.as_str()));
    entry.unclear.extend(others.map(|leaf| format!("`icmp {leaf}`")));
    if leaves.contains_key("code") && !leaves.contains_key("type") {
        entry.unclear.push("`icmp code` without a type".to_owned());
    }
    entry.narrow(&ServiceSet::both(own.v4.union(&own.v6)));
}

/// A number of one octet.
fn number(value: &Value) -> Result<u8, String> {
    match value {
        Value::Number(number) => number
            .as_u64()
            .and_then(|number| u8::try_from(number).ok())
            .ok_or_else(|| format!(" {number}, which is not 0 to 255")),
        _ => Err(", which is no number".to_owned()),
    }
}

impl Segments {
    /// Those with all of these flags; `None` where they may open a connection.
    fn of_flags(flags: &str) -> Option<Self> {
        let mut all = flags.split(' ');
        all.try_fold(Self::default(), |known, flag| match flag {
            "ack" => Some(Self { ack: true, ..known }),
            "rst" => Some(Self { rst: true, ..known }),
            _ => None,
        })
    }

    /// Whether it takes none that opens a connection.
    pub(crate) fn are_answers(self) -> bool {
        self.ack || self.rst
    }

    /// Whether it takes answers of a kind.
    pub(crate) fn have(self, answer: Answer) -> bool {
        match answer {
            Answer::GoesOn => !self.rst,
            Answer::Resets => !self.ack,
        }
    }
}

/// Ports by an operator, or from and to; nothing else may stand beside them.
fn ports(value: &Value) -> Option<Vec<(u16, u16)>> {
    let leaves = value.as_object()?;
    let only = |known: [&str; 2]| leaves.keys().all(|leaf| known.contains(&leaf.as_str()));
    let number = |leaf: &str| value[leaf].as_u64().and_then(|n| u16::try_from(n).ok());
    if only(["lower-port", "upper-port"]) {
        let (low, high) = (number("lower-port")?, number("upper-port")?);
        return (low <= high).then(|| vec![(low, high)]);
    }
    if !only(["operator", "port"]) {
        return None;
    }
    let port = number("port")?;
    let operator = match leaves.get("operator") {
        None => "eq",
        Some(operator) => operator.as_str()?,
    };
    match operator {
        "eq" => Some(vec![(port, port)]),
        "lte" => Some(vec![(0, port)]),
        "gte" => Some(vec![(port, u16::MAX)]),
        "neq" => {
            let below = port.checked_sub(1).map(|last| (0, last));
            let above = port.checked_add(1).map(|first| (first, u16::MAX));
            Some([below, above].into_iter().flatten().collect())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_are_read_by_every_operator() {
        let read = |text: &str| ports(&serde_json::from_str(text).expect("JSON"));
        assert_eq!(read(r#"{"port": 443}"#), Some(vec![(443, 443)]));
        assert_eq!(read(r#"{"operator": "neq", "port": 0}"#), Some(vec![(1, u16::MAX)]));
        assert_eq!(read(r#"{"lower-port": 1, "upper-port": 9}"#), Some(vec![(1, 9)]));
        assert_eq!(read(r#"{"operator": "other", "port": 1}"#), None);
        assert_eq!(read(r#"{"operator": "eq", "port": 1, "upper-port": 9}"#), None);
        assert_eq!(read(r#"{"lower-port": 1}"#), None);
    }
}
