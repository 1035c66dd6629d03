//! From a draft to a plan: every word is looked up once, and all problems are reported together.
//!
//! A thing with a problem of its own stays known by name, so that one mistake is reported once and not
//! again at every place that mentions it.

mod exceptions;
mod gateway;
mod gateway_problem;
mod grid;
mod homes;
mod hosts;
mod hours;
mod inbounds;
mod names;
mod network_problem;
mod networks;
mod places;
mod ports;
mod promises;
mod routes;
mod services;
mod survey;
mod wiring;
mod zones;

pub use exceptions::ExceptionProblem;
pub use gateway_problem::GatewayProblem;
pub use grid::GridProblem;
pub use hosts::HostProblem;
pub use hours::HoursProblem;
pub use inbounds::InboundProblem;
pub use names::NameProblem;
pub use network_problem::NetworkProblem;
pub use promises::PromiseProblem;
pub use routes::RouteProblem;
pub use services::ServiceProblem;
pub(super) use services::{declared, services};
pub use wiring::WiringProblem;

use super::draft::Draft;
use super::model::{Host, Network};
use super::place::Directory;
use super::place_problem::PlaceProblem;
use super::{Plan, Route, Zone, ZoneId, ZoneReach};
use crate::diagnosis::{Diagnose, Diagnosis, nearest_or};
use crate::source::{Span, Text};
use crate::space::{AddressSet, IntervalSet};
use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::OnceLock;

macro_rules! problems {
    ($($part:ident($problem:ty)),* $(,)?) => {
        /// Any of the problems that keep a draft from being a plan.
        #[derive(Clone, Debug, PartialEq, Eq)]
        #[expect(missing_docs, reason = "each variant holds the problems of the part it is named after")]
        pub enum Problem {
            $($part($problem)),*
        }

        $(impl From<$problem> for Problem {
            fn from(problem: $problem) -> Self {
                Self::$part(problem)
            }
        })*

        impl Diagnose for Problem {
            fn diagnose(&self) -> Diagnosis {
                match self { $(Self::$part(problem) => problem.diagnose()),* }
            }
        }
    };
}
problems! {
    Name(NameProblem),
    Gateway(GatewayProblem),
    Network(NetworkProblem),
    Host(HostProblem),
    Place(PlaceProblem),
    Service(ServiceProblem),
    Grid(GridProblem),
    Exception(ExceptionProblem),
    Hours(HoursProblem),
    Route(RouteProblem),
    Inbound(InboundProblem),
    Promise(PromiseProblem),
    Wiring(WiringProblem),
}

/// What is under construction, and the problems met so far.
#[derive(Default)]
struct Resolver {
    problems: Vec<Problem>,
    directory: Directory,
    /// The names of networks and tunnels, also of those with a problem of their own.
    networks: HashSet<String>,
    /// Whether what the site says about subnets could be read: if not, that none follows need not be reported.
    subnets_follow: bool,
}

impl Resolver {
    fn problem(&mut self, problem: impl Into<Problem>) {
        self.problems.push(problem.into());
    }

    /// Whether there is a network or tunnel of this name. If none was built, it has a problem of its own.
    fn declares_network(&self, name: &str) -> bool {
        self.networks.contains(name)
    }

    /// Resolves an end of an entry that has two; `missing` is the problem where it says nothing.
    fn end<P: Into<Problem>>(
        &mut self,
        words: &[Text],
        at: Span,
        missing: impl FnOnce() -> P,
    ) -> Option<super::Place> {
        if words.is_empty() {
            self.problem(missing());
            return None;
        }
        self.place(words, at)
    }

    /// Resolves a place; problems are noted.
    fn place(&mut self, words: &[Text], owner: Span) -> Option<super::Place> {
        let mut problems = Vec::new();
        let place = self.directory.place(words, &mut problems);
        let located = problems.into_iter().map(|problem| problem.at_least(owner).into());
        self.problems.extend(located);
        place
    }
}

