//! Rules that were typed from a sheet of Bastium, read from CSV or from a workbook.

use super::import::workbook::{self, Book};
use crate::failure::{Failure, Malformed};
use crate::plans;
use bastium_core::meaning::Meaning;
use bastium_report::sheets::{TypedRules, read_typed};
use std::path::Path;

/// The most rows that are looked at.
const MOST_ROWS: usize = 200_000;

/// The sheets of a workbook of this program that have rules, the one with values for all names first.
const SHEETS: [&str; 2] = ["worksheet", "rules"];

/// The rules of a sheet of this program; `None` if the file is none.
///
/// # Errors
/// When a workbook cannot be read, or when a table is too long.
pub(super) fn read<'p>(
    path: &Path,
    meaning: &Meaning<'p>,
) -> Result<Option<TypedRules<'p>>, Failure> {
    let bytes = plans::read_whole(path)?;
    if workbook::is_one(&bytes) {
        return of_workbook(&bytes, meaning).map_err(|reason| malformed(path, reason));
    }
    let begins = |word: &[u8]| bytes.trim_ascii_start().starts_with(word);
    // What other programs print is no table; a quote in it need not have an end.
    if begins(b"{") || begins(b"[") || begins(b"table") {
        return Ok(None);
    }
    match of_text(&bytes) {
        // Rules that are left out of what is read are part of no answer.
        Some(rows) if rows.len() > MOST_ROWS => {
            Err(malformed(path, format!("it has more than {MOST_ROWS} rows")))
        }
        Some(rows) => Ok(read_typed(&rows, meaning)),
        None => Ok(None),
    }
}

/// The sheet of a workbook that has the rules of somebody else, and the names of the others that have anything in them.
///
/// # Errors
/// When it cannot be read.
pub(super) fn first_sheet(
    path: &Path,
    bytes: &[u8],
) -> Result<(Vec<Vec<String>>, Vec<String>), Failure> {
    let read = || {
        let mut book = Book::open(bytes)?;
        let mut used = in_order(&mut book)?.into_iter();
        let first = used.next().ok_or("it has nothing in it")?;
        Ok((book.rows(&first, MOST_ROWS)?, used.collect()))
    };
    read().map_err(|reason| malformed(path, reason))
}

/// As many rows as are looked at, and one more; `None` where it is no table.
fn of_text(bytes: &[u8]) -> Option<Vec<Vec<String>>> {
    let text = String::from_utf8_lossy(bytes);
    let reader = csv::ReaderBuilder::new()
        .flexible(true)
        .has_headers(false)
        .from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let records = reader.into_records().take(MOST_ROWS + 1);
    records.map(|record| Some(record.ok()?.iter().map(str::to_owned).collect())).collect()
}

/// The rules of a workbook. It may have them in several sheets, as rules and as a worksheet: then each has to say what the first
/// says, for nobody knows which was typed from.
fn of_workbook<'p>(bytes: &[u8], meaning: &Meaning<'p>) -> Result<Option<TypedRules<'p>>, String> {
    let mut book = Book::open(bytes)?;
    let mut first: Option<(String, TypedRules<'p>)> = None;
    for name in in_order(&mut book)? {
        let Some(own) = read_typed(&book.rows(&name, MOST_ROWS)?, meaning) else { continue };
        match &mut first {
            None => first = Some((name, own)),
            Some((known, typed)) if !typed.agrees_with(&own) => {
                let what = format!("it says something else than the sheet `{known}`");
                typed.not_understood.push((format!("sheet `{name}`"), what));
            }
            Some(_) => {}
        }
    }
    Ok(first.map(|(_, typed)| typed))
}

/// The sheets of a workbook that have anything in them, those first that are called as those of this program.
fn in_order(book: &mut Book<'_>) -> Result<Vec<String>, String> {
    let mut names = book.used()?;
    names.sort_by_key(|name| SHEETS.iter().position(|own| own == name).unwrap_or(SHEETS.len()));
    Ok(names)
}

fn malformed(path: &Path, reason: String) -> Failure {
    Malformed::Table { path: path.to_owned(), reason }.into()
}
