//! Rules as somebody has typed them, read from the tables that this program writes: the worksheet and the rules, as CSV or as
//! rows of a workbook.
//!
//! What is read is exact, or it is named as not understood. The plan says which interfaces there are and what its lists are
//! asked about; the rules are those of the table.

mod rules_table;
mod tables;
mod worksheet_table;

use super::RuleSheet;
use super::worksheet::{Entered, Misread};
use crate::Table;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof;
use bastium_core::rules::{self, Rule, RuleId, RuleSet};
use std::collections::{HashMap, HashSet};
use tables::RawTable;

/// Rules that were typed.
#[derive(Debug)]
#[non_exhaustive]
pub struct TypedRules<'p> {
    /// The rules, in the lists of the plan's form.
    pub rules: RuleSet<'p>,
    /// What was not understood, each by where it stands. If there is anything, nothing can be said of the rules as a whole.
    pub not_understood: Vec<(String, String)>,
    /// How many rows of rules there are.
    pub rows: usize,
    /// The rows and what they name, where the table is a worksheet.
    pub(super) entered: Option<Entered<'p>>,
}

/// A row of rules, read.
struct TypedRow {
    list: String,
    rule: Result<Rule, String>,
    at: String,
}

/// What rows are read against.
struct Known<'k> {
    plan: &'k Plan,
    rules: &'k RuleSet<'k>,
    /// The plan's rules by their names in the table.
    named: HashMap<String, &'k Rule>,
}

impl Known<'_> {
    /// A rule's id, and the plan's rule of its name.
    fn named(&self, name: &str) -> (RuleId, Option<&Rule>) {
        let like = self.named.get(name).copied();
        (like.map_or_else(|| RuleId::new(name), |rule| rule.id.clone()), like)
    }
}

/// Reads rows of a table of this program: `None` if it is none.
///
/// The rules are taken to be in that form of the plan's whose lists the table has.
pub fn read_typed<'p>(rows: &[Vec<String>], meaning: &Meaning<'p>) -> Option<TypedRules<'p>> {
    let tables = tables::of(rows);
    let worksheet = tables.iter().any(worksheet_table::is_one);
    let is_rules = |table: &&RawTable| rules_table::is_one(table);
    if !worksheet && !tables.iter().any(|table| is_rules(&table)) {
        return None;
    }
    let own = meaning.plan().gateway().form;
    let forms = [own].into_iter().chain(Form::ALL.into_iter().filter(|form| *form != own));
    let mut best: Option<((usize, usize), TypedRules<'p>)> = None;
    for rules in forms.filter_map(|form| rules::in_form(meaning, form).ok()) {
        let typed = match worksheet {
            true => worksheet_table::read(&tables, &rules),
            false => rules_table::read(&tables, &rules),
        };
        let own: HashSet<String> = rules.rules().map(|rule| rule.id.to_string()).collect();
        let strange = typed.rules.rules().filter(|rule| !own.contains(&rule.id.to_string()));
        let strange = strange.count() + own.len().saturating_sub(typed.rules.rules().count());
        // The form that most of it is understood in, and that has most of these rules.
        let amiss = (typed.not_understood.len(), strange);
        if best.as_ref().is_none_or(|(least, _)| amiss < *least) {
            best = Some((amiss, typed));
        }
        if amiss == (0, 0) {
            break;
        }
    }
    best.map(|(_, typed)| typed)
}

/// Whether whoever types from these tables of rules has rules that do what the plan says: the tables are read as from a
/// file, and the rules that come of it are proved.
///
/// # Errors
/// What is not understood, or that the rules are others. That is a fault of this program.
pub fn proved_as_typed(sheet: &RuleSheet, meaning: &Meaning<'_>) -> Result<(), Vec<Misread>> {
    let whole = |what| vec![Misread { rule: "of all".to_owned(), what }];
    let typed = read_typed(&cells(&sheet.tables()), meaning).ok_or_else(|| whole("columns"))?;
    if !typed.not_understood.is_empty() {
        let unread = typed.not_understood.into_iter();
        return Err(unread.map(|(at, _)| Misread { rule: at, what: "values" }).collect());
    }
    proof::proved(meaning, &typed.rules).map_err(|_| whole("packets"))?;
    let answered = proof::answers(meaning, &typed.rules).unanswered.is_none();
    if answered { Ok(()) } else { Err(whole("replies")) }
}

/// The cells of tables, as a file has them: their titles in front.
fn cells(tables: &[Table]) -> Vec<Vec<String>> {
    let mut rows = Vec::new();
    for table in tables {
        let headings = table.columns.iter().map(|column| column.heading.clone());
        rows.push(["list".to_owned()].into_iter().chain(headings).collect());
        let title = table.title.clone().unwrap_or_default();
        rows.extend(table.rows.iter().map(|row| {
            let texts = row.iter().map(|cell| cell.text.clone());
            [title.clone()].into_iter().chain(texts).collect()
        }));
    }
    rows
}

/// Puts rows into the lists of rules, in their order.
fn in_lists<'p>(
    rules: &RuleSet<'p>,
    name: impl Fn(&bastium_core::rules::RuleList) -> String,
    rows: Vec<TypedRow>,
) -> (RuleSet<'p>, Vec<(String, String)>) {
    let lists: Vec<String> = rules.lists.iter().filter(|list| !list.implied).map(name).collect();
    let mut typed: Vec<Vec<Rule>> = vec![Vec::new(); lists.len()];
    let mut not_understood = Vec::new();
    let mut seen: HashMap<RuleId, usize> = HashMap::new();
    for TypedRow { list, mut rule, at } in rows {
        // Whoever copies a row has two of one name: they are two rules all the same.
        if let Ok(rule) = &mut rule {
            let count = seen.entry(rule.id.clone()).or_default();
            *count += 1;
            if *count > 1 {
                rule.id = RuleId::new(format!("{} ({count})", rule.id));
            }
        }
        match (lists.iter().position(|own| *own == list), rule) {
            (_, Err(what)) => not_understood.push((at, what)),
            (None, Ok(_)) => not_understood.push((at, format!("the list `{list}`"))),
            (Some(place), Ok(rule)) => typed[place].push(rule),
        }
    }
    (rules.with_rules(typed), not_understood)
}
