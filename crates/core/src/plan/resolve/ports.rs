//! The gateway's ports, and the aggregates made of them.

use super::super::draft;
use super::{GatewayProblem, NetworkProblem, Resolver};
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use std::collections::HashSet;

/// The gateway's ports, and the aggregates made of them.
#[derive(Default)]
pub(super) struct Ports {
    pub(super) names: Vec<String>,
    pub(super) aggregates: Vec<(String, Vec<String>)>,
    uplinks: Vec<(String, Name, Span)>,
}

impl Ports {
    /// Notes that an uplink has a port for itself.
    pub(super) fn taken_by_uplink(&mut self, port: String, uplink: Name, at: Span) {
        self.uplinks.push((port, uplink, at));
    }

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
