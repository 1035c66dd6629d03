//! Small grids of zones: where checks are made, where traffic has changed, how many rules decide.

use crate::sheets::{CellRow, CellRule, ChecklistSheet, CompareSheet};
use bastium_core::plan::Plan;
use bastium_picture::{Mark, SmallGrid};
use std::collections::BTreeMap;

/// Which cells of the matrix a checklist tries, and how often. What is about the gateway itself is in no cell.
pub fn tried_grid(sheet: &ChecklistSheet) -> SmallGrid {
    let mut counts: BTreeMap<(String, String), usize> = BTreeMap::new();
    let mut elsewhere = 0;
    for check in sheet.stands.iter().flat_map(|stand| &stand.checks) {
        match (&check.from_zone, &check.to_zone) {
            (Some(from), Some(to)) => *counts.entry((from.clone(), to.clone())).or_default() += 1,
            _ => elsewhere += 1,
        }
    }
    let about = match elsewhere {
        0 => "How many checks try each cell of the matrix.".to_owned(),
        1 => {
            "How many checks try each cell of the matrix; 1 is about the gateway itself.".to_owned()
        }
        more => format!(
            "How many checks try each cell of the matrix; {more} are about the gateway itself."
        ),
    };
    let mark = |from: &str, to: &str| {
        let count = *counts.get(&(from.to_owned(), to.to_owned()))?;
        let words = crate::count(count, "check");
        Some(Mark { text: count.to_string(), strong: false, words, anchor: None })
    };
    grid("Where the checks are made", &about, &sheet.zones, mark)
}

/// Which cells a change opens or closes.
pub fn changed_grid(plan: &Plan, sheet: &CompareSheet) -> SmallGrid {
    let zones: Vec<String> = plan.zones().iter().map(|zone| zone.name.to_string()).collect();
    let mut found: BTreeMap<(String, String), [bool; 3]> = BTreeMap::new();
    for (kind, rows) in [&sheet.opens, &sheet.closes, &sheet.changes].into_iter().enumerate() {
        for row in rows {
            for from in zones_in(plan, &row.packets.from) {
                for to in zones_in(plan, &row.packets.to) {
                    found.entry((from.clone(), to)).or_default()[kind] = true;
                }
            }
        }
    }
    let mark = |from: &str, to: &str| {
        let kinds = found.get(&(from.to_owned(), to.to_owned()))?;
        let words = ["opens", "closes", "changes"].into_iter().zip(kinds);
        let words: Vec<&str> = words.filter(|(_, is_so)| **is_so).map(|(word, _)| word).collect();
        let text = words.join(", ");
        Some(Mark { words: text.clone(), strong: kinds[0], text, anchor: None })
    };
    let about = "Cells of the matrix in which traffic is opened, closed or treated otherwise.";
    grid("Where traffic has changed", about, &zones, mark)
}

/// How many rules decide each cell; those in which something passes stand out.
pub(crate) fn rule_grid(zones: &[String], cells: &[(CellRow, Vec<CellRule>)]) -> SmallGrid {
    let mark = |from: &str, to: &str| {
        let (cell, rules) = cells.iter().find(|(cell, _)| cell.from == from && cell.to == to)?;
        let passes = rules.iter().any(|rule| rule.action == "allow");
        let words = format!("{}, {}", crate::count(rules.len(), "rule"), cell.action);
        let shown = cell.action == "allow" || !cell.exceptions.is_empty();
        let anchor = shown.then(|| format!("cell-{from}.{to}"));
        let is_some = !rules.is_empty();
        is_some.then(|| Mark { text: rules.len().to_string(), strong: passes, words, anchor })
    };
    let about = "How many rules decide each cell of the matrix; filled: some of them let pass.";
    grid("Rules by cell", about, zones, mark)
}

fn grid(
    title: &str,
    about: &str,
    zones: &[String],
    mark: impl Fn(&str, &str) -> Option<Mark>,
) -> SmallGrid {
    let pairs = zones.iter().flat_map(|from| zones.iter().map(move |to| (from, to)));
    SmallGrid {
        title: title.to_owned(),
        about: about.to_owned(),
        zones: zones.to_vec(),
        cells: pairs.map(|(from, to)| mark(from, to)).collect(),
    }
}

/// The zones of names that are joined in one text: of zones, networks and hosts.
fn zones_in(plan: &Plan, words: &str) -> Vec<String> {
    let zone_of = |name: &str| {
        let network = plan.networks().iter().find(|network| network.name.as_str() == name);
        let host = plan.hosts().iter().find(|host| host.name.as_str() == name);
        let network = network.or_else(|| host.map(|host| plan.network(host.network)));
        let uplink = plan.uplinks().iter().any(|uplink| uplink.name.as_str() == name);
        let outside = uplink.then(|| plan.internet());
        plan.zone_named(name).or(network.map(|network| network.zone)).or(outside)
    };
    let names = words.split([',', '+']).map(str::trim);
    let mut zones: Vec<String> =
        names.filter_map(zone_of).map(|id| plan.zone(id).name.to_string()).collect();
    zones.dedup();
    zones
}
