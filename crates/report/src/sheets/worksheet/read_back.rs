//! Reads a worksheet as the person who types it does, and compares the result with the rules.

use super::entry;
use super::objects::Objects;
use super::objects::{ANY, plain};
use super::rules::{COLUMNS, ESTABLISHED, Entered, EnteredRule, REPLIES_FROM};
use super::{Values, Worksheet};
use crate::sheets::{are_same, read_addresses};
use bastium_core::plan::Plan;
use bastium_core::rules::{Matches, Rule, RuleSet};
use bastium_core::space::{AddressSet, IntervalSet, Match, Minute, ServiceSet};
use std::collections::HashMap;

/// A rule that a worksheet does not say as it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the worksheet does not give the {what} of rule {rule} as it is")]
pub struct Misread {
    /// The rule.
    pub rule: String,
    /// What of it: `source`, `services`, ...
    pub what: &'static str,
}

/// What was typed before the rules.
pub(in crate::sheets) struct Typed<'s> {
    plan: &'s Plan,
    addresses: HashMap<&'s str, AddressSet>,
    services: HashMap<&'s str, ServiceSet>,
    hours: HashMap<&'s str, IntervalSet<Minute>>,
}

/// The rules that a worksheet does not say as they are; and any that it lacks or has twice.
pub(super) fn misread(rules: &RuleSet, sheet: &Worksheet) -> Vec<Misread> {
    let plan = rules.plan();
    let typed = Typed::read(plan, sheet);
    let tables = sheet.step("rules").map(|step| step.tables.as_slice()).unwrap_or_default();
    // In the order in which they are typed: the first that matches decides.
    let rows: Vec<(&Values, &Vec<Vec<String>>)> =
        tables.iter().flat_map(|table| table.rows.iter().map(move |row| (table, row))).collect();
    let lists = rules.lists.iter().filter(|list| !list.implied);
    let tells = |list, rule| (rule, rules.tells_forwarded(list, rule));
    let rules: Vec<(&Rule, bool)> =
        lists.flat_map(|list| list.rules.iter().map(move |rule| tells(list, rule))).collect();
    let mut found = Vec::new();
    if rows.len() != rules.len() {
        found.push(Misread { rule: "of all".to_owned(), what: "number" });
        return found;
    }
    for (row, (rule, tells_forwarded)) in rows.into_iter().zip(rules) {
        let number = (cell(row.0, row.1, "no") != [rule.number.to_string()]).then_some("number");
        let wrong = number.or_else(|| typed.differs(row, rule, tells_forwarded));
        found.extend(wrong.map(|what| Misread { rule: rule.id.to_string(), what }));
    }
    found
}

/// What names stand for. A name that stands for several things stands for none of them.
fn of_one_meaning<'s, T: PartialEq>(
    named: impl Iterator<Item = (&'s str, T)>,
) -> HashMap<&'s str, T> {
    let mut all: HashMap<&str, Option<T>> = HashMap::new();
    for (name, own) in named {
        let known = all.remove(name);
        let meant = known.is_none_or(|known| known.as_ref() == Some(&own)).then_some(own);
        all.insert(name, meant);
    }
    all.into_iter().filter_map(|(name, own)| Some((name, own?))).collect()
}

/// The values of a row in a column; none where the table has no such column.
fn cell<'s>(table: &'s Values, row: &'s [Vec<String>], column: &str) -> &'s [String] {
    let place = table.columns.iter().position(|heading| *heading == column);
    place.and_then(|place| row.get(place)).map(Vec::as_slice).unwrap_or_default()
}

