//! `bastium add KIND --table FILE`: entries from a table made elsewhere.

mod rows;
pub(super) mod workbook;

use crate::args::Add;
use crate::failure::{CallProblem, Exit, Failure, Malformed};
use crate::plans;
use crate::session::Session;
use bastium_planfile::edit::{Understood, read_csv, understand};
use std::path::Path;

/// The most rows that are looked at.
const MOST_ROWS: usize = 20_000;

pub(super) fn run(args: &Add, file: &Path, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let (headings, rows) = read(file)?;
    let mut reported: Option<Understood> = None;
    let edit = |text: &str| {
        let plan = bastium_planfile::read("the plan", text.as_bytes()).map_err(plans::refused)?;
        let mut understood =
            understand(&args.kind, &headings, &rows, &plan).map_err(CallProblem::Sheet)?;
        let new = rows::add(text, args, &mut understood);
        reported = Some(understood);
        Ok(new)
    };
    let changed = plans::change(args.writing, session, edit)?;
    let Some(understood) = reported else { return Ok(Exit::Fine) };
    tell(&understood, &args.kind, session);
    super::changed::report(&changed, None, session)?;
    Ok(if understood.unused.is_empty() { Exit::Fine } else { Exit::No })
}

fn tell(understood: &Understood, kind: &str, session: &mut Session<'_>) {
    let read = understood
        .columns
        .iter()
        .filter_map(|(heading, key)| key.map(|key| format!("{heading} -> {key}")));
    let passed: Vec<&str> = understood
        .columns
        .iter()
        .filter(|column| column.1.is_none())
        .map(|column| column.0.as_str())
        .collect();
    session.remark(&format!("columns: {}", read.collect::<Vec<_>>().join(", ")));
    if !passed.is_empty() {
        session.remark(&format!("ignored: {}", passed.join(", ")));
    }
    for problem in &understood.unused {
        session.remark(&format!("row {}: {}", problem.row, problem.says));
    }
    session.remark(
        &bastium_report::count(understood.entries.len(), &format!("{kind} entry"))
            .replace("entrys", "entries"),
    );
}

type Sheet = (Vec<String>, Vec<Vec<String>>);

/// Headings and rows of a sheet.
fn read(file: &Path) -> Result<Sheet, Failure> {
    let extension = file.extension().and_then(|e| e.to_str()).unwrap_or_default().to_lowercase();
    let mut rows = match extension.as_str() {
        "xlsx" => workbook::rows(&plans::read_whole(file)?, MOST_ROWS + 1)
            .map_err(|reason| not_a_table(file, &reason))?,
        _ => separated(file)?,
    };
    if rows.len() > MOST_ROWS + 1 {
        return Err(not_a_table(file, &format!("it has more than {MOST_ROWS} rows")));
    }
    if rows.is_empty() {
        return Err(not_a_table(file, "there is nothing in it"));
    }
    let headings = rows.remove(0);
    Ok((headings, rows))
}

fn not_a_table(file: &Path, reason: &str) -> Failure {
    Malformed::Entries { path: file.to_owned(), reason: reason.to_owned() }.into()
}

fn separated(file: &Path) -> Result<Vec<Vec<String>>, Failure> {
    let bytes = plans::read_whole(file)?;
    read_csv(&bytes, MOST_ROWS + 2).map_err(|reason| not_a_table(file, &reason))
}
