//! A worksheet: the objects, and the rows that name them.

use super::tables::{RawRow, RawTable, action, may_have_rate, when};
use super::{InLists, Known, TypedRow, TypedRules, in_lists};
use crate::sheets::EDITION;
use crate::sheets::worksheet::{
    COLUMNS, Entered, EnteredRule, Step, TIME_ZONE, Typed, Values, Worksheet, title,
};
use bastium_core::plan::Plan;
use bastium_core::rules::{Rule, RuleSet};
use std::collections::BTreeSet;

pub(super) const RULES: [&str; 7] =
    ["no", "action", "at", "source", "destination", "service", "name"];

/// What is made before the rules: the step, the columns that tell it, and those that are read.
const NAMED: [(&str, &[&str], &[&str]); 3] = [
    ("addresses", &["name", "kind", "values"], &["name", "kind", "values"]),
    ("services", &["name", "ports", "on the gateway"], &["name", "ports", "on the gateway"]),
    ("hours", &["name", "value"], &["name", "value"]),
];

pub(super) fn is_one(table: &RawTable) -> bool {
    table.has(&RULES)
}

pub(super) fn read<'p>(tables: &[RawTable], rules: &RuleSet<'p>) -> TypedRules<'p> {
    let plan = rules.plan();
    let sheet = sheet(tables, rules);
    let typed = Typed::read(plan, &sheet);
    let own = Entered::new(rules);
    let named = own.rules().filter_map(|entered| {
        let rule = rules.rules().find(|rule| rule.id == entered.id)?;
        Some((entered.name.clone(), rule))
    });
    let known = Known { plan, rules, named: named.collect() };
    let mut rows: Vec<RawRow<'_>> =
        tables.iter().filter(|table| is_one(table)).flat_map(RawTable::rows).collect();
    // List by list, wherever a row stands in the file.
    let titles: Vec<String> = rules.lists.iter().map(|list| title(plan, list)).collect();
    rows.sort_by_key(|row| titles.iter().position(|title| title == list_of(*row)));
    let read = rows.iter().map(|row| TypedRow {
        list: list_of(*row).to_owned(),
        id: known_id(&known, *row),
        rule: rule(*row, &known, &typed),
        at: row.at(),
    });
    let read = in_lists(rules, |list| title(plan, list), read.collect());
    let InLists { rules: read, not_understood, strange } = read;
    let entered = not_understood.is_empty().then(|| {
        let cells = rows.iter().map(|row| EnteredRule::typed(&known_id(&known, *row), cells(*row)));
        typed.entered(&read, &own, cells.collect())
    });
    let not_understood = not_understood.into_iter().chain(beside_packets(tables, plan)).collect();
    TypedRules { rules: read, not_understood, rows: rows.len(), strange, entered }
}

/// What rules rest on and no packet shows: the names of a domain, and the clock that hours go by. Where these are not the plan's,
/// the rules are not, whatever they say.
fn beside_packets(tables: &[RawTable], plan: &Plan) -> Vec<(String, String)> {
    let rows = |columns: [&str; 2]| -> Vec<RawRow<'_>> {
        let own = tables.iter().filter(|table| table.has(&columns) && !is_one(table));
        own.flat_map(RawTable::rows).collect()
    };
    let domains = rows(["name", "domain names"]);
    let mut wrong = Vec::new();
    for domain in plan.domains() {
        let name = domain.name.as_str();
        let wanted: BTreeSet<&str> = domain.names.iter().map(String::as_str).collect();
        let own: Vec<&RawRow<'_>> = domains.iter().filter(|row| row.cell("name") == name).collect();
        let other = |row: &&&RawRow<'_>| {
            let has = row.values("domain names");
            has.iter().map(String::as_str).collect::<BTreeSet<&str>>() != wanted
        };
        let at = match own.iter().find(other) {
            Some(row) => row.at(),
            None if own.is_empty() => "domains".to_owned(),
            None => continue,
        };
        let wanted = domain.names.join(", ");
        wrong.push((at, format!("the domain names of `{name}`, which are {wanted} in the plan")));
    }
    let hours = rows(["name", "value"]);
    let is_zone = |row: &&RawRow<'_>| row.cell("name") == TIME_ZONE;
    let zone = plan.site().time_zone.as_deref().unwrap_or_default();
    let has = hours.iter().find(is_zone);
    if !hours.is_empty() && has.map_or("", |row| row.cell("value")) != zone {
        let at = has.map_or_else(|| "hours".to_owned(), |row| row.at());
        let wanted = if zone.is_empty() { "not known" } else { zone };
        wrong.push((at, format!("the time zone, which is {wanted} in the plan")));
    }
    wrong
}

/// The list of a row. Behind its number, the step is titled as the list.
fn list_of(row: RawRow<'_>) -> &str {
    row.cell("step").split_once(". ").map_or("", |(_, title)| title)
}

fn known_id(known: &Known<'_>, row: RawRow<'_>) -> bastium_core::rules::RuleId {
    known.named(row.cell("name")).0
}

/// What the tables say, as the worksheet that they were written from.
fn sheet(tables: &[RawTable], rules: &RuleSet) -> Worksheet {
    let steps = NAMED.into_iter().map(|(name, has, columns)| {
        let own = tables.iter().filter(|table| table.has(has) && !is_one(table));
        let rows = own.flat_map(RawTable::rows).map(|row| {
            // Hours are several stretches in one value.
            let cell = |column: &&str| match *column {
                "value" => vec![row.cell(column).to_owned()],
                column => row.values(column),
            };
            columns.iter().map(cell).collect::<Vec<Vec<String>>>()
        });
        let table =
            Values { title: name.to_owned(), columns: columns.to_vec(), rows: rows.collect() };
        Step::of(name, vec![table])
    });
    Worksheet {
        bastium: EDITION,
        site: String::new(),
        day: rules.day.to_string(),
        changes_on: None,
        form: rules.form.word(),
        since: None,
        steps: steps.collect(),
    }
}

/// The cells of a row, in the order of [`COLUMNS`].
fn cells(row: RawRow<'_>) -> Vec<Vec<String>> {
    COLUMNS.iter().map(|column| row.values(column)).collect()
}

fn rule(row: RawRow<'_>, known: &Known<'_>, typed: &Typed<'_>) -> Result<Rule, String> {
    let what = |column: &str| format!("{column} `{}`", row.cell(column));
    let columns: Vec<&str> = ["step", "done"].into_iter().chain(COLUMNS).collect();
    if let Some(unread) = row.unread(&columns) {
        return Err(unread);
    }
    let (action, log) = action(row.cell("action")).ok_or_else(|| what("action"))?;
    let times = when(&row.values("when")).filter(|(_, rate)| may_have_rate(action, *rate));
    let (hours, limit) = times.ok_or_else(|| what("when"))?;
    let (id, like) = known.named(row.cell("name"));
    let cells = cells(row);
    if let Some(like) = like.filter(|like| typed.says(&cells, like, tells_forwarded(known, like))) {
        return Ok(like.clone());
    }
    let matches = typed.matches(&cells).map_err(what)?;
    Ok(Rule::typed(id, matches, (action, log, limit), hours, like))
}

fn tells_forwarded(known: &Known<'_>, like: &Rule) -> bool {
    let mut lists = known.rules.lists.iter();
    let list = lists.find(|list| list.rules.iter().any(|rule| rule.id == like.id));
    list.is_some_and(|list| known.rules.tells_forwarded(list, like))
}
