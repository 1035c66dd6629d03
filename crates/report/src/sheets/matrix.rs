//! The matrix, complete or one cell of it.

use super::cells::{CellRules, every_cell};
use super::{Because, EDITION};
use crate::{Cell, Column, Table, Tone};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Action, Plan, ZoneId};
use bastium_core::rules::{Rule, RuleSet};
use schemars::JsonSchema;
use serde::Serialize;
use std::ops::Range;

/// The matrix.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct MatrixSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The zones, in the grid's order of rows and columns; the internet is the last.
    pub zones: Vec<String>,
    /// The cells, row by row; one alone if one was asked for.
    pub cells: Vec<CellRow>,
    /// For one cell: the rules that decide it, in order.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<CellRule>,
}

/// One cell.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CellRow {
    /// The zone that packets come from.
    pub from: String,
    /// The zone that they go to.
    pub to: String,
    /// What happens: `allow`, `block`, `reject`, or `-` where nothing is said.
    pub action: &'static str,
    /// Whether it is logged.
    pub log: bool,
    /// The exceptions that decide some of the packets, in the order of their rules.
    pub exceptions: Vec<String>,
    /// The line of the plan that the cell stands on.
    pub line: usize,
}

/// A rule that decides packets of a cell.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CellRule {
    /// The number of the rule that is entered for it; 0 where none is, since others do the same.
    pub number: u32,
    /// The id of that rule, which may be for other entries, too.
    pub entered: Option<String>,
    /// Its own id, as it is with a rule for every cell.
    pub id: String,
    /// Its source.
    pub source: String,
    /// Its destination.
    pub destination: String,
    /// Its service.
    pub service: String,
    /// What it does.
    pub action: &'static str,
    /// Whether it is logged.
    pub log: bool,
    /// Why it is there.
    pub reason: String,
    /// The entry behind it.
    pub because: Because,
}

/// How the matrix is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GridLayout {
    /// Columns are headed by zones, and exceptions are counted.
    Names,
    /// Columns are headed by the numbers of their rows.
    Numbers,
    /// The same, and exceptions are marked without a count.
    Compact,
}

impl MatrixSheet {
    /// The whole matrix.
    pub fn whole(meaning: &Meaning<'_>, rules: &RuleSet) -> Self {
        let plan = meaning.plan();
        let every = every_cell(meaning, rules);
        let through = CellRules::of(meaning, &every);
        let pairs = plan.zone_ids().flat_map(|from| plan.zone_ids().map(move |to| (from, to)));
        Self::of(
            plan,
            pairs.map(|(from, to)| cell(meaning, &through, from, to)).collect(),
            Vec::new(),
        )
    }

    /// One cell, with everything that decides it in order: also what no rule is entered for, since others do the same.
    pub fn one(meaning: &Meaning<'_>, rules: &RuleSet, from: ZoneId, to: ZoneId) -> Self {
        let plan = meaning.plan();
        let every = every_cell(meaning, rules);
        let through = CellRules::of(meaning, &every);
        let deciding = through.deciding(meaning, from, to);
        let deciding = deciding.map(|rule| cell_rule(rule, rules)).collect();
        Self::of(plan, vec![cell(meaning, &through, from, to)], deciding)
    }

    /// Every cell, each with everything that decides it in order: what [`MatrixSheet::one`] says of each.
    pub fn every(meaning: &Meaning<'_>, rules: &RuleSet) -> Vec<(CellRow, Vec<CellRule>)> {
        let plan = meaning.plan();
        let every = every_cell(meaning, rules);
        let through = CellRules::of(meaning, &every);
        let pairs = plan.zone_ids().flat_map(|from| plan.zone_ids().map(move |to| (from, to)));
        pairs
            .map(|(from, to)| {
                let deciding = through.deciding(meaning, from, to);
                let deciding = deciding.map(|rule| cell_rule(rule, rules)).collect();
                (cell(meaning, &through, from, to), deciding)
            })
            .collect()
    }

    fn of(plan: &Plan, cells: Vec<CellRow>, rules: Vec<CellRule>) -> Self {
        let zones = plan.zones().iter().map(|zone| zone.name.to_string()).collect();
        Self { bastium: EDITION, zones, cells, rules }
    }

