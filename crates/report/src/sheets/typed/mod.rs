//! Rules as somebody has typed them, read from the tables that this program writes: the worksheet and the rules, as CSV or as
//! rows of a workbook.
//!
//! What is read is exact, or it is named as not understood. The plan says which interfaces there are and what its lists are
//! asked about; the rules are those of the table.

mod rules_table;
mod tables;
mod worksheet_table;

use super::RuleSheet;
use super::audit::of_list;
use super::worksheet::{Entered, Misread};
use crate::Table;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof;
use bastium_core::rules::{self, Rule, RuleId, RuleSet};
use bastium_gateway::foreign::Foreign;
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
    /// How many of their names are none of the form's, or of the form's are not among them.
    strange: usize,
    /// The rows and what they name, where the table is a worksheet.
    pub(super) entered: Option<Entered<'p>>,
}

impl TypedRules<'_> {
    /// Whether these are rules that decide and limit as others do. Of what is not understood nobody knows.
    pub fn agrees_with(&self, other: &Self) -> bool {
        let Ok(others) = Foreign::typed(&other.rules, Vec::new()) else { return false };
        let (differences, undecided) = of_list(&others, self.rules.plan(), &self.rules);
        other.not_understood.is_empty() && differences.is_empty() && undecided == 0
    }
}

/// A row of rules, read.
struct TypedRow {
    list: String,
    id: RuleId,
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
    let of_rules = if worksheet { worksheet_table::RULES } else { rules_table::RULES };
    let strays = strays(&tables, &of_rules);
    let own = meaning.plan().gateway().form;
    let forms = [own].into_iter().chain(Form::ALL.into_iter().filter(|form| *form != own));
    let mut best: Option<((usize, usize), TypedRules<'p>)> = None;
    for rules in forms.filter_map(|form| rules::in_form(meaning, form).ok()) {
        let typed = match worksheet {
            true => worksheet_table::read(&tables, &rules),
            false => rules_table::read(&tables, &rules),
        };
        // The form that has most of these rules, whatever can be read of them; then the one in which most can be.
        let amiss = (typed.strange, typed.not_understood.len());
        if best.as_ref().is_none_or(|(least, _)| amiss < *least) {
            best = Some((amiss, typed));
        }
        if amiss == (0, 0) {
            break;
        }
    }
    let (_, mut typed) = best?;
    typed.not_understood.extend(strays);
    Some(typed)
}

/// Rows that look like rules and stand in no table of rules: above all headings, or below some that are nearly those of rules.
fn strays(tables: &[RawTable], of_rules: &[&str]) -> Vec<(String, String)> {
    // A worksheet's other tables share one at most, as `name` or `source`.
    const NEARLY: usize = 3;
    let nearly = |table: &&RawTable| !table.has(of_rules) && table.is_like(of_rules, NEARLY);
    let others = tables.iter().filter(nearly).flat_map(RawTable::rows);
    let strays = others.filter(|row| row.has_action());
    strays.map(|row| (row.at(), "a rule below other headings".to_owned())).collect()
}

/// Whether rules typed from these tables do what the plan says: the tables are read as from a
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

/// Rows in the lists of a form.
struct InLists<'p> {
    rules: RuleSet<'p>,
    not_understood: Vec<(String, String)>,
    strange: usize,
}

/// Puts rows into the lists of rules, in their order.
fn in_lists<'p>(
    rules: &RuleSet<'p>,
    name: impl Fn(&bastium_core::rules::RuleList) -> String,
    rows: Vec<TypedRow>,
) -> InLists<'p> {
    let lists: Vec<String> = rules.lists.iter().filter(|list| !list.implied).map(name).collect();
    let mut typed: Vec<Vec<Rule>> = vec![Vec::new(); lists.len()];
    let mut not_understood = Vec::new();
    let mut seen: HashMap<RuleId, usize> = HashMap::new();
    let mut missing: HashSet<RuleId> = rules.rules().map(|rule| rule.id.clone()).collect();
    let mut strange = 0;
    for TypedRow { list, id, mut rule, at } in rows {
        strange += usize::from(!missing.remove(&id));
        // A copied row has the name of its original: they are two rules all the same.
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
    let strange = strange + missing.len();
    InLists { rules: rules.with_rules(typed), not_understood, strange }
}
