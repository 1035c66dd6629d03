//! Turns lines over pairs of interfaces back into rows over the interfaces of a plan: the inverse of splitting a rule
//! by where its destination leads.

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
        let mut products = Vec::new();
        for product in &line.bare.matches {
            let own = over_plan(plan, &around, &foreign.ways, product);
            let own = own.ok_or_else(|| NotHeld::OneOfSeveralUplinks { at: line.at.clone() })?;
            products.extend(own.into_iter().map(|product| (product, None)));
        }
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
            products,
        });
    }
    Ok(rows)
}

/// What a person finds a row by: its name, and where it stands.
fn label(name: &str, at: &str) -> String {
    match name == at {
        true => short(at),
        false => short(&format!("{name}, {at}")),
    }
}

/// A name that fits into a cell, and says nothing there but what it is: where a row moves to or from stands beside it in
/// brackets.
pub(super) fn short(name: &str) -> String {
    const MOST: usize = 60;
    let bare = name.replace(['(', ')'], "'");
    crate::clean(&bare).chars().take(MOST).collect::<String>().trim().to_owned()
}

/// A product over ways, over the plan's interfaces; `None` where it is for one of several interfaces to which the same
/// addresses lead: which of them a packet leaves by is decided by no rule.
fn over_plan(
    plan: &Plan,
    around: &Surroundings,
    ways: &Ways,
    product: &Match,
) -> Option<Vec<Match>> {
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
            let leading = |own: bool| -> AddressSet {
                let to = (0..outer).filter(|to| wanted(*to) == own);
                to.map(|to| around.reached[to].clone()).collect()
            };
            let mut reached = leading(true);
            let others = leading(false).intersection(&product.destination);
            let either = reached.intersection(&others);
            if !gateway.map_or(either.clone(), |gateway| either.difference(gateway)).is_empty() {
                return None;
            }
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
    Some(order.into_iter().filter_map(of).filter(|one| !one.is_empty()).collect())
}
