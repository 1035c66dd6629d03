//! The rules as access control lists: the YANG module `ietf-access-control-list` (RFC 8519), in the JSON
//! of RFC 7951.
//!
//! An entry of these lists is one product of single things: one prefix to one prefix, one range of ports.
//! So a rule becomes as many entries as it takes. What the module has no words for is said, and where
//! leaving it out would open something, nothing is written.

mod decide;
mod entry;
pub(crate) mod held;
mod narrow;
pub(crate) mod read;
mod rest;
mod row;
mod services;
mod shorten;
mod words;

pub use decide::{ListVerdict, decided_by_lists, list_problems};
pub(crate) use held::held;
pub use held::{Decides, HeldLists, ListFault};

use crate::escape_hidden;
use crate::nftables::{Known, fingerprint};
use bastium_core::addressing::Placeholder;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan};
use bastium_core::proof::Proved;
use bastium_core::rules::{Applies, Rule, RuleList, RuleSet, Surroundings};
use bastium_core::space::{AddressSet, Family, Interface, Match, PacketSet, ServiceSet};
use ipnet::IpNet;
use rest::{Part, Rest};
use row::{Row, entries};
use serde_json::{Map, Value, json};
use services::{Service, services};
use shorten::shortened;
use words::prefixes;

/// The longest name that the module takes, in characters.
const LONGEST: usize = 64;
const MODULE: &str = "ietf-access-control-list";
/// The protocols that replies are let back for: ICMP, TCP, UDP, DCCP, GRE, ESP, AH, ICMPv6, SCTP, UDP-Lite.
const USUAL: [u8; 10] = [1, 6, 17, 33, 47, 50, 51, 58, 132, 136];

/// Something that these lists cannot say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unsaid {
    /// The rule, by its id.
    pub rule: String,
    /// Why.
    pub why: Why,
    /// Whether leaving it out would let something pass that the rule denies.
    pub opens: bool,
}

/// Why a rule cannot be said.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// There is no state: what lets replies back is the device's own business.
    State,
    /// There are no hours.
    Hours,
    /// There are no names, only addresses.
    Names,
    /// A leased address is not known.
    Leased,
    /// There are no rates.
    Rate,
    /// What was translated looks like what was not.
    Translated,
    /// There are ports of TCP and UDP alone.
    Ports,
    /// Each protocol takes an entry of its own: replies are let back for the usual ones.
    Rare,
}

/// The lists, and what of the rules is not in them.
#[derive(Clone, Debug)]
pub struct AclFile {
    /// The file.
    pub text: String,
    /// How many entries there are.
    pub entries: usize,
    /// How many there would be if each rule were written for itself.
    pub written: usize,
    /// What the lists do not say.
    pub unsaid: Vec<Unsaid>,
}

/// Writes the rules as lists of RFC 8519.
pub fn acl_json(rules: &RuleSet) -> AclFile {
    let plan = rules.plan();
    let known = Known::of(plan);
    let around = Surroundings::of(plan);
    let mut writer = Writer { plan, known, around, entries: 0, written: 0, unsaid: Vec::new() };
    let mut lists = Vec::new();
    let mut points: Vec<Attachment<'_>> = Vec::new();
    for list in rules.lists.iter().filter(|list| !list.implied) {
        for family in Family::ALL {
            let Some((name, acl)) = writer.list(list, family) else { continue };
            lists.push(acl);
            if let Some(Applies::Interface { interface, out }) = list.applies {
                let device = device_on(plan, interface);
                let way = if out { "egress" } else { "ingress" };
                match points.iter_mut().find(|(at, w, _)| (at, *w) == (&device, way)) {
                    Some((_, _, names)) => names.push(name),
                    None => points.push((device, way, vec![name])),
                }
            }
        }
    }
    let mut acls = Map::new();
    acls.insert("acl".to_owned(), Value::Array(lists));
    if !points.is_empty() {
        acls.insert("attachment-points".to_owned(), json!({ "interface": attached(&points) }));
    }
    let json = json!({
        format!("{MODULE}:acls"): acls,
        "ietf-interfaces:interfaces": { "interface": interfaces(plan) },
    });
    let text = format!("{}\n", escape_hidden(&format!("{json:#}")));
    AclFile { text, entries: writer.entries, written: writer.written, unsaid: writer.unsaid }
}