impl<'s> Typed<'s> {
    /// What the steps before the rules define.
    pub(in crate::sheets) fn read(plan: &'s Plan, sheet: &'s Worksheet) -> Self {
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
            let values = Some(values).filter(|values| !values.is_empty())?;
            Some((name(at)?, read_addresses(plan, values)?))
        });
        let services = rows("services")
            .filter_map(|at| Some((name(at)?, ServiceSet::from_words(cell(at.0, at.1, "ports"))?)));
        let hours = rows("hours").filter_map(|at| {
            Some((name(at)?, IntervalSet::from_words(cell(at.0, at.1, "value").first()?)?))
        });
        Self {
            plan,
            addresses: of_one_meaning(addresses),
            services: of_one_meaning(services),
            hours: of_one_meaning(hours),
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
        if cell("action") != [action] {
            return Some("action");
        }
        let Some(packets) = rule.packets() else {
            let ends = ["at", "source", "destination"].iter().find(|end| cell(end) != [ANY]);
            let service = (cell("service") != [ESTABLISHED]).then_some("services");
            let times = (!cell("when").is_empty()).then_some("hours and limits");
            return ends.copied().or(service).or(times);
        };
        if !entry::says(self.plan, cell("at"), &packets.enters, tells_forwarded) {
            return Some("interfaces");
        }
        let ends = [("source", &packets.source), ("destination", &packets.destination)];
        for (what, set) in ends {
            if !self.set_of(cell(what)).is_some_and(|typed| are_same(self.plan, &typed, set)) {
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
        // What is empty says neither all nor none.
        let named = !names.is_empty();
        let sets = names.iter().map(|name| self.addresses.get(name.as_str()).cloned());
        sets.collect::<Option<AddressSet>>().filter(|_| named)
    }

    fn services_of(&self, names: &[String]) -> Option<ServiceSet> {
        if names == [ANY] {
            return Some(ServiceSet::any());
        }
        let named = !names.is_empty();
        let all = names.iter().try_fold(ServiceSet::empty(), |all, name| {
            Some(all.union(self.services.get(name.as_str())?))
        });
        all.filter(|_| named)
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

    /// Whether cells, in the order of [`COLUMNS`], say a rule as it is, its number apart.
    pub(in crate::sheets) fn says(&self, cells: &[Vec<String>], rule: &Rule, tells: bool) -> bool {
        let table = Values { title: String::new(), columns: COLUMNS.to_vec(), rows: Vec::new() };
        self.differs((&table, &cells.to_vec()), rule, tells).is_none()
    }

    /// The packets of cells in the order of [`COLUMNS`], whatever the plan says.
    ///
    /// # Errors
    /// The column that is not understood.
    pub(in crate::sheets) fn matches(
        &self,
        cells: &[Vec<String>],
    ) -> Result<Matches, &'static str> {
        let cell = |column: &str| {
            let place = COLUMNS.iter().position(|other| *other == column);
            place.and_then(|place| cells.get(place)).map(Vec::as_slice).unwrap_or_default()
        };
        if cell("service") == [ESTABLISHED] {
            // Replies are let back wherever they come from, at any hour.
            let bounded =
                ["at", "source", "destination"].into_iter().find(|end| cell(end) != [ANY]);
            let bounded = bounded.or_else(|| (!cell("when").is_empty()).then_some("when"));
            return bounded.map_or(Ok(Matches::Established), Err);
        }
        let hours = cell("when").iter().find(|one| !one.starts_with("at most "));
        let at =
            hours.map_or(Some(IntervalSet::full()), |name| self.hours.get(name.as_str()).cloned());
        Ok(Matches::First(Match {
            enters: entry::read(self.plan, cell("at")).ok_or("at")?,
            source: self.set_of(cell("source")).ok_or("source")?,
            destination: self.set_of(cell("destination")).ok_or("destination")?,
            service: self.services_of(cell("service")).ok_or("service")?,
            at: at.ok_or("when")?,
        }))
    }

    /// The rows as they were typed, with what they name. `own` is how the plan's rules would be entered.
    pub(in crate::sheets) fn entered<'p>(
        &self,
        rules: &RuleSet<'p>,
        own: &Entered<'p>,
        rows: Vec<EnteredRule>,
    ) -> Entered<'p> {
        let mut objects = Objects::new(rules.plan());
        let mut addresses: Vec<(&&str, &AddressSet)> = self.addresses.iter().collect();
        addresses.sort_by_key(|(name, _)| **name);
        let mut services: Vec<(&&str, &ServiceSet)> = self.services.iter().collect();
        services.sort_by_key(|(name, _)| **name);
        let mut hours: Vec<(&&str, &IntervalSet<Minute>)> = self.hours.iter().collect();
        hours.sort_by_key(|(name, _)| **name);
        addresses
            .into_iter()
            .for_each(|(name, set)| objects.know_addresses(name, set, &own.objects));
        services.into_iter().for_each(|(name, set)| objects.know_service(name, set, &own.objects));
        hours.into_iter().for_each(|(name, set)| objects.know_hours(name, set));
        Entered::typed(objects, rules, rows)
    }
}