    /// As tables: the matrix with a column for each zone, or, for one cell, its rules.
    pub fn tables(&self) -> Vec<Table> {
        if self.is_one_cell() {
            return vec![self.rule_table()];
        }
        vec![self.grid(GridLayout::Names, 0..self.zones.len())]
    }

    /// Whether one cell was asked for.
    pub fn is_one_cell(&self) -> bool {
        self.cells.len() == 1 && self.zones.len() > 1
    }

    /// Some columns of the matrix, in a layout that saves room.
    pub fn grid(&self, layout: GridLayout, columns: Range<usize>) -> Table {
        let names = layout == GridLayout::Names;
        let number = |index: usize| (index + 1).to_string();
        let heads = columns.clone().map(|i| if names { self.zones[i].clone() } else { number(i) });
        let mut table =
            Table::new(std::iter::once("from".to_owned()).chain(heads).map(Column::whole));
        for (index, row) in self.cells.chunks(self.zones.len()).enumerate() {
            let zone = &self.zones[index];
            let head = if names { zone.clone() } else { format!("{} {zone}", number(index)) };
            let cells = row[columns.clone()].iter().map(|cell| grid_cell(cell, layout));
            table.row(std::iter::once(Cell::toned(head, Tone::Strong)).chain(cells));
        }
        table
    }

    fn rule_table(&self) -> Table {
        let mut table = Table::new([
            Column::numbers("no"),
            Column::text("source"),
            Column::text("destination"),
            Column::text("service"),
            Column::whole("action"),
            Column::text("why"),
        ]);
        for rule in &self.rules {
            let because = match rule.because.line {
                Some(line) => format!("{} (line {line})", rule.reason),
                None => rule.reason.clone(),
            };
            table.row([
                if rule.number == 0 { "-".into() } else { rule.number.into() },
                rule.source.clone().into(),
                rule.destination.clone().into(),
                rule.service.clone().into(),
                logged(Cell::action(rule.action), rule.log),
                because.into(),
            ]);
        }
        table
    }
}

/// The action; `*2` behind it tells of two exceptions, `*` alone of one or more.
fn grid_cell(cell: &CellRow, layout: GridLayout) -> Cell {
    let mut shown = Cell::action(cell.action);
    if !cell.exceptions.is_empty() {
        shown.text.push('*');
        if layout != GridLayout::Compact {
            shown.text.push_str(&cell.exceptions.len().to_string());
        }
    }
    shown
}

pub(crate) fn logged(mut cell: Cell, log: bool) -> Cell {
    if log {
        cell.text.push_str(" +log");
    }
    cell
}

fn cell(meaning: &Meaning<'_>, through: &CellRules<'_>, from: ZoneId, to: ZoneId) -> CellRow {
    let plan = meaning.plan();
    let cell = plan.matrix().cell(from, to);
    let exceptions = through.exceptions(meaning, from, to).into_iter();
    let exceptions = exceptions.map(|id| plan.exception(id).name.to_string()).collect();
    CellRow {
        from: plan.zone(from).name.to_string(),
        to: plan.zone(to).name.to_string(),
        action: cell.action.map_or("-", Action::word),
        log: cell.log,
        exceptions,
        line: plan.line(cell.at),
    }
}

/// A rule of the whole list, with the one that is entered for it.
fn cell_rule(rule: &Rule, entered: &RuleSet) -> CellRule {
    let plan = entered.plan();
    let is_for = |other: &&Rule| other.causes().any(|cause| cause == rule.cause);
    // What has several rules, as an exception in several lists, is best found by its id.
    let by_id = entered.rules().find(|other| other.id == rule.id);
    let entered = by_id.or_else(|| entered.rules().find(is_for));
    CellRule {
        number: entered.map_or(0, |entered| entered.number),
        entered: entered.map(|entered| entered.id.to_string()),
        id: rule.id.to_string(),
        source: rule.source.to_string(),
        destination: rule.destination.to_string(),
        service: rule.service.clone(),
        action: rule.action.word(),
        log: rule.log,
        reason: rule.reason.clone(),
        because: Because::new(rule.cause, plan),
    }
}