/// Lists that were read back and shown to do what their rules do. Only [`proven_lists`] makes one.
#[derive(Clone, Debug)]
pub struct ProvenLists {
    file: AclFile,
}

impl ProvenLists {
    /// The lists.
    pub fn file(&self) -> &AclFile {
        &self.file
    }
}

/// Reads lists back that were written from rules, and shows that they do what these do.
///
/// # Errors
/// Where they do not.
pub fn proven_lists(
    meaning: &Meaning<'_>,
    proved: Proved<'_>,
    file: AclFile,
) -> Result<ProvenLists, Box<HeldLists>> {
    let held = held::written(meaning, proved, &file);
    if held.holds() { Ok(ProvenLists { file }) } else { Err(Box::new(held)) }
}

/// An interface, as the lists call it.
fn device_on(plan: &Plan, interface: Interface) -> String {
    plan.device_name(interface).unwrap_or_else(|| plan.interface_name(interface).to_owned())
}

/// What a list of the rules is called in one family.
fn list_name(list: &RuleList, family: Family) -> String {
    short(&format!("{} {}", list.name, if family == Family::V6 { "ipv6" } else { "ipv4" }))
}

/// The rule that an entry stands for, by the entry's name; a name that was shortened is none.
pub fn rule_of(entry: &str) -> &str {
    entry.rsplit_once(" v").map_or(entry, |(rule, _)| rule)
}

/// An interface, a direction, and the lists for it.
type Attachment<'a> = (String, &'a str, Vec<String>);

/// The interfaces of the gateway (RFC 8343): a reference to one that is not in the data would not be valid.
fn interfaces(plan: &Plan) -> Vec<Value> {
    let kind = |interface: Interface, name: &str| {
        let joined = plan.gateway().aggregates.iter().any(|(own, _)| own == name);
        match plan.network_on(interface).map(|id| plan.network(id)) {
            Some(network) if network.tunnel.is_some() => "tunnel",
            Some(network) if network.vlan.is_some() => "l2vlan",
            _ if joined => "ieee8023adLag",
            _ => "ethernetCsmacd",
        }
    };
    let mut entries: Vec<Value> = Vec::new();
    for interface in (0..plan.gateway_interface().0).map(Interface) {
        let name = device_on(plan, interface);
        if entries.iter().all(|one| one["name"] != name.as_str()) {
            let kind = kind(interface, &name);
            entries.push(json!({ "name": name, "type": format!("iana-if-type:{kind}") }));
        }
    }
    entries
}

/// Which lists are on which interface, and in which direction.
fn attached(points: &[Attachment<'_>]) -> Vec<Value> {
    let mut devices: Vec<Map<String, Value>> = Vec::new();
    for (device, way, names) in points {
        let names: Vec<Value> = names.iter().map(|name| json!({ "name": name })).collect();
        let sets = json!({ "acl-sets": { "acl-set": names } });
        let known = devices.iter_mut().find(|known| known["interface-id"] == device.as_str());
        match known {
            Some(known) => {
                known.insert((*way).to_owned(), sets);
            }
            None => {
                let mut new = Map::new();
                new.insert("interface-id".to_owned(), json!(device));
                new.insert((*way).to_owned(), sets);
                devices.push(new);
            }
        }
    }
    devices.into_iter().map(Value::Object).collect()
}

struct Writer<'p> {
    plan: &'p Plan,
    known: Known,
    around: Surroundings,
    entries: usize,
    written: usize,
    unsaid: Vec<Unsaid>,
}

