//! One row of the rule table, and how many rows there are.

use super::{RuleRow, Size};
use crate::sheets::{Because, address_values};
use bastium_core::meaning::Meaning;
use bastium_core::name::Name;
use bastium_core::plan::{Plan, Rows};
use bastium_core::rules::{self, Rule, RuleSet};
use bastium_core::space::{AddressSet, Interface, IntervalSet};
use bastium_core::verdict::Cause;
use std::collections::BTreeSet;

impl Size {
    pub(super) fn new(meaning: &Meaning<'_>, rules: &RuleSet) -> Self {
        let (own, values) = (rules.rows().count(), rules.values());
        let every = rules::in_form_with(meaning, rules.form, Rows::EveryCell).ok();
        Self {
            rules: own,
            values,
            rules_for_every_cell: every.as_ref().map_or(own, |every| every.rows().count()),
            values_for_every_cell: every.as_ref().map_or(values, RuleSet::values),
            at_least: rules::fewest::least(rules),
        }
    }
}

/// The row of a rule, or of several that are entered as one.
pub(super) fn row(plan: &Plan, same: &[Rule]) -> RuleRow {
    let [rule] = same else { return by_interface(plan, same) };
    one(plan, rule)
}

/// The words for the sources of rules that are entered as one: where, and which.
pub(in crate::sheets) const BY_INTERFACE: [&str; 2] =
    ["each interface", "sources that do not belong there"];

/// Rules that say the same of several interfaces, each of its own sources.
fn by_interface(plan: &Plan, same: &[Rule]) -> RuleRow {
    let rows: Vec<RuleRow> = same.iter().map(|rule| one(plan, rule)).collect();
    let of_each = |row: &RuleRow| {
        format!("{}: {}", row.interfaces.join(", "), row.source_addresses.join(", "))
    };
    RuleRow {
        id: "spoofed".to_owned(),
        name: "anti-spoofing at each interface".to_owned(),
        interfaces: rows.iter().flat_map(|row| row.interfaces.clone()).collect(),
        from: BY_INTERFACE[0].to_owned(),
        source: BY_INTERFACE[1].to_owned(),
        source_addresses: rows.iter().map(of_each).collect(),
        also: rows[1..].iter().map(|row| row.because.clone()).collect(),
        ..rows[0].clone()
    }
}

/// Addresses as they are entered, with those of the internet under its name.
fn addresses(plan: &Plan, set: &AddressSet) -> Vec<String> {
    if *set == AddressSet::full() {
        return vec!["any".to_owned()];
    }
    let internet = plan.zone_prefixes(plan.internet());
    if internet.is_empty() || !internet.is_subset(set) {
        return address_values(plan, set);
    }
    let rest = set.difference(internet);
    let inside = if rest.is_empty() { Vec::new() } else { address_values(plan, &rest) };
    [plan.zone(plan.internet()).name.to_string()].into_iter().chain(inside).collect()
}

/// Where packets enter, by the names of networks and uplinks; nothing where that is any of them.
fn entering(plan: &Plan, enters: &IntervalSet<Interface>) -> Vec<String> {
    let came_by = plan.came_by_any(enters);
    let outer = (0..plan.gateway_interface().0).map(Interface);
    if outer.clone().all(|interface| came_by.contains(interface)) {
        return Vec::new();
    }
    let all = outer.chain([plan.gateway_interface()]).filter(|one| came_by.contains(*one));
    all.map(|interface| plan.interface_name(interface).to_owned()).collect()
}

/// The tags of the entries behind a rule, each once.
fn tags(plan: &Plan, rule: &Rule) -> Vec<String> {
    let causes = [rule.cause];
    let entries = causes.iter().chain(&rule.also).filter_map(|cause| match cause {
        Cause::Exception(id) | Cause::Offered(id) => Some(plan.exception(*id)),
        _ => None,
    });
    let tags = entries.flat_map(|entry| &entry.tags).map(Name::to_string);
    tags.collect::<BTreeSet<String>>().into_iter().collect()
}

fn one(plan: &Plan, rule: &Rule) -> RuleRow {
    let packets = rule.packets();
    let any = AddressSet::full();
    RuleRow {
        interfaces: packets.map(|packets| entering(plan, &packets.enters)).unwrap_or_default(),
        source_addresses: addresses(plan, packets.map_or(&any, |packets| &packets.source)),
        destination_addresses: addresses(
            plan,
            packets.map_or(&any, |packets| &packets.destination),
        ),
        tags: tags(plan, rule),
        also: rule.also.iter().map(|cause| Because::new(*cause, plan)).collect(),
        number: rule.number,
        id: rule.id.to_string(),
        name: rule.name.clone(),
        reason: rule.reason.clone(),
        from: rule.from.to_string(),
        source: rule.source.to_string(),
        to: rule.to.to_string(),
        destination: rule.destination.to_string(),
        service: rule.service.clone(),
        ports: rule.ports.clone(),
        replies_from: rule.replies_from().map(|ports| ports.words()).unwrap_or_default(),
        action: rule.action.word(),
        log: rule.log,
        hours: rule.hours.clone(),
        limit_mbps: rule.limit_mbps,
        // What the gateway does by itself stands nowhere in the plan.
        because: Because {
            line: rule.cause.line(plan).filter(|_| rule.number > 0),
            ..Because::new(rule.cause, plan)
        },
        matches: Vec::new(),
    }
}
