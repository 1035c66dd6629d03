//! The matrix, drawn as a matrix.

use super::super::draft;
use super::super::matrix::{Action, Cell, Denial, LogPolicy, Matrix, Unmatched};
use super::super::model::Zone;
use super::{Problem, Resolver, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, Severity, error};
use crate::name::nearest;
use crate::source::{Span, Text};
use crate::words::count;
use std::collections::HashMap;
use std::ops::Range;

/// What can be wrong with the matrix.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum GridProblem {
    /// There is no matrix.
    Missing { at: Option<Span> },
    /// A word that is no zone, at the head of a column or a row.
    UnknownZone { word: String, nearest: Option<String>, at: Span },
    /// A column or a row is there twice.
    Twice { zone: String, row: bool, at: Span, first: Span },
    /// Zones that have no column, or no row.
    Absent { zones: Vec<String>, row: bool, at: Span },
    /// A row with too few or too many cells.
    Cells { zone: String, found: usize, wanted: usize, at: Span },
    /// A word that is not a cell.
    NotACell { word: String, nearest: Option<String>, at: Span },
    /// `log` with something else than it can be.
    Log { word: String, at: Span },
    /// `unmatched` with something else than it can be.
    Unmatched { word: String, at: Span },
}

impl Diagnose for GridProblem {
    fn diagnose(&self) -> Diagnosis {
        let line = |row: &bool| if *row { "row" } else { "column" };
        match self {
            Self::Missing { at } => Diagnosis::new("no-matrix", Severity::Error, *at)
                .says("the plan has no matrix")
                .why("without it the plan does not say what may pass between zones")
                .help("write `[matrix]` with a `grid`: a row and a column for each zone and for `internet`"),
            Self::UnknownZone { word, nearest, at } => error("grid-unknown-zone", at)
                .says(format!("no zone is called `{word}`"))
                .help(nearest_or(nearest.as_ref(), "declare it as `[zone.NAME]`, or remove it from the grid")),
            Self::Twice { zone, row, at, first } => error("grid-twice", at)
                .says(format!("the {} `{zone}` appears twice", line(row)))
                .help("remove one of the two")
                .also(*first, "the first one"),
            Self::Absent { zones, row, at } => error("grid-missing", at)
                .says(format!("the grid has no {} for {}", line(row), zones.join(", ")))
                .why("each zone and `internet` needs one row and one column, so that every cell is decided")
                .help(format!("add the missing {}", line(row))),
            Self::Cells { zone, found, wanted, at } => error("grid-row-length", at)
                .says(format!(
                    "the row `{zone}` has {}, but the grid has {}",
                    count(*found, "cell"),
                    count(*wanted, "column")
                ))
                .help("give it one cell for each column; `-` where nothing can pass"),
            Self::NotACell { word, nearest, at } => error("grid-bad-cell", at)
                .says(format!("`{word}` is not a cell"))
                .help(nearest_or(
                    nearest.as_ref(),
                    "write allow, block or reject, with +log or +quiet if wanted, or `-`",
                )),
            Self::Log { word, at } => error("unknown-choice", at)
                .says(format!("`{word}` is not a value of `log`"))
                .help("write none, block, allow or all"),
            Self::Unmatched { word, at } => error("unknown-choice", at)
                .says(format!("`{word}` is not a value of `unmatched`"))
                .why("traffic that no entry mentions must not pass (default deny)")
                .help("write block or reject, with +log or +quiet if wanted"),
        }
    }
}

/// A word of the grid, with its position.
struct Word<'a> {
    text: &'a str,
    at: Span,
}

