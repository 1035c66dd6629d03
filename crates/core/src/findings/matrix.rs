//! The matrix, isolation, logging and services.

use crate::diagnosis::{Diagnose, Diagnosis, advice, warning};
use crate::name::Name;
use crate::plan::{Action, LogPolicy, Plan, Trust, ZoneId};
use crate::service::BUILT_IN;
use crate::source::Span;

/// A finding about the matrix and what goes with it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum MatrixFinding {
    /// A zone of one network blocks itself, and that keeps nobody apart.
    DiagonalOfOne { zone: Name, network: Name, isolated: bool, at: Span },
    /// Strangers who meet each other.
    NotIsolated { network: Name, at: Span },
    /// The internet may enter.
    InternetMayEnter { zone: Name, at: Span },
    /// `-` where something can pass.
    Unsaid { from: Name, to: Name, at: Span },
    /// Nothing leaves a line in the log.
    NothingLogged { at: Span },
    /// Everything does.
    EverythingLogged { at: Span },
    /// A declared service is another one again.
    ServiceRepeated { service: Name, other: String, at: Span },
    /// The matrix allows a zone the internet, and there is no way there.
    NoDefaultRoute { zone: Name, at: Span },
}

impl Diagnose for MatrixFinding {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::DiagonalOfOne { zone, network, isolated, at } => advice("diagonal-of-one", at)
                .says(format!("the cell {zone} -> {zone} has no effect: `{network}` is the only network of the zone"))
                .why("traffic within a VLAN does not pass the gateway")
                .help(if *isolated {
                    "write `-` there; `isolate = true` is what keeps the devices apart".to_owned()
                } else {
                    format!("write `-` there; if devices of `{network}` must not meet, add `isolate = true` to it")
                }),
            Self::NotIsolated { network, at } => advice("not-isolated", at)
                .says(format!("devices in the untrusted network `{network}` can reach each other"))
                .why("traffic within a VLAN does not pass the gateway; only the switch and access point can isolate its devices")
                .help("add `isolate = true`"),
            Self::InternetMayEnter { zone, at } => warning("internet-may-enter", at)
                .says(format!("anyone on the internet may open connections to all of `{zone}`"))
                .why("its addresses are global, so only this cell keeps strangers out")
                .help("write `block`, and an exception for what must be reached"),
            Self::Unsaid { from, to, at } => advice("unsaid-cell", at)
                .says(format!("the cell {from} -> {to} is `-`, but traffic in that direction is possible"))
                .why("only `unmatched` then decides about it")
                .help("write allow, block or reject"),
            Self::NothingLogged { at } => advice("nothing-logged", at)
                .says("blocked traffic is not logged")
                .why("when something does not work, the log does not show why")
                .help("write `log = \"block\"`"),
            Self::EverythingLogged { at } => advice("everything-logged", at)
                .says("every connection is logged")
                .why("important lines are lost among the rest")
                .help("write `log = \"block\"`, and `log = true` for single exceptions"),
            Self::ServiceRepeated { service, other, at } => advice("service-repeated", at)
                .says(format!("service `{service}` is identical to `{other}`"))
                .why("two names for one service hide that two rules do the same")
                .help(format!("use `{other}`")),
            Self::NoDefaultRoute { zone, at } => warning("no-default-route", at)
                .says(format!("`{zone}` may reach the internet, but the plan has no uplink"))
                .why("without one there is no default route, and nothing gets out")
                .help("declare the uplink, as in `[uplink.fibre]`"),
        }
    }
}

pub(super) fn find(plan: &Plan) -> Vec<MatrixFinding> {
    let mut found = Vec::new();
    for zone in plan.zone_ids() {
        of_zone(plan, zone, &mut found);
    }
    unsaid(plan, &mut found);
    logging(plan, &mut found);
    services(plan, &mut found);
    found
}

fn of_zone(plan: &Plan, id: ZoneId, found: &mut Vec<MatrixFinding>) {
    let zone = plan.zone(id);
    let name = zone.name.clone();
    let matrix = plan.matrix();
    let networks: Vec<_> = plan.networks_of(id).map(|id| plan.network(id)).collect();
    let alone = !plan.passes_within(id);
    if let ([only], Some(_), true) = (networks.as_slice(), matrix.cell(id, id).action, alone) {
        let (network, isolated, at) = (only.name.clone(), only.isolate, matrix.cell(id, id).at);
        found.push(MatrixFinding::DiagonalOfOne { zone: name.clone(), network, isolated, at });
    }
    let wired = networks.iter().filter(|network| network.tunnel.is_none());
    for network in wired.filter(|n| zone.trust == Trust::None && !n.isolate) {
        found.push(MatrixFinding::NotIsolated { network: network.name.clone(), at: network.at });
    }
    if id == plan.internet() {
        return;
    }
    let inward = matrix.cell(plan.internet(), id);
    let global = plan.zone_addresses(id).difference(&crate::addressing::not_global());
    if inward.action == Some(Action::Allow) && !global.is_empty() && !plan.uplinks().is_empty() {
        found.push(MatrixFinding::InternetMayEnter { zone: name.clone(), at: inward.at });
    }
    let outward = matrix.cell(id, plan.internet());
    if outward.action == Some(Action::Allow) && plan.uplinks().is_empty() {
        found.push(MatrixFinding::NoDefaultRoute { zone: name, at: outward.at });
    }
}

fn unsaid(plan: &Plan, found: &mut Vec<MatrixFinding>) {
    let populated = |zone| zone == plan.internet() || plan.networks_of(zone).next().is_some();
    for from in plan.zone_ids().filter(|zone| populated(*zone)) {
        for to in plan.zone_ids().filter(|zone| populated(*zone)) {
            let cell = plan.matrix().cell(from, to);
            let can_pass = from != to || plan.passes_within(from);
            if cell.action.is_none() && can_pass {
                let (from, to) = (plan.zone(from).name.clone(), plan.zone(to).name.clone());
                found.push(MatrixFinding::Unsaid { from, to, at: cell.at });
            }
        }
    }
}

fn logging(plan: &Plan, found: &mut Vec<MatrixFinding>) {
    let matrix = plan.matrix();
    let mut cells = plan.zone_ids().flat_map(|from| plan.zone_ids().map(move |to| (from, to)));
    let at = matrix.cell(plan.internet(), plan.internet()).at;
    let denied = |(from, to): (ZoneId, ZoneId)| {
        let cell = matrix.cell(from, to);
        cell.action.is_some_and(|action| action != Action::Allow) && cell.log
    };
    if !matrix.unmatched().log && !cells.any(denied) {
        found.push(MatrixFinding::NothingLogged { at });
    }
    if matrix.log() == LogPolicy::All {
        found.push(MatrixFinding::EverythingLogged { at });
    }
}

fn services(plan: &Plan, found: &mut Vec<MatrixFinding>) {
    for (index, service) in plan.services().iter().enumerate() {
        let earlier = plan.services()[..index]
            .iter()
            .map(|other| (other.name.to_string(), other.set.clone()));
        let built_in = BUILT_IN.iter().map(|other| (other.name.to_owned(), other.set()));
        let same = earlier.chain(built_in).find(|(_, set)| *set == service.set);
        if let Some((other, _)) = same {
            let (service, at) = (service.name.clone(), service.at);
            found.push(MatrixFinding::ServiceRepeated { service, other, at });
        }
    }
}