/// Turns a draft into a plan.
///
/// # Errors
/// All the problems of the draft, in the order of the text. There may be none, where the reader has
/// reported for the one that is to blame: a draft that says so of itself.
pub fn resolve(draft: Draft) -> Result<Plan, Vec<Problem>> {
    let networks = draft.networks.iter().map(|network| &network.name);
    let names = networks.chain(draft.tunnels.iter().map(|tunnel| &tunnel.name));
    let networks = names.map(|name| name.value.clone()).collect();
    let mut resolver = Resolver { networks, ..Resolver::default() };
    let site = gateway::site(&draft, &mut resolver);
    names::declare(&draft, &mut resolver);
    let services = services::declare(&draft.services, &mut resolver);
    let known = declared(&services);
    let mut zones = zones::zones(&draft, &known, &mut resolver);
    let mut ports = ports::ports(&draft.gateway, &mut resolver);
    let uplinks = gateway::uplinks(&draft, &mut ports, &mut resolver);
    let networks = networks::networks(&draft, &site, &zones, &ports, &known, &mut resolver);
    networks::beside_uplinks(&networks, &uplinks, &mut resolver);
    let routes =
        routes::routes(&draft.routes, &draft.hosts, &networks, &uplinks, &zones, &mut resolver);
    let domains = promises::domains(&draft.domains, &mut resolver);
    survey::survey(&site, &networks, &routes, &uplinks, &domains, &mut resolver.directory);
    let hosts = hosts::hosts(&draft.hosts, &networks, &mut resolver);
    places::reach_of_zones(&zones, &networks, &routes, &mut resolver.directory);
    places::reach_of_hosts(&draft.hosts, &hosts, &mut resolver.directory);
    places::reach_of_uplinks(&uplinks, &mut resolver.directory);
    let groups = places::groups(&draft.groups, &mut resolver);
    let gateway = gateway::gateway(&draft.gateway, ports, &known, &mut resolver);
    let discoveries = promises::discoveries(&draft.discoveries, &networks, &zones, &mut resolver);
    zones.push(Zone::internet());
    let matrix = grid::matrix(&draft.matrix, &zones, &mut resolver);
    let hours = hours::hours(&draft.hours, &mut resolver);
    let log = matrix.as_ref().map(super::Matrix::log);
    let around = exceptions::Around { services: &known, hours: &hours, log };
    let exceptions = exceptions::exceptions(&draft, &around, &mut resolver);
    let manage = gateway.manage.as_ref();
    let context = inbounds::InboundContext { uplinks: &uplinks, networks: &networks, manage };
    let first = draft.exceptions.len();
    let inbounds = inbounds::inbounds(&draft.inbounds, &exceptions, first, &context, &mut resolver);
    let streams = promises::streams(&draft.streams, &mut resolver);
    let guarantees = promises::guarantees(&draft, &known, &mut resolver);
    let kept = promises::known(&draft.known, &mut resolver);
    let wiring = wiring::wiring(&draft, &gateway, &networks, &mut resolver);
    let problems = in_order_of_text(resolver.problems);
    // What the reader has reported already is missing here without a problem.
    let whole = networks.iter().all(Option::is_some) && hosts.iter().all(Option::is_some);
    let (true, true, Some(matrix)) = (whole, problems.is_empty(), matrix) else {
        return Err(problems);
    };
    let networks: Vec<Network> = networks.into_iter().flatten().collect();
    let hosts: Vec<Host> = hosts.into_iter().flatten().collect();
    let unnamed = unnamed(&networks, &hosts);
    let anonymous = networks.iter().zip(&unnamed).map(|(one, unnamed)| anonymous(one, unnamed));
    let anonymous = anonymous.collect();
    let zone_reach = zone_reach(zones.len(), &networks, &routes, &resolver.directory);
    Ok(Plan {
        source: draft.source,
        site,
        gateway,
        uplinks,
        zones,
        networks,
        routes,
        hosts,
        groups,
        domains,
        services,
        matrix,
        hours,
        exceptions,
        inbounds,
        discoveries,
        streams,
        guarantees,
        known: kept,
        wiring,
        unnamed,
        anonymous,
        zone_reach,
        zone_entries: OnceLock::new(),
        directory: resolver.directory,
    })
}

/// By zone, the internet's last: where it is.
fn zone_reach(
    zones: usize,
    networks: &[Network],
    routes: &[Route],
    directory: &Directory,
) -> Vec<ZoneReach> {
    let inside = (0..zones - 1).map(ZoneId).map(|zone| {
        let networks = networks.iter().filter(|network| network.zone == zone);
        let routes = routes.iter().filter(|route| route.zone == zone);
        let devices = networks.clone().map(|network| network.device_addresses().clone());
        let prefixes = networks.map(Network::prefixes);
        ZoneReach {
            devices: devices.chain(routes.clone().map(|route| route.devices.clone())).collect(),
            prefixes: prefixes.chain(routes.map(|route| route.reach.clone())).collect(),
        }
    });
    let internet = ZoneReach {
        devices: directory.internet.clone(),
        prefixes: directory.internet.union(&directory.beside),
    };
    inside.chain([internet]).collect()
}

/// By network: the addresses that its devices can have and none of the hosts has.
fn unnamed(networks: &[Network], hosts: &[Host]) -> Vec<AddressSet> {
    let mut taken: Vec<Vec<IpAddr>> = vec![Vec::new(); networks.len()];
    for host in hosts {
        taken[host.network.0].extend(&host.addresses);
    }
    let of_network = |(network, taken): (&Network, Vec<IpAddr>)| {
        network.device_addresses().difference(&taken.into_iter().collect())
    };
    networks.iter().zip(taken).map(of_network).collect()
}

/// Of a network's addresses that no host has, those in which any device that joins it may find itself.
fn anonymous(network: &Network, unnamed: &AddressSet) -> AddressSet {
    if network.tunnel.is_some() {
        return unnamed.clone();
    }
    let v4 = match network.pool {
        Some(pool) => {
            let pool = IntervalSet::range(pool.first().to_bits(), pool.last().to_bits());
            unnamed.v4.intersection(&pool)
        }
        // A high address is the least likely to be in anyone's range.
        None => unnamed.v4.last().map(IntervalSet::point).unwrap_or_default(),
    };
    AddressSet { v4, v6: unnamed.v6.clone() }
}

fn in_order_of_text(mut problems: Vec<Problem>) -> Vec<Problem> {
    problems.sort_by_key(|problem| problem.diagnose().at.map_or(0, |at| at.start));
    let mut reported: Vec<Problem> = Vec::with_capacity(problems.len());
    for problem in problems {
        if reported.last() != Some(&problem) {
            reported.push(problem);
        }
    }
    reported
}