/// The matrix; `None` where the grid has a problem.
pub(super) fn matrix(
    draft: &draft::Matrix,
    zones: &[Zone],
    resolver: &mut Resolver,
) -> Option<Matrix> {
    let log = draft.log.as_ref().map_or(LogPolicy::Block, |word| log_policy(word, resolver));
    let unmatched = unmatched(draft.unmatched.as_ref(), log, resolver);
    let Some(grid) = &draft.grid else {
        resolver.problem(GridProblem::Missing { at: (draft.at.end > 0).then_some(draft.at) });
        return None;
    };
    let before = resolver.problems.len();
    let mut lines = lines(grid).into_iter();
    let columns =
        lines.next().map(|head| columns(&head, grid, zones, resolver)).unwrap_or_default();
    let mut rows: Vec<Option<Vec<Cell>>> = vec![None; zones.len()];
    let mut first_rows: HashMap<usize, Span> = HashMap::new();
    for line in lines {
        let Some((head, cells)) = line.split_first() else { continue };
        let cells = row(head.text, head.at, cells, &columns, zones.len(), log, resolver);
        let Some(zone) = zone_of(head, zones, resolver) else { continue };
        if let Some(&first) = first_rows.get(&zone) {
            let zone = head.text.to_owned();
            resolver.problem(GridProblem::Twice { zone, row: true, at: head.at, first });
        } else {
            first_rows.insert(zone, head.at);
            rows[zone] = cells;
        }
    }
    absent(zones, |zone| first_rows.contains_key(&zone), true, grid.at, before, resolver);
    if resolver.problems.len() > before {
        return None;
    }
    let cells = rows.into_iter().collect::<Option<Vec<_>>>()?;
    Some(Matrix { cells, log, unmatched })
}

/// The words of the grid, line by line; comments and blank lines are left out.
fn lines(grid: &Text) -> Vec<Vec<Word<'_>>> {
    let mut lines = Vec::new();
    let mut start = 0;
    for line in grid.value.split_inclusive('\n') {
        let code = line.split('#').next().unwrap_or_default();
        let words: Vec<Word<'_>> = code
            .split_whitespace()
            .map(|text| {
                let begin = start + (text.as_ptr() as usize - line.as_ptr() as usize);
                let range: Range<usize> = begin..begin + text.len();
                Word { text, at: grid.part(range) }
            })
            .collect();
        if !words.is_empty() {
            lines.push(words);
        }
        start += line.len();
    }
    lines
}

fn zone_of(word: &Word<'_>, zones: &[Zone], resolver: &mut Resolver) -> Option<usize> {
    let found = zones.iter().position(|zone| zone.name.as_str() == word.text);
    // A zone whose own declaration has a problem is known all the same.
    if found.is_none()
        && resolver.directory.find(word.text).is_none_or(|e| e.kind != super::super::Kind::Zone)
    {
        let names = zones.iter().map(|zone| zone.name.as_str());
        resolver.problem(GridProblem::UnknownZone {
            word: word.text.to_owned(),
            nearest: nearest(word.text, names).map(str::to_owned),
            at: word.at,
        });
    }
    found
}

