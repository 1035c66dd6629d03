//! Finds the tables in a file, whatever stands between them.

use bastium_core::plan::Action;
use bastium_gateway::foreign::is_beside;

/// One table: its heading, and its rows with where each stands.
#[derive(Clone, Debug)]
pub(super) struct RawTable {
    headings: Vec<String>,
    rows: Vec<(usize, Vec<String>)>,
    /// How many columns its first line has.
    first: usize,
}

/// The most columns of a page in a workbook.
const PAGE: usize = 8;

/// One row of a table.
#[derive(Clone, Copy, Debug)]
pub(super) struct RawRow<'t> {
    table: &'t RawTable,
    cells: &'t [String],
    line: usize,
}

/// What a table's first heading is, where it has a column for its titles or for ticks.
const FIRST: [&str; 3] = ["step", "list", "done"];

/// The tables: a row that begins as a heading does begins one. What stands above them all is a table without headings.
pub(super) fn of(rows: &[Vec<String>]) -> Vec<RawTable> {
    let mut tables: Vec<RawTable> = Vec::new();
    for (line, row) in (1..).zip(rows) {
        let cells: Vec<String> = row.iter().map(|cell| unquoted(cell.trim())).collect();
        if cells.iter().all(String::is_empty) {
            continue;
        }
        if FIRST.contains(&cells[0].as_str()) {
            tables.push(RawTable { headings: cells, rows: Vec::new(), first: row.len() });
            continue;
        }
        if tables.is_empty() {
            tables.push(RawTable { headings: Vec::new(), rows: Vec::new(), first: usize::MAX });
        }
        let Some(table) = tables.last_mut() else { continue };
        // In a workbook a row that does not fit the page goes on in the next one, below the second column.
        let goes_on = cells[0].is_empty() && table.first <= PAGE;
        match table.rows.last_mut().filter(|_| goes_on) {
            Some((_, row)) => {
                // What is empty at the end of a line is not there at all.
                let full = table.first + (PAGE - 1) * (row.len().saturating_sub(1) / PAGE);
                row.resize(row.len().max(full.min(table.headings.len())), String::new());
                row.extend(cells.into_iter().skip(1));
            }
            None if goes_on => table.headings.extend(cells.into_iter().skip(1)),
            None => table.rows.push((line, cells)),
        }
    }
    tables
}

/// A cell without the apostrophe that keeps a spreadsheet from taking it for a formula.
fn unquoted(cell: &str) -> String {
    let bare = cell.strip_prefix('\'').filter(|rest| rest.starts_with(['=', '+', '-', '@']));
    bare.unwrap_or(cell).to_owned()
}

impl RawTable {
    pub(super) fn has(&self, columns: &[&str]) -> bool {
        // Of two columns of one name, nobody knows which is meant.
        let once = |column: &&str| self.headings.iter().filter(|one| one == column).count() == 1;
        columns.iter().all(once)
    }

    /// Whether it has no headings, or at least so many of these.
    pub(super) fn is_like(&self, columns: &[&str], least: usize) -> bool {
        let shared = self.headings.iter().filter(|one| columns.contains(&one.as_str())).count();
        self.headings.is_empty() || shared >= least
    }

    pub(super) fn rows(&self) -> impl Iterator<Item = RawRow<'_>> {
        self.rows.iter().map(|(line, cells)| RawRow { table: self, cells, line: *line })
    }
}

impl<'t> RawRow<'t> {
    /// A cell; empty where the table has no such column.
    pub(super) fn cell(self, column: &str) -> &'t str {
        let place = self.table.headings.iter().position(|heading| heading == column);
        place.and_then(|place| self.cells.get(place)).map(String::as_str).unwrap_or_default()
    }

    /// The values of a cell.
    pub(super) fn values(self, column: &str) -> Vec<String> {
        let cell = self.cell(column);
        if cell.is_empty() { Vec::new() } else { cell.split(", ").map(str::to_owned).collect() }
    }

    /// What stands in it that may say something of packets and is read by nobody: in columns that are not among these, or below
    /// no heading at all.
    pub(super) fn unread(self, columns: &[&str]) -> Option<String> {
        let headings = &self.table.headings;
        let strange = |(place, cell): (usize, &'t String)| {
            let heading = headings.get(place).map_or("", String::as_str);
            // Of two columns of one name, only the first is read.
            let first = headings.iter().position(|one| one == heading) == Some(place);
            let known = first && columns.contains(&heading) || is_beside(heading);
            (!known && !cell.is_empty()).then(|| match heading {
                "" => format!("`{cell}`, below no heading"),
                _ => format!("the column `{heading}`: `{cell}`"),
            })
        };
        self.cells.iter().enumerate().find_map(strange)
    }

    /// Whether it looks like a rule, whatever table it is in.
    pub(super) fn has_action(self) -> bool {
        self.cells.iter().any(|cell| action(cell).is_some())
    }

    /// Where it stands, for a person.
    pub(super) fn at(self) -> String {
        format!("line {}", self.line)
    }
}

/// An action's cell: what happens, and whether that is logged.
pub(super) fn action(cell: &str) -> Option<(Action, bool)> {
    let (word, log) = match cell.strip_suffix(" +log") {
        Some(word) => (word, true),
        None => (cell, false),
    };
    let action = [Action::Allow, Action::Block, Action::Reject];
    action.into_iter().find(|action| action.word() == word).map(|action| (action, log))
}

/// Whether a row of an action may have a rate: nobody knows what a gateway does with the rest of what is blocked at a rate.
pub(super) fn may_have_rate(action: Action, rate: Option<f64>) -> bool {
    rate.is_none() || action == Action::Allow
}

/// A cell of hours and rates: the hours' name, and the rate in megabits per second.
pub(super) fn when(values: &[String]) -> Option<(Option<String>, Option<f64>)> {
    let mut found = (None, None);
    for value in values {
        match value.strip_prefix("at most ").and_then(|rate| rate.strip_suffix(" Mbit/s")) {
            Some(rate) if found.1.is_none() => found.1 = Some(rate.parse().ok()?),
            None if found.0.is_none() => {
                found.0 = Some(value.strip_prefix("only in ").unwrap_or(value).to_owned());
            }
            _ => return None,
        }
    }
    Some(found)
}
