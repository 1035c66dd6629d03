//! Reads a worksheet as whoever types it does, and holds what comes of it against the rules.

use super::entry;
use super::objects::{ANY, plain};
use super::rules::{ESTABLISHED, REPLIES_FROM};
use super::{Values, Worksheet};
use crate::sheets::read_addresses;
use bastium_core::addressing::Placeholder;
use bastium_core::plan::Plan;
use bastium_core::rules::{Matches, Rule, RuleSet};
use bastium_core::space::{AddressSet, IntervalSet, Minute, ServiceSet};
use std::collections::HashMap;
use std::fmt;
use std::net::IpAddr;

/// A rule that a worksheet does not say as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misread {
    /// The rule.
    pub rule: String,
    /// What of it: `source`, `services`, ...
    pub what: &'static str,
}

impl fmt::Display for Misread {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the worksheet does not give the {} of rule {} as it is", self.what, self.rule)
    }
}

impl std::error::Error for Misread {}

/// What was typed before the rules.
struct Typed<'s> {
    plan: &'s Plan,
    addresses: HashMap<&'s str, AddressSet>,
    services: HashMap<&'s str, ServiceSet>,
    hours: HashMap<&'s str, IntervalSet<Minute>>,
}

/// The rules that a worksheet does not say as they are; and any that it lacks or has twice.
pub(super) fn misread(plan: &Plan, rules: &RuleSet, sheet: &Worksheet) -> Vec<Misread> {
    let typed = Typed::read(plan, sheet);
    let tables = sheet.step("rules").map(|step| step.tables.as_slice()).unwrap_or_default();
    // In the order in which they are typed: the first that matches decides.
    let rows: Vec<(&Values, &Vec<Vec<String>>)> =
        tables.iter().flat_map(|table| table.rows.iter().map(move |row| (table, row))).collect();
    let lists = rules.lists.iter().filter(|list| !list.implied);
    let tells = |list, rule| (rule, rules.tells_forwarded(plan, list, rule));
    let rules: Vec<(&Rule, bool)> =
        lists.flat_map(|list| list.rules.iter().map(move |rule| tells(list, rule))).collect();
    let mut found = Vec::new();
    if rows.len() != rules.len() {
        found.push(Misread { rule: "of all".to_owned(), what: "number" });
        return found;
    }
    for (row, (rule, tells_forwarded)) in rows.into_iter().zip(rules) {
        let wrong = typed.differs(row, rule, tells_forwarded);
        found.extend(wrong.map(|what| Misread { rule: rule.id.to_string(), what }));
    }
    found
}

/// The values of a row in a column; none where the table has no such column.
fn cell<'s>(table: &'s Values, row: &'s [Vec<String>], column: &str) -> &'s [String] {
    let place = table.columns.iter().position(|heading| *heading == column);
    place.and_then(|place| row.get(place)).map(Vec::as_slice).unwrap_or_default()
}

impl<'s> Typed<'s> {
    fn read(plan: &'s Plan, sheet: &'s Worksheet) -> Self {
        let rows = |step: &str| {
            let tables = sheet.step(step).map(|step| step.tables.as_slice()).unwrap_or_default();
            tables
                .iter()
                .flat_map(|table| table.rows.iter().map(move |row| (table, row.as_slice())))
        };
        let name = |(table, row): (&'s Values, &'s [Vec<String>])| {
            cell(table, row, "name").first().map(String::as_str)
        };
        let addresses = rows("addresses").filter_map(|at| {
            let has_values = at.0.columns.contains(&"values");
            let values = has_values.then(|| cell(at.0, at.1, "values"))?;
            Some((name(at)?, read_addresses(plan, values)?))
        });
        let services = rows("services")
            .filter_map(|at| Some((name(at)?, ServiceSet::from_words(cell(at.0, at.1, "ports"))?)));
        let hours = rows("hours").filter_map(|at| {
            Some((name(at)?, IntervalSet::from_words(cell(at.0, at.1, "value").first()?)?))
        });
        Self {
            plan,
            addresses: addresses.collect(),
            services: services.collect(),
            hours: hours.collect(),
        }
    }

    /// What of a rule its row does not say.
    fn differs(
        &self,
        (table, row): (&Values, &Vec<Vec<String>>),
        rule: &Rule,
        tells_forwarded: bool,
    ) -> Option<&'static str> {
        let cell = |column: &str| cell(table, row, column);
        let action = format!("{}{}", rule.action.word(), if rule.log { " +log" } else { "" });
        if cell("no") != [rule.number.to_string()] {
            return Some("number");
        }
        if cell("action") != [action] {
            return Some("action");
        }
        let Some(packets) = rule.packets() else {
            let ends = ["at", "source", "destination"].iter().find(|end| cell(end) != [ANY]);
            let service = (cell("service") != [ESTABLISHED]).then_some("services");
            return ends.copied().or(service);
        };
        if !entry::says(self.plan, cell("at"), &packets.enters, tells_forwarded) {
            return Some("interfaces");
        }
        let ends = [("source", &packets.source), ("destination", &packets.destination)];
        for (what, set) in ends {
            if !self.set_of(cell(what)).is_some_and(|typed| self.is_same(&typed, set)) {
                return Some(what);
            }
        }
        let services = match &rule.matches {
            Matches::Replies { from, .. } => {
                cell("service") == [format!("{REPLIES_FROM}{}", from.words().join(" or "))]
            }
            _ => {
                let typed = self.services_of(cell("service"));
                typed
                    .is_some_and(|typed| plain(&typed, packets) == plain(&packets.service, packets))
            }
        };
        if !services {
            return Some("services");
        }
        (!self.has_times(cell("when"), rule, &packets.at)).then_some("hours and limits")
    }

    fn set_of(&self, names: &[String]) -> Option<AddressSet> {
        if names == [ANY] {
            return Some(AddressSet::full());
        }
        names.iter().map(|name| self.addresses.get(name.as_str()).cloned()).collect()
    }

    /// Whether what is typed has the same addresses. An address that only stands for something that is not known
    /// beforehand is none that a gateway could have: it may lie in a range that is typed, and is missed only where it
    /// stands for something of this plan.
    fn is_same(&self, typed: &AddressSet, set: &AddressSet) -> bool {
        let stands_in = |low: IpAddr, high: IpAddr| low == high && Placeholder::of(low).is_some();
        let (more, less) = (typed.difference(set), set.difference(typed));
        more.ranges().all(|(low, high)| stands_in(low, high))
            && less
                .ranges()
                .all(|(low, high)| stands_in(low, high) && self.plan.stand_in_words(low).is_none())
    }

    fn services_of(&self, names: &[String]) -> Option<ServiceSet> {
        if names == [ANY] {
            return Some(ServiceSet::any());
        }
        names.iter().try_fold(ServiceSet::empty(), |all, name| {
            Some(all.union(self.services.get(name.as_str())?))
        })
    }

    /// Whether it is said when a rule applies and how much it lets through, and nothing else.
    fn has_times(&self, when: &[String], rule: &Rule, at: &IntervalSet<Minute>) -> bool {
        let (hours, rest) = match (&rule.hours, when) {
            (Some(_), [name, rest @ ..]) => (self.hours.get(name.as_str()) == Some(at), rest),
            (Some(_), []) => (false, when),
            (None, _) => (at.is_full(), when),
        };
        let rate = rule.limit_mbps.map(|rate| format!("at most {rate} Mbit/s"));
        hours && rate.iter().eq(rest)
    }
}
