//! The worksheet: everything to type into a gateway that takes its settings by hand, in the order in which it takes
//! them, with values. What is made here is read back from its own words before anyone sees it: see [`read_back`].

mod entry;
mod names;
mod objects;
mod read_back;
mod rules;
mod since;
mod steps;

pub(in crate::sheets) use objects::plain;
pub use read_back::Misread;
pub(in crate::sheets) use read_back::Typed;
pub(in crate::sheets) use rules::{COLUMNS, Entered, EnteredRule, title};
pub(in crate::sheets) use steps::TIME_ZONE;

use super::EDITION;
use crate::{Cell, Column, Table};
use bastium_core::meaning::Meaning;
use bastium_core::proof::Proved;
use bastium_core::rules::RuleSet;
use schemars::JsonSchema;
use serde::Serialize;

/// Everything to type, step by step.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Worksheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The day that it is for.
    pub day: String,
    /// The next day on which it would be another one.
    pub changes_on: Option<String>,
    /// The form of the rules.
    pub form: &'static str,
    /// From where the gateway is brought here; none where everything is typed.
    pub since: Option<Since>,
    /// The steps, in order. A step with nothing to type is left out.
    pub steps: Vec<Step>,
}

/// Where a change of a gateway begins.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Since {
    /// The old plan: a file, or a commit; or the file of what the gateway has.
    pub old: String,
    /// How many edits of rules there are.
    pub edits: usize,
    /// How many rows of rules stay as they are.
    pub kept: usize,
    /// Whether every edit by itself leaves as it is whatever old and new rules agree on.
    pub safe: bool,
    /// What is assumed, because the old rules say nothing of it.
    pub assumed: Vec<String>,
}

/// One step: what to type, and what to see afterwards.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Step {
    /// Its number, from 1 on.
    pub number: usize,
    /// Its name, for programs.
    pub name: &'static str,
    /// What it is about.
    pub title: &'static str,
    /// What to type.
    pub tables: Vec<Values>,
    /// What is cut off for a while, or not safe.
    pub warnings: Vec<String>,
    /// What the engineer should see when it is done.
    pub afterwards: String,
}

/// Values to type, a row for each thing that is made on the gateway.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Values {
    /// What they are.
    pub title: String,
    /// The names of the columns.
    pub columns: Vec<&'static str>,
    /// The rows: a cell for each column, with several values where several are to be chosen.
    pub rows: Vec<Vec<Vec<String>>>,
}

/// The heading of the column that is ticked.
const DONE: &str = "done";

/// What stands in it before.
const OPEN: &str = "[ ]";

impl Worksheet {
    /// Makes the worksheet of rules that do what their plan says, and reads it back.
    ///
    /// # Errors
    /// Where the words of a rule do not say what the rule does. That is a fault of this program.
    pub fn new(meaning: &Meaning<'_>, proved: Proved<'_>) -> Result<Self, Vec<Misread>> {
        let (plan, rules) = (meaning.plan(), proved.rules());
        let entered = rules::Entered::new(rules);
        let all = [
            steps::interfaces(plan),
            steps::leases(plan),
            steps::objects(&entered),
            steps::services(&entered),
            steps::hours(&entered),
            steps::rules(&entered),
            steps::translation(rules),
            steps::settings(rules),
            steps::ports(plan),
        ];
        let mut steps: Vec<Step> = all.into_iter().filter(Step::has_values).collect();
        for (step, number) in steps.iter_mut().zip(1..) {
            step.number = number;
        }
        let sheet = Self {
            bastium: EDITION,
            site: plan.site().name.clone(),
            day: rules.day.to_string(),
            changes_on: rules.changes_on.map(|day| day.to_string()),
            form: rules.form.word(),
            since: None,
            steps,
        };
        let misread = sheet.misread(rules);
        if misread.is_empty() { Ok(sheet) } else { Err(misread) }
    }

    /// The rules that this worksheet, as it is, does not say as they are; and any that it lacks.
    pub fn misread(&self, rules: &RuleSet) -> Vec<Misread> {
        read_back::misread(rules, self)
    }

    /// A step by its name.
    pub fn step(&self, name: &str) -> Option<&Step> {
        self.steps.iter().find(|step| step.name == name)
    }

    /// How many rows there are to type in all.
    pub fn rows(&self) -> usize {
        self.steps.iter().flat_map(|step| &step.tables).map(|table| table.rows.len()).sum()
    }

    /// As tables, with a column to tick in front. Each is titled with its step.
    pub fn tables(&self) -> Vec<Table> {
        self.steps.iter().flat_map(Step::tables).collect()
    }
}

impl Step {
    /// A step of tables alone.
    pub(in crate::sheets) fn of(name: &'static str, tables: Vec<Values>) -> Self {
        steps::step(name, "", tables, "")
    }

    fn has_values(&self) -> bool {
        self.tables.iter().any(|table| !table.rows.is_empty())
    }

    /// Its tables, with a column to tick in front.
    pub fn tables(&self) -> Vec<Table> {
        let filled = self.tables.iter().filter(|table| !table.rows.is_empty());
        let tables = filled.map(|values| {
            let columns = [DONE].iter().chain(&values.columns).map(|heading| match *heading {
                "no" => Column::numbers(*heading),
                DONE | "action" | "VLAN" | "name" | "changes" => Column::whole(*heading),
                _ => Column::text(*heading),
            });
            let title = format!("{}. {}", self.number, values.title);
            let mut table = Table::new(columns).titled(title);
            for row in &values.rows {
                let cells = row.iter().map(|values| Cell::from(values.join(", ")));
                table.row([Cell::from(OPEN)].into_iter().chain(cells));
            }
            table
        });
        tables.collect()
    }
}

/// A table of values.
fn values<const N: usize>(
    title: impl Into<String>,
    columns: [&'static str; N],
    rows: impl IntoIterator<Item = [Vec<String>; N]>,
) -> Values {
    let rows = rows.into_iter().map(Vec::from).collect();
    Values { title: title.into(), columns: columns.to_vec(), rows }
}

/// A cell with one value.
fn one(value: impl ToString) -> Vec<String> {
    let value = value.to_string();
    if value.is_empty() { Vec::new() } else { vec![value] }
}
