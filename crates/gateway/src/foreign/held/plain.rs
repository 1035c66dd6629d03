//! Lines over the ways of a gateway, as rows over the plan's interfaces: the inverse of cutting a rule by where its
//! destination leads.

use super::super::{Foreign, Ways};
use super::{NotHeld, Row};
use bastium_core::plan::{Action, Plan};
use bastium_core::rules::Surroundings;
use bastium_core::space::{AddressSet, Interface, IntervalSet, Match};
use std::collections::{HashMap, HashSet};

/// The rows of a list, in order.
///
/// # Errors
/// When a row stands in several places of it.
pub(super) fn rows(foreign: &Foreign, plan: &Plan) -> Result<Vec<Row>, NotHeld> {
    let around = Surroundings::of(plan);
    let mut seen: HashSet<&str> = HashSet::new();
    let mut rows: Vec<Row> = Vec::new();
    // Where the last row stands, and what it does.
    let mut last: Option<(&str, Action, bool)> = None;
    for line in &foreign.lines {
        let deciding = !line.end && line.bare.matches.iter().any(|one| !one.is_empty());
        let own = (line.at.as_str(), line.bare.action, line.bare.log);
        // One row can be several lines that follow each other.
        let goes_on = deciding && last == Some(own);
        if deciding && !goes_on && !seen.insert(&line.at) {
            return Err(NotHeld::ByManyWays { at: line.at.clone() });
        }
        let products = line.bare.matches.iter();
        let products =
            products.flat_map(|product| over_plan(plan, &around, &foreign.ways, product));
        let products = products.map(|product| (product, None));
        if let Some(row) = rows.last_mut().filter(|_| goes_on) {
            row.products.extend(products);
            continue;
        }
        last = deciding.then_some(own).or(last);
        rows.push(Row {
            label: label(&line.bare.id, &line.at),
            action: line.bare.action,
            log: line.bare.log,
            limit_mbps: line.limit_mbps(),
            end: line.end,
            products: products.collect(),
        });
    }
    Ok(rows)
}

/// What a person finds a row by: its name, and where it stands.
fn label(name: &str, at: &str) -> String {
    match at.contains(name) {
        true => short(at),
        false => short(&format!("{name}, {at}")),
    }
}

/// A name that fits into a cell.
pub(super) fn short(name: &str) -> String {
    const MOST: usize = 60;
    crate::clean(name).chars().take(MOST).collect()
}

/// A product over ways, over the plan's interfaces.
fn over_plan(plan: &Plan, around: &Surroundings, ways: &Ways, product: &Match) -> Vec<Match> {
    let outer = around.reached.len();
    let mut by_destination: HashMap<AddressSet, Vec<Interface>> = HashMap::new();
    let mut order = Vec::new();
    for from in 0..ways.from.len() {
        let Some(interface) = ways.plan_interface(plan, ways.interface(from, 0)) else { continue };
        let gateway = around.gateway.get(usize::from(interface.0));
        let wanted = |to: usize| product.enters.contains(ways.interface(from, to));
        let to_gateway = gateway.is_none() || wanted(ways.plain);
        let destination = if to_gateway && (0..outer).all(wanted) {
            product.destination.clone()
        } else {
            let leading = (0..outer).filter(|to| wanted(*to)).map(|to| around.reached[to].clone());
            let mut reached: AddressSet = leading.collect();
            if let Some(gateway) = gateway {
                reached = reached.difference(gateway);
                reached = if wanted(ways.plain) { reached.union(gateway) } else { reached };
            }
            product.destination.intersection(&reached)
        };
        if !destination.is_empty() {
            let own = by_destination.entry(destination.clone()).or_default();
            if own.is_empty() {
                order.push(destination);
            }
            own.push(interface);
        }
    }
    let of = |destination: AddressSet| {
        let enters: IntervalSet<Interface> =
            by_destination.remove(&destination)?.into_iter().collect();
        Some(Match { enters, destination, ..product.clone() })
    };
    order.into_iter().filter_map(of).filter(|one| !one.is_empty()).collect()
}