/// The zone of each column; `None` for a column that has none.
fn columns(
    head: &[Word<'_>],
    grid: &Text,
    zones: &[Zone],
    resolver: &mut Resolver,
) -> Vec<Option<usize>> {
    let before = resolver.problems.len();
    let mut first: HashMap<usize, Span> = HashMap::new();
    let mut columns = Vec::new();
    for word in head {
        let zone = zone_of(word, zones, resolver);
        if let Some(&before) = zone.and_then(|zone| first.get(&zone)) {
            let zone = word.text.to_owned();
            resolver.problem(GridProblem::Twice { zone, row: false, at: word.at, first: before });
        }
        if let Some(zone) = zone {
            first.entry(zone).or_insert(word.at);
        }
        columns.push(zone);
    }
    let at = head.first().map_or(grid.at, |word| word.at);
    absent(zones, |zone| first.contains_key(&zone), false, at, before, resolver);
    columns
}

/// Notes the zones that are not there, but for those that a misspelt word was taken for: `before`
/// is the number of problems from which on such words were noted.
fn absent(
    zones: &[Zone],
    there: impl Fn(usize) -> bool,
    row: bool,
    at: Span,
    before: usize,
    resolver: &mut Resolver,
) {
    let meant = |zone: &Zone| {
        resolver.problems[before..].iter().any(|problem| match problem {
            Problem::Grid(GridProblem::UnknownZone { nearest, .. }) => {
                nearest.as_deref() == Some(zone.name.as_str())
            }
            _ => false,
        })
    };
    let missing: Vec<String> = zones
        .iter()
        .enumerate()
        .filter(|(index, zone)| !there(*index) && !meant(zone))
        .map(|(_, zone)| format!("`{}`", zone.name))
        .collect();
    if !missing.is_empty() {
        resolver.problem(GridProblem::Absent { zones: missing, row, at });
    }
}

fn row(
    zone: &str,
    at: Span,
    words: &[Word<'_>],
    columns: &[Option<usize>],
    zones: usize,
    log: LogPolicy,
    resolver: &mut Resolver,
) -> Option<Vec<Cell>> {
    let cells: Vec<Option<Cell>> = words.iter().map(|word| cell(word, log, resolver)).collect();
    if cells.len() != columns.len() {
        let (found, wanted) = (cells.len(), columns.len());
        resolver.problem(GridProblem::Cells { zone: zone.to_owned(), found, wanted, at });
        return None;
    }
    let mut row: Vec<Option<Cell>> = vec![None; zones];
    for (cell, column) in cells.into_iter().zip(columns) {
        if let Some(column) = column {
            row[*column] = cell;
        }
    }
    row.into_iter().collect()
}

fn cell(word: &Word<'_>, log: LogPolicy, resolver: &mut Resolver) -> Option<Cell> {
    if word.text == "-" {
        return Some(Cell { action: None, log: false, at: word.at });
    }
    let read = action_and_log(word.text, log);
    if read.is_none() {
        let known =
            ["allow", "block", "reject", "allow+log", "block+log", "block+quiet", "reject+quiet"];
        resolver.problem(GridProblem::NotACell {
            word: word.text.to_owned(),
            nearest: nearest(word.text, known).map(str::to_owned),
            at: word.at,
        });
    }
    read.map(|(action, log)| Cell { action: Some(action), log, at: word.at })
}

/// Reads `block`, `block+log`, `block+quiet`.
fn action_and_log(word: &str, log: LogPolicy) -> Option<(Action, bool)> {
    let (action, suffix) = word.split_once('+').map_or((word, None), |(a, s)| (a, Some(s)));
    let action = Action::from_word(action)?;
    match suffix {
        None => Some((action, log.logs(action))),
        Some("log") => Some((action, true)),
        Some("quiet") => Some((action, false)),
        Some(_) => None,
    }
}

fn log_policy(word: &Text, resolver: &mut Resolver) -> LogPolicy {
    let found = LogPolicy::ALL.into_iter().find(|policy| policy.word() == word.value);
    found.unwrap_or_else(|| {
        resolver.problem(GridProblem::Log { word: word.value.clone(), at: word.at });
        LogPolicy::Block
    })
}

fn unmatched(word: Option<&Text>, log: LogPolicy, resolver: &mut Resolver) -> Unmatched {
    let default = Unmatched { denial: Denial::Block, log: true, at: word.map(|word| word.at) };
    let Some(word) = word else { return default };
    let denial = |action| match action {
        Action::Allow => None,
        Action::Block => Some(Denial::Block),
        Action::Reject => Some(Denial::Reject),
    };
    let read = action_and_log(&word.value, log);
    match read.and_then(|(action, log)| Some((denial(action)?, log))) {
        Some((denial, log)) => Unmatched { denial, log, ..default },
        None => {
            resolver.problem(GridProblem::Unmatched { word: word.value.clone(), at: word.at });
            default
        }
    }
}