impl Writer<'_> {
    /// A list in one family; `None` where it has nothing to say there.
    fn list(&mut self, list: &RuleList, family: Family) -> Option<(String, Value)> {
        let word = if family == Family::V6 { "ipv6" } else { "ipv4" };
        let name = list_name(list, family);
        let mut rows = self.rows(list, family);
        self.written += rows.len();
        if let Some(narrow) = narrow::narrowed(self.plan, list, family) {
            let shorter = self.rows(&narrow, family);
            if shorter.len() < rows.len() {
                rows = shorter;
            }
        }
        let wider = self.unsaid.iter().map(|one| one.rule.as_str()).collect();
        let rows = shortened(rows, family, &wider);
        self.entries += rows.len();
        if rows.is_empty() {
            return None;
        }
        let acl = json!({
            "name": name,
            "type": format!("{MODULE}:{word}-acl-type"),
            "aces": { "ace": entries(&rows, family) },
        });
        Some((name, acl))
    }

    /// The entries of a list in one family.
    fn rows(&mut self, list: &RuleList, family: Family) -> Vec<Row> {
        let mut rows = Rows { family, all: Vec::new() };
        let mut rest = Rest::of(self.plan, &self.around, list, family);
        for place in 0..list.rules.len() {
            self.rule(list, place, &mut rest, &mut rows);
        }
        rows.all
    }

    /// Adds the entries of the rule at that place.
    fn rule(&mut self, list: &RuleList, place: usize, rest: &mut Rest, rows: &mut Rows) {
        let rule = &list.rules[place];
        let Some(product) = self.sayable(rule) else { return };
        if let Some(ports) = rule.replies_from() {
            if let Some(part) = rest.plainest(place, product) {
                // What looks like a reply is let in, whatever comes further down.
                rest.take(&self.back(rule, &part, ports, rows));
            }
            return;
        }
        if rest.mistakes_translated(self.plan, product) {
            self.unsay(rule, Why::Translated, rule.action == Action::Allow);
            return;
        }
        for part in rest.said(list, place, product) {
            self.part(list, &part, rows);
        }
    }

    /// Adds the entries for a part of a rule.
    fn part(&mut self, list: &RuleList, part: &Part, rows: &mut Rows) {
        let (family, product) = (rows.family, &part.product);
        let rule = &list.rules[part.place];
        let line = product.service.line(family);
        let services = self.with_ports(rule, services(line));
        for device in self.devices(list, product) {
            for (ends, service) in worth_saying(part, family, &services) {
                let row = Row::new(rule, ends, service.clone());
                rows.all.push(Row { device: device.clone(), ..row });
            }
        }
    }

    /// Single ports can be said of TCP and UDP. Of another protocol all is denied, or nothing allowed.
    fn with_ports(&mut self, rule: &Rule, mut services: Vec<Service>) -> Vec<Service> {
        if !services.iter().any(Service::is_odd) {
            return services;
        }
        self.unsay(rule, Why::Ports, false);
        if rule.action == Action::Allow {
            services.retain(|service| !service.is_odd());
        }
        for service in services.iter_mut().filter(|service| service.is_odd()) {
            service.details = None;
        }
        services
    }

    fn unsay(&mut self, rule: &Rule, why: Why, opens: bool) {
        let one = Unsaid { rule: rule.id.to_string(), why, opens };
        if !self.unsaid.contains(&one) {
            self.unsaid.push(one);
        }
    }

    /// What a rule matches, if these lists have the words for it.
    fn sayable<'r>(&mut self, rule: &'r Rule) -> Option<&'r Match> {
        let denies = rule.action != Action::Allow;
        let Some(product) = rule.packets() else {
            self.unsay(rule, Why::State, false);
            return None;
        };
        if rule.limit_mbps.is_some() {
            self.unsay(rule, Why::Rate, false);
        }
        if !product.at.is_full() {
            // What is denied at some hours is denied at all of them; what is allowed at some, at none.
            self.unsay(rule, Why::Hours, false);
            if !denies {
                return None;
            }
        }
        for set in [&product.source, &product.destination] {
            // Some names among addresses cannot be said; nor all addresses but those of a name.
            match self.known.named(set) {
                (false, true, _) => self.unsay(rule, Why::Names, denies),
                (true, _, true) => self.unsay(rule, Why::Names, !denies),
                _ => {}
            }
            if self.known.only_leased(set) {
                self.unsay(rule, Why::Leased, denies);
            }
        }
        Some(product)
    }

    /// Adds the entries that let replies back where there is no state, from the ports that were asked: of TCP
    /// only what is no opening. Given back are the first packets that they let in as well.
    fn back(&mut self, rule: &Rule, part: &Part, ports: &ServiceSet, rows: &mut Rows) -> PacketSet {
        let (family, product) = (rows.family, &part.product);
        let (to, from) = (product.service.line(family), ports.line(family));
        let mut services = services(to);
        let count = services.len();
        // One entry for each of two hundred protocols that nobody uses would help nobody.
        services.retain(|s| s.protocol.is_none_or(|number| USUAL.contains(&number)));
        if services.len() < count {
            self.unsay(rule, Why::Rare, false);
        }
        let services: Vec<Service> =
            services.iter().flat_map(|service| service.answered_from(from)).collect();
        for (ends, service) in worth_saying(part, family, &services) {
            rows.all.push(Row::new(rule, ends, service.clone()));
        }
        // Where something could come, it has its entry.
        let whole = services.iter().filter(|one| one.from.is_none() && one.flag.is_none());
        let firsts = whole.fold(ServiceSet::empty(), |all, one| all.union(&one.set(family)));
        PacketSet::from(Match { service: firsts, ..product.clone() })
    }

    /// The interfaces that a rule's entries name; none where its list is on one anyway, or it is for all.
    fn devices(&self, list: &RuleList, product: &Match) -> Vec<Option<String>> {
        if matches!(list.applies, Some(Applies::Interface { .. })) {
            return vec![None];
        }
        let enters = list.packets().enters();
        let outer = (0..self.plan.gateway_interface().0).map(Interface);
        let here: Vec<Interface> = outer.filter(|interface| enters.contains(*interface)).collect();
        let named: Vec<Interface> = here
            .iter()
            .copied()
            .filter(|interface| {
                product.enters.contains(*interface)
                    || product.enters.contains(self.plan.translated_interface(*interface))
            })
            .collect();
        if named.len() == here.len() {
            return vec![None];
        }
        let name = |interface: &Interface| Some(device_on(self.plan, *interface));
        named.iter().map(name).collect()
    }
}

