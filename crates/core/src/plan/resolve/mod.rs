//! From a draft to a plan: every word is looked up once, and all problems are reported together.
//!
//! A thing with a problem of its own stays known by name, so that one mistake is told once and not
//! again at every place that mentions it.

mod exceptions;
mod gateway;
mod grid;
mod hosts;
mod names;
mod network_problem;
mod networks;
mod places;
mod services;

pub use exceptions::ExceptionProblem;
pub use gateway::GatewayProblem;
pub use grid::GridProblem;
pub use hosts::HostProblem;
pub use names::NameProblem;
pub use network_problem::NetworkProblem;
pub use places::PlaceProblem;
pub use services::ServiceProblem;
pub(super) use services::{declared, services};

use super::draft::Draft;
use super::parts::{Host, Network, Site, Unread};
use super::place::Directory;
use super::{Plan, Zone};
use crate::diagnosis::{Diagnose, Diagnosis};
use crate::source::{Span, Text};
use crate::space::AddressSet;
use std::net::IpAddr;

/// Any of the problems that keep a draft from being a plan.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "each variant holds the problems of the part it is named after")]
pub enum Problem {
    Name(NameProblem),
    Gateway(GatewayProblem),
    Network(NetworkProblem),
    Host(HostProblem),
    Place(PlaceProblem),
    Service(ServiceProblem),
    Grid(GridProblem),
    Exception(ExceptionProblem),
}

macro_rules! from_parts {
    ($($variant:ident($problem:ty)),* $(,)?) => {
        $(impl From<$problem> for Problem {
            fn from(problem: $problem) -> Self {
                Self::$variant(problem)
            }
        })*
        impl Diagnose for Problem {
            fn diagnose(&self) -> Diagnosis {
                match self { $(Self::$variant(problem) => problem.diagnose()),* }
            }
        }
    };
}
from_parts! {
    Name(NameProblem),
    Gateway(GatewayProblem),
    Network(NetworkProblem),
    Host(HostProblem),
    Place(PlaceProblem),
    Service(ServiceProblem),
    Grid(GridProblem),
    Exception(ExceptionProblem),
}

/// What is under construction, and the problems met so far.
#[derive(Default)]
struct Workshop {
    problems: Vec<Problem>,
    directory: Directory,
    /// Whether what the site says about subnets could be read: if not, that none follows is no news.
    subnets_follow: bool,
}

impl Workshop {
    fn problem(&mut self, problem: impl Into<Problem>) {
        self.problems.push(problem.into());
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
/// All the problems of the draft, in the order of the text.
pub fn resolve(draft: Draft) -> Result<Plan, Vec<Problem>> {
    let mut shop = Workshop::default();
    let site = gateway::site(&draft, &mut shop);
    names::declare(&draft, &mut shop);
    let services = services::declare(&draft.services, &mut shop);
    let known = declared(&services);
    let mut zones = names::zones(&draft, &known, &mut shop);
    let mut ports = gateway::ports(&draft.gateway, &mut shop);
    let uplinks = gateway::uplinks(&draft, &mut ports, &mut shop);
    let networks = networks::networks(&draft, &site, &zones, &ports, &known, &mut shop);
    networks::beside_uplinks(&networks, &uplinks, &mut shop);
    networks::survey(&site, &networks, &uplinks, &mut shop.directory);
    let hosts = hosts::hosts(&draft.hosts, &networks, &mut shop);
    places::reach_of_zones(&zones, &networks, &mut shop.directory);
    places::reach_of_hosts(&draft.hosts, &hosts, &mut shop.directory);
    let groups = places::groups(&draft.groups, &mut shop);
    let gateway = gateway::gateway(&draft.gateway, ports, &known, &mut shop);
    zones.push(Zone::internet());
    let matrix = grid::matrix(&draft.matrix, &zones, &mut shop);
    let log = matrix.as_ref().map(super::Matrix::log);
    let exceptions = exceptions::exceptions(&draft.exceptions, &known, log, &mut shop);
    let problems = in_order_of_text(shop.problems);
    let (true, Some(matrix)) = (problems.is_empty(), matrix) else {
        return Err(problems);
    };
    let unread: Vec<Unread> = draft.unread;
    let networks: Vec<Network> = networks.into_iter().flatten().collect();
    let hosts: Vec<Host> = hosts.into_iter().flatten().collect();
    let unnamed = unnamed(&networks, &hosts);
    Ok(Plan {
        source: draft.source,
        site: Site { ..site },
        gateway,
        uplinks,
        zones,
        networks,
        hosts,
        groups,
        services,
        matrix,
        exceptions,
        unread,
        unnamed,
        directory: shop.directory,
    })
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

fn in_order_of_text(mut problems: Vec<Problem>) -> Vec<Problem> {
    problems.sort_by_key(|problem| problem.diagnose().at.map_or(0, |at| at.start));
    let mut told: Vec<Problem> = Vec::with_capacity(problems.len());
    for problem in problems {
        if told.last() != Some(&problem) {
            told.push(problem);
        }
    }
    told
}

/// `; did you mean `x`?`-style cure: the nearest name, or what can be done without one.
fn nearest_or(nearest: Option<&String>, otherwise: &str) -> String {
    match nearest {
        Some(name) => format!("write `{name}`, if that is meant"),
        None => otherwise.to_owned(),
    }
}
