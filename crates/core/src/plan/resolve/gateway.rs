//! The site, the gateway, its ports and its uplinks.

use super::super::draft::{self, Draft};
use super::super::model::{Form, Gateway, Manage, Rows, Site, Uplink};
use super::super::ssh_host::Reach;
use super::super::traffic::Limits;
use super::ports::Ports;
use super::{GatewayProblem, NetworkProblem, Resolver, promises, services};
use crate::addressing::{Placeholder, Tie};
use crate::name::{Name, nearest};
use crate::source::{Located, Text};
use crate::space::ServiceSet;
use ipnet::IpNet;
use jiff::tz::TimeZoneDatabase;
use std::collections::HashMap;
use std::net::IpAddr;

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
            ports.taken_by_uplink(port.clone(), name.clone(), draft.name.at);
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