/// The entries of a list, as they come.
struct Rows {
    family: Family,
    all: Vec<Row>,
}

/// How many entries a match takes; `None` where some of it cannot be said.
fn count(product: &Match, family: Family) -> Option<usize> {
    let line = product.service.line(family);
    let services = services(line);
    let sets = [&product.source, &product.destination];
    let known = sets
        .into_iter()
        .flat_map(AddressSet::ranges)
        .all(|(low, _)| Placeholder::of(low).is_none());
    let ends = sets.map(|set| prefixes(set, family).len());
    (known && !services.iter().any(Service::is_odd)).then(|| ends[0] * ends[1] * services.len())
}

/// A name that is short enough; where it is cut, a fingerprint of the whole follows.
fn short(name: &str) -> String {
    if name.len() <= LONGEST {
        return name.to_owned();
    }
    let kept: String = name.chars().take(LONGEST - 9).collect();
    format!("{}~{:08x}", kept, fingerprint(name))
}

/// Source and destination of an entry; all addresses where there is none.
type Prefixes = [Option<IpNet>; 2];

/// What entries a part of a rule needs: from each prefix to each, by each service, where something of it can
/// come.
fn worth_saying<'s>(
    part: &Part,
    family: Family,
    services: &'s [Service],
) -> Vec<(Prefixes, &'s Service)> {
    let [sources, destinations] =
        [&part.product.source, &part.product.destination].map(|set| prefixes(set, family));
    let mut entries = Vec::new();
    for source in &sources {
        for destination in &destinations {
            let ends = [*source, *destination];
            let product = between(ends);
            if !part.meets(&product) {
                continue;
            }
            let meets = |service: &&Service| {
                part.meets(&Match { service: service.set(family), ..product.clone() })
            };
            entries.extend(services.iter().filter(meets).map(|service| (ends, service)));
        }
    }
    entries
}

/// Everything from one prefix to another.
fn between(ends: Prefixes) -> Match {
    let set = |prefix: Option<IpNet>| prefix.map_or_else(AddressSet::full, AddressSet::from);
    let [source, destination] = ends.map(set);
    Match { source, destination, ..Match::everything() }
}
