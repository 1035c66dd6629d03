//! Replays a worksheet on the old rules, and checks that the result is the new rules and that each row has the number
//! that the worksheet gives at that moment.

use super::super::rules::{COLUMNS, Entered, EnteredList};
use super::super::{Misread, Worksheet};
use super::Rows as BothRows;
use super::edits::word;
use bastium_core::plan::Rows;
use std::collections::{HashMap, HashSet};

type Cells = Vec<Vec<String>>;

/// A list as it is typed: its title, and its rows without numbers.
struct List {
    title: String,
    rows: Vec<Cells>,
}

/// All lists, in the order in which their rows are numbered.
struct Lists<'b> {
    lists: Vec<List>,
    /// The names of rows that may share a number with those beside them.
    sharing: HashSet<String>,
    /// What rows are called by the plan that the gateway calls otherwise.
    called: &'b HashMap<String, String>,
}

/// The rows that are not those of the new rules in the end, or cannot be typed.
pub(super) fn misread(rows: &BothRows<'_>, sheet: &Worksheet) -> Vec<Misread> {
    let (was, is) = (rows.was, &rows.is);
    let mut lists = Lists::of(was, is, &rows.called);
    for step in sheet.steps.iter().filter(|step| step.name == "rules") {
        for table in &step.tables {
            for row in &table.rows {
                if lists.type_row(&table.title, row).is_none() {
                    let rule = row[COLUMNS.len()].join(", ");
                    return vec![Misread { rule, what: "place" }];
                }
            }
        }
    }
    lists.call_as_the_plan_does();
    let mut misread = Vec::new();
    for list in lists.lists {
        let goal = is.lists.iter().find(|goal| goal.title == list.title);
        let goal = goal.map(rows_of).unwrap_or_default();
        let differs = goal.iter().zip(&list.rows).find(|(row, typed)| row != typed);
        if let Some((row, _)) = differs {
            misread.push(Misread { rule: name(row).to_owned(), what: "row" });
        } else if goal.len() != list.rows.len() {
            misread.push(Misread { rule: list.title, what: "number of rules" });
        }
    }
    misread
}

fn rows_of(list: &EnteredList) -> Vec<Cells> {
    list.rules.iter().map(|rule| rule.cells().into_iter().skip(1).collect()).collect()
}

fn name(cells: &Cells) -> &str {
    cells.last().and_then(|name| name.first()).map(String::as_str).unwrap_or_default()
}

/// The names of rows that may share a number.
fn sharing<'e>(entered: &'e Entered<'_>) -> impl Iterator<Item = String> + 'e {
    let rules = entered.lists.iter().flat_map(|list| &list.rules);
    rules.filter(|rule| rule.shares).map(|rule| rule.name.clone())
}

