//! The site, the gateway, its ports and its uplinks.

use super::super::draft::{self, Draft};
use super::super::model::{Form, Gateway, Manage, Rows, Site, Uplink};
use super::super::ssh_host::{NotAnSshHost, Reach};
use super::super::traffic::Limits;
use super::{NetworkProblem, Resolver, nearest_or, promises, services};
use crate::addressing::{Placeholder, Tie};
use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::name::{Name, nearest};
use crate::source::{Located, Span, Text};
use crate::space::ServiceSet;
use ipnet::IpNet;
use jiff::tz::TimeZoneDatabase;
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

/// What can be wrong with the site, the gateway or an uplink.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum GatewayProblem {
    /// The site has no name.
    NoSiteName { at: Option<Span> },
    /// A key has a value that is not one of those it can have.
    Choice { key: &'static str, word: String, choices: Vec<&'static str>, at: Span },
    /// No such time zone.
    TimeZone { word: String, nearest: Option<String>, at: Span },
    /// A name that cannot be a port's.
    PortName { word: String, at: Span },
    /// A port is listed twice, or used in two places.
    PortTwice { word: String, at: Span },
    /// An aggregate of fewer than two ports.
    LoneAggregate { name: String, at: Span },
    /// The port of an uplink carries networks too.
    UplinkPortShared { port: String, uplink: Name, at: Span, first: Span },
    /// An uplink's own address that is not an address with its prefix length.
    UplinkAddress { word: String, at: Span },
    /// An uplink without an address.
    NoUplinkAddress { uplink: Name, at: Span },
    /// A router that its uplink cannot reach.
    Router { word: String, at: Span },
    /// A limit that is no number of something.
    Limit { key: &'static str, at: Span },
    /// `matches` where the form does not ask for it.
    MatchesOfForm { form: &'static str, at: Span },
    /// `reach` that `ssh` could take for something else than a host.
    Reach { why: NotAnSshHost, at: Span },
    /// `manage` without a place, or without a service.
    ManageIncomplete { missing: &'static str, at: Span },
}

impl Diagnose for GatewayProblem {
    fn diagnose(&self) -> Diagnosis {
        let error = |name, at: &Span| Diagnosis::new(name, Severity::Error, Some(*at));
        match self {
            Self::NoSiteName { at } => Diagnosis::new("no-site-name", Severity::Error, *at)
                .says("the site has no name")
                .help("write `[site]` with a line like `name = \"Fernside Veterinary Clinic\"`"),
            Self::Choice { key, word, choices, at } => error("unknown-choice", at)
                .says(format!("`{word}` is not a value of `{key}`"))
                .help(nearest_or(
                    nearest(word, choices.iter().copied()).map(str::to_owned).as_ref(),
                    &format!("write {}", choices.join(" or ")),
                )),
            Self::TimeZone { word, nearest, at } => error("unknown-time-zone", at)
                .says(format!("no time zone is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "write an IANA name like Europe/Lisbon")),
            Self::PortName { word, at } => error("bad-port-name", at)
                .says(format!("a port cannot be called `{word}`"))
                .why("it becomes part of an interface name, which has at most 15 bytes, VLAN id included")
                .help("use 1 to 10 letters, digits, hyphens or underscores"),
            Self::PortTwice { word, at } => error("port-twice", at)
                .says(format!("`{word}` is listed twice"))
                .help("list each port once, in `ports`, and in one aggregate at most"),
            Self::LoneAggregate { name, at } => error("lone-aggregate", at)
                .says(format!("the aggregate `{name}` has fewer than two ports"))
                .why("a single cable adds no redundancy (IEEE 802.1AX bundles two or more)")
                .help("list both ports, or use the port itself"),
            Self::UplinkPortShared { port, uplink, at, first } => error("uplink-port-shared", at)
                .says(format!("port `{port}` belongs to uplink `{uplink}`"))
                .why("inside and outside on the same cable would bypass the gateway")
                .help("use another port")
                .also(*first, "the uplink"),
            Self::UplinkAddress { word, at } => error("bad-uplink-address", at)
                .says(format!("`{word}` is not an address for an uplink"))
                .help("write \"dhcp\", or the gateway's own address with its length, like 198.51.100.14/30"),
            Self::NoUplinkAddress { uplink, at } => error("no-uplink-address", at)
                .says(format!("uplink `{uplink}` has no address"))
                .help("add `address = \"dhcp\"`, or the address with its length"),
            Self::Router { word, at } => error("bad-router", at)
                .says(format!("`{word}` is not a router on this uplink"))
                .help("write the provider's router, an address in the uplink's own subnet or a link-local one"),
            Self::Limit { key, at } => error("bad-number", at)
                .says(format!("`limits.{key}` is not a valid limit"))
                .help("write a number of 1 or more, or remove the key if there is no limit"),
            Self::MatchesOfForm { form, at } => error("matches-of-form", at)
                .says(format!("`matches` has no effect in the form `{form}`"))
                .why("only the form `per-interface` has a variant that matches source addresses only")
                .help("remove the key, or write `form = \"per-interface\"`"),
            Self::Reach { why, at } => error("bad-reach", at)
                .says(format!("`reach` names no gateway: {why}"))
                .help("write it as `ssh` takes it, without options: HOST, USER@HOST, or a name from its configuration; `netconf://` before it where the gateway speaks that"),
            Self::ManageIncomplete { missing, at } => error("manage-incomplete", at)
                .says(format!("`gateway.manage` does not say `{missing}`"))
                .why("management access has to name both who may connect and by which service")
                .help(format!("add a line like `{missing} = \"…\"`, or leave the table out")),
        }
    }
}

/// One of several words; a problem is noted and the first is taken.
fn choice<T: Copy>(
    word: Option<&Text>,
    key: &'static str,
    choices: &[(&'static str, T)],
    resolver: &mut Resolver,
) -> Option<T> {
    let word = word?;
    let found = choices.iter().find(|(name, _)| *name == word.value);
    if found.is_none() {
        resolver.problem(GatewayProblem::Choice {
            key,
            word: word.value.clone(),
            choices: choices.iter().map(|(name, _)| *name).collect(),
            at: word.at,
        });
    }
    found.map(|(_, value)| *value)
}

/// The site. Without a name it gets an empty one, and a problem is noted.
pub(super) fn site(draft: &Draft, resolver: &mut Resolver) -> Site {
    let before = resolver.problems.len();
    let draft = &draft.site;
    let tie = [("third-octet", Tie::ThirdOctet), ("none", Tie::None)];
    let name = draft.name.as_ref().filter(|name| !name.value.trim().is_empty());
    if name.is_none() {
        let at = draft.name.as_ref().map_or(draft.at, |name| name.at);
        resolver.problem(GatewayProblem::NoSiteName { at: (at.end > 0).then_some(at) });
    }
    let mut space = Vec::new();
    for text in &draft.space {
        match text.value.parse::<IpNet>() {
            Ok(prefix) if prefix == prefix.trunc() => space.push(prefix),
            Ok(prefix) => resolver.problem(NetworkProblem::HostBits {
                word: text.value.clone(),
                prefix: prefix.trunc(),
                at: text.at,
            }),
            Err(_) => {
                resolver
                    .problem(NetworkProblem::NotASubnet { word: text.value.clone(), at: text.at });
            }
        }
    }
    let tie = choice(draft.tie.as_ref(), "tie", &tie, resolver).unwrap_or_default();
    resolver.subnets_follow = !draft.troubled && resolver.problems.len() == before;
    Site {
        name: name.map(|name| name.value.clone()).unwrap_or_default(),
        space,
        tie,
        time_zone: draft.time_zone.as_ref().and_then(|word| time_zone(word, resolver)),
    }
}

fn time_zone(word: &Text, resolver: &mut Resolver) -> Option<String> {
    let database = TimeZoneDatabase::bundled();
    if database.get(&word.value).is_ok() {
        return Some(word.value.clone());
    }
    let names: Vec<String> = database.available().map(|name| name.to_string()).collect();
    resolver.problem(GatewayProblem::TimeZone {
        word: word.value.clone(),
        nearest: nearest(&word.value, names.iter().map(String::as_str)).map(str::to_owned),
        at: word.at,
    });
    None
}

/// The gateway's ports, and the aggregates made of them.
#[derive(Default)]
pub(super) struct Ports {
    names: Vec<String>,
    aggregates: Vec<(String, Vec<String>)>,
    uplinks: Vec<(String, Name, Span)>,
}

impl Ports {
    /// Checks that a network may arrive on that port.
    pub(super) fn check(&self, word: &Text, resolver: &mut Resolver) -> Option<String> {
        let port = self.known(word, resolver)?;
        if let Some((_, uplink, first)) = self.uplinks.iter().find(|entry| entry.0 == port) {
            let (uplink, first) = (uplink.clone(), *first);
            resolver.problem(GatewayProblem::UplinkPortShared { port, uplink, at: word.at, first });
            return None;
        }
        Some(port)
    }

    fn known(&self, word: &Text, resolver: &mut Resolver) -> Option<String> {
        let port = word.value.clone();
        let joined = self.aggregates.iter().find(|(_, members)| members.contains(&port));
        if let Some((aggregate, _)) = joined {
            let aggregate = aggregate.clone();
            resolver.problem(NetworkProblem::PortInAggregate { port, aggregate, at: word.at });
            return None;
        }
        let all = || self.names.iter().chain(self.aggregates.iter().map(|entry| &entry.0));
        if all().any(|name| *name == port) {
            return Some(port);
        }
        resolver.problem(NetworkProblem::UnknownPort {
            nearest: nearest(&port, all().map(String::as_str)).map(str::to_owned),
            word: port,
            at: word.at,
        });
        None
    }
}

/// Reads ports and aggregates.
pub(super) fn ports(draft: &draft::Gateway, resolver: &mut Resolver) -> Ports {
    let mut ports = Ports::default();
    let mut seen: HashSet<&str> = HashSet::new();
    for word in &draft.ports {
        if port_name(word, resolver) {
            if !seen.insert(&word.value) {
                resolver
                    .problem(GatewayProblem::PortTwice { word: word.value.clone(), at: word.at });
            }
            ports.names.push(word.value.clone());
        }
    }
    let mut used: HashSet<&str> = HashSet::new();
    for (name, members) in &draft.aggregates {
        let fresh = port_name(name, resolver) && seen.insert(&name.value);
        if !fresh {
            resolver.problem(GatewayProblem::PortTwice { word: name.value.clone(), at: name.at });
        }
        if members.len() < 2 {
            resolver
                .problem(GatewayProblem::LoneAggregate { name: name.value.clone(), at: name.at });
        }
        for member in members {
            if !ports.names.contains(&member.value) {
                ports.known(member, resolver);
            } else if !used.insert(&member.value) {
                resolver.problem(GatewayProblem::PortTwice {
                    word: member.value.clone(),
                    at: member.at,
                });
            }
        }
        let members = members.iter().map(|member| member.value.clone()).collect();
        ports.aggregates.push((name.value.clone(), members));
    }
    ports
}

fn port_name(word: &Text, resolver: &mut Resolver) -> bool {
    let fits = (1..=10).contains(&word.value.len());
    let good = word.value.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_');
    if !(fits && good) {
        resolver.problem(GatewayProblem::PortName { word: word.value.clone(), at: word.at });
    }
    fits && good
}

/// The uplinks. One that cannot be built is left out, and its problems are noted.
pub(super) fn uplinks(draft: &Draft, ports: &mut Ports, resolver: &mut Resolver) -> Vec<Uplink> {
    let mut uplinks: Vec<Uplink> = Vec::new();
    for draft in &draft.uplinks {
        let port = draft.port.as_ref().and_then(|word| ports.check(word, resolver));
        // What is wrong with names has been reported where they were declared.
        let Ok(name) = Name::new(&draft.name.value) else { continue };
        if uplinks.iter().any(|uplink| uplink.name == name) {
            continue;
        }
        if let Some(port) = &port {
            ports.uplinks.push((port.clone(), name.clone(), draft.name.at));
        }
        let dhcp = matches!(draft.address.as_slice(), [only] if only.value == "dhcp");
        let addresses = if dhcp { Vec::new() } else { own_addresses(draft, resolver) };
        if draft.address.is_empty() {
            resolver.problem(GatewayProblem::NoUplinkAddress {
                uplink: name.clone(),
                at: draft.name.at,
            });
        }
        let routers = routers(draft, &addresses, dhcp, resolver);
        let number = u16::try_from(uplinks.len()).unwrap_or(u16::MAX);
        let placeholder = dhcp.then_some(Placeholder::Uplink(number));
        let at = draft.name.at;
        uplinks.push(Uplink { name, port, addresses, routers, dhcp, placeholder, at });
    }
    uplinks
}

fn own_addresses(draft: &draft::Uplink, resolver: &mut Resolver) -> Vec<IpNet> {
    let mut addresses = Vec::new();
    for word in &draft.address {
        let usable = |address: &IpNet| {
            crate::addressing::Subnet::new(address.trunc(), address.addr()).is_some()
                && !super::networks::unusable().contains(address.addr())
        };
        match word.value.parse::<IpNet>().ok().filter(usable) {
            Some(address) => addresses.push(address),
            None => resolver
                .problem(GatewayProblem::UplinkAddress { word: word.value.clone(), at: word.at }),
        }
    }
    addresses
}

fn routers(
    draft: &draft::Uplink,
    addresses: &[IpNet],
    dhcp: bool,
    resolver: &mut Resolver,
) -> Vec<IpAddr> {
    let mut routers = Vec::new();
    for word in &draft.router {
        let link_local = crate::addressing::link_local();
        let reachable = |router: &IpAddr| {
            let beside = |own: &IpNet| own.contains(router) && own.addr() != *router;
            dhcp || link_local.contains(*router) || addresses.iter().any(beside)
        };
        match word.value.parse::<IpAddr>().ok().filter(reachable) {
            Some(router) => routers.push(router),
            None => {
                resolver.problem(GatewayProblem::Router { word: word.value.clone(), at: word.at })
            }
        }
    }
    routers
}

/// The gateway, once every place can be resolved.
pub(super) fn gateway(
    draft: &draft::Gateway,
    ports: Ports,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Gateway {
    let forms = Form::ALL.map(|form| (form.word(), form));
    let form = choice(draft.form.as_ref(), "form", &forms, resolver).unwrap_or_default();
    let rows = Rows::ALL.map(|rows| (rows.word(), rows));
    let rules = choice(draft.rules.as_ref(), "rules", &rows, resolver).unwrap_or_default();
    let matches = [("all", false), ("source", true)];
    let source_only =
        choice(draft.matches.as_ref(), "matches", &matches, resolver).unwrap_or(false);
    if let Some(word) = draft.matches.as_ref().filter(|_| source_only && form != Form::PerInterface)
    {
        resolver.problem(GatewayProblem::MatchesOfForm { form: form.word(), at: word.at });
    }
    Gateway {
        form,
        rules,
        ports: ports.names,
        aggregates: ports.aggregates,
        manage: draft.manage.as_ref().and_then(|draft| manage(draft, known, resolver)),
        source_only,
        limits: limits(&draft.limits, resolver),
        routes_mbps: promises::rate("routes-mbps", draft.routes_mbps, resolver),
        reach: reach(draft.reach.as_ref(), resolver),
        at: draft.at,
    }
}

fn reach(given: Option<&Text>, resolver: &mut Resolver) -> Option<Reach> {
    let given = given?;
    let host = given.value.parse();
    host.map_err(|why| resolver.problem(GatewayProblem::Reach { why, at: given.at })).ok()
}

fn limits(draft: &draft::Limits, resolver: &mut Resolver) -> Limits {
    let mut number = |key: &'static str, given: Option<Located<i64>>| {
        let given = given?;
        let number = u32::try_from(given.value).ok().filter(|number| *number > 0);
        if number.is_none() {
            resolver.problem(GatewayProblem::Limit { key, at: given.at });
        }
        number
    };
    let (rules, name) = (number("rules", draft.rules), number("name", draft.name));
    let can = |key: Option<Located<bool>>| key.is_none_or(|can| can.value);
    Limits {
        reject: can(draft.reject),
        log: can(draft.log),
        hours: can(draft.hours),
        domains: can(draft.domains),
        ipv6: can(draft.ipv6),
        rules,
        name,
        insert: can(draft.insert),
        duplicates: can(draft.duplicates),
        swap_lists: can(draft.swap_lists),
    }
}

fn manage(
    draft: &draft::Manage,
    known: &HashMap<String, ServiceSet>,
    resolver: &mut Resolver,
) -> Option<Manage> {
    let at = draft.at;
    for (missing, words) in [("from", &draft.from), ("service", &draft.service)] {
        if words.is_empty() {
            resolver.problem(GatewayProblem::ManageIncomplete { missing, at });
        }
    }
    if draft.from.is_empty() || draft.service.is_empty() {
        return None;
    }
    let from = resolver.place(&draft.from, at);
    let service = services::uses(&draft.service, known, resolver);
    let second_factor = draft.second_factor.is_some_and(|second| second.value);
    Some(Manage { from: from?, service: service?, second_factor, at })
}