impl<'b> Lists<'b> {
    fn of(was: &Entered<'_>, is: &Entered<'_>, called: &'b HashMap<String, String>) -> Self {
        let titles = |entered: &Entered<'_>| -> Vec<String> {
            entered.lists.iter().map(|list| list.title.clone()).collect()
        };
        let (old, mut order) = (titles(was), titles(is));
        for (place, title) in old.iter().enumerate() {
            if !order.contains(title) {
                let above = place.checked_sub(1).and_then(|above| old.get(above));
                let at = order.iter().position(|other| Some(other) == above);
                order.insert(at.map_or(0, |at| at + 1), title.clone());
            }
        }
        let lists = order.into_iter().map(|title| {
            let old = was.lists.iter().find(|list| list.title == title);
            let rows = old.map(rows_of).unwrap_or_default();
            List { title, rows }
        });
        let sharing = match is.plan.gateway().rules {
            Rows::Fewest => sharing(was).chain(sharing(is)).collect(),
            Rows::EveryCell => HashSet::new(),
        };
        Self { lists: lists.collect(), sharing, called }
    }

    /// Rows that stay keep the names that the gateway has for them: they count as those of the plan.
    fn call_as_the_plan_does(&mut self) {
        for row in self.lists.iter_mut().flat_map(|list| &mut list.rows) {
            let own = self.called.get(name(row)).cloned();
            if let (Some(own), Some(cell)) = (own, row.last_mut()) {
                *cell = vec![own];
            }
        }
    }

    /// Whether a row has a name, be it that of the plan.
    fn is_called(&self, row: &Cells, wanted: &str) -> bool {
        name(row) == wanted || self.called.get(name(row)).is_some_and(|own| own == wanted)
    }

    /// The rows of all lists with their numbers, as a gateway counts them: each by its list and its place there.
    fn numbered(&self) -> Vec<(usize, (usize, usize))> {
        let (mut number, mut all) = (0, Vec::new());
        for (list, typed) in self.lists.iter().enumerate() {
            let mut shared = false;
            for (place, row) in typed.rows.iter().enumerate() {
                let shares = self.sharing.contains(name(row));
                number += if shares && shared { 0 } else { 10 };
                shared = shares;
                all.push((number, (list, place)));
            }
        }
        all
    }

    /// The place of the row of a number that is as it is wanted.
    fn at(&self, list: usize, number: usize, wanted: impl Fn(&Cells) -> bool) -> Option<usize> {
        let rows = &self.lists[list].rows;
        let numbered = self.numbered().into_iter();
        let mut here = numbered
            .filter(|(own, (at, place))| *own == number && *at == list && wanted(&rows[*place]));
        here.next().map(|(_, (_, place))| place)
    }

    /// The place above the row of a name: with the number, the one of two.
    fn insert(
        &mut self,
        list: usize,
        number: usize,
        below: Option<&str>,
        cells: Cells,
    ) -> Option<()> {
        let places = match below {
            None => vec![self.lists[list].rows.len()],
            Some(below) => {
                let rows = self.lists[list].rows.iter().enumerate();
                rows.filter(|(_, row)| name(row) == below).map(|(place, _)| place).collect()
            }
        };
        for place in places {
            self.lists[list].rows.insert(place, cells.clone());
            if self.numbered().contains(&(number, (list, place))) {
                return Some(());
            }
            self.lists[list].rows.remove(place);
        }
        None
    }

    /// Types a row, as its first column says; `None` if it cannot be done.
    fn type_row(&mut self, title: &str, row: &[Vec<String>]) -> Option<()> {
        let says = row.first()?.first()?;
        let says = says.strip_prefix(word::AT_ONCE).unwrap_or(says);
        if says == word::SET {
            return Some(());
        }
        let number: usize = row.get(1)?.first()?.parse().ok()?;
        let cells: Cells = row[2..=COLUMNS.len()].to_vec();
        let list = self.lists.iter().position(|list| list.title == title)?;
        if says == word::AT_THE_END || says == word::FILL {
            return self.insert(list, number, None, cells);
        }
        if let Some(below) = says.strip_prefix(word::INSERT) {
            return self.insert(list, number, Some(below), cells);
        }
        if says == word::DELETE || says == word::EMPTY {
            let at = self.at(list, number, |row| *row == cells)?;
            self.lists[list].rows.remove(at);
            return Some(());
        }
        if let Some((says, from)) = says.split_once(word::FROM) {
            let from = from.strip_suffix(')')?;
            let (from, called) = from.split_once(word::CALLED).unwrap_or((from, name(&cells)));
            let at = self.at(list, from.parse().ok()?, |row| name(row) == called)?;
            self.lists[list].rows.remove(at);
            return self.insert(list, number, says.strip_prefix(word::MOVE), cells);
        }
        let old = says.strip_prefix(word::RENAME).unwrap_or(name(&cells)).to_owned();
        let at = self.at(list, number, |row| self.is_called(row, &old))?;
        self.lists[list].rows[at] = cells;
        Some(())
    }
}
