//! Rules that were typed from a sheet of this program: read from CSV, or from a workbook.

use super::import::workbook;
use crate::failure::{Failure, Malformed};
use crate::plans;
use bastium_core::meaning::Meaning;
use bastium_report::sheets::{TypedRules, read_typed};
use std::path::Path;

/// The most rows that are looked at.
const MOST_ROWS: usize = 200_000;

/// The sheets of a workbook that have rules, the one with values for all names first.
const SHEETS: [&str; 2] = ["worksheet", "rules"];

/// The rows of a file, be it CSV or a workbook.
///
/// # Errors
/// When it cannot be read as a table.
pub(super) fn rows(path: &Path, bytes: &[u8]) -> Result<Vec<Vec<String>>, Failure> {
    let refused =
        |reason: String| Failure::from(Malformed::Table { path: path.to_owned(), reason });
    if workbook::is_one(bytes) {
        let used = workbook::sheets(bytes).map_err(refused)?;
        let name = read_of(&used).map_or_else(Vec::new, |name| vec![name]);
        return workbook::rows_of(bytes, &name, MOST_ROWS).map_err(refused);
    }
    let text = String::from_utf8_lossy(bytes);
    let mut reader = csv::ReaderBuilder::new()
        .flexible(true)
        .has_headers(false)
        .from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let mut rows = Vec::new();
    for record in reader.records().take(MOST_ROWS + 1) {
        let record = record.map_err(|error| refused(error.to_string()))?;
        rows.push(record.iter().map(str::to_owned).collect());
    }
    Ok(rows)
}

/// The rules of a sheet of this program; `None` if the file is none.
///
/// # Errors
/// When a workbook cannot be read.
pub(super) fn read<'p>(
    path: &Path,
    meaning: &Meaning<'p>,
) -> Result<Option<TypedRules<'p>>, Failure> {
    let bytes = plans::read_whole(path)?;
    if workbook::is_one(&bytes) {
        return of_workbook(path, &bytes, meaning);
    }
    let begins = |word: &[u8]| bytes.trim_ascii_start().starts_with(word);
    // What other programs print is no table; a quote in it need not have an end.
    if begins(b"{") || begins(b"[") || begins(b"table") {
        return Ok(None);
    }
    match rows(path, &bytes) {
        // Rules that are left out of what is read are part of no answer.
        Ok(rows) if rows.len() > MOST_ROWS => {
            let reason = format!("it has more than {MOST_ROWS} rows");
            Err(Malformed::Table { path: path.to_owned(), reason }.into())
        }
        Ok(rows) => Ok(read_typed(&rows, meaning)),
        Err(_) => Ok(None),
    }
}

/// The sheet of a workbook that is read, of those that have anything in them.
fn read_of(used: &[String]) -> Option<&str> {
    let known = SHEETS.into_iter().find(|name| used.iter().any(|one| one == name));
    known.or_else(|| used.first().map(String::as_str))
}

/// The sheets of a workbook that are not read.
///
/// # Errors
/// When it cannot be read.
pub(super) fn other_sheets(path: &Path, bytes: &[u8]) -> Result<Vec<String>, Failure> {
    let refused =
        |reason: String| Failure::from(Malformed::Table { path: path.to_owned(), reason });
    let mut used = workbook::sheets(bytes).map_err(refused)?;
    let read = read_of(&used).map(str::to_owned);
    used.retain(|name| Some(name) != read.as_ref());
    Ok(used)
}

/// The rules of a workbook. It may have them in two sheets, as rules and as a worksheet: then either has to say what the other
/// says, for nobody knows which was typed from.
fn of_workbook<'p>(
    path: &Path,
    bytes: &[u8],
    meaning: &Meaning<'p>,
) -> Result<Option<TypedRules<'p>>, Failure> {
    let refused =
        |reason: String| Failure::from(Malformed::Table { path: path.to_owned(), reason });
    let used = workbook::sheets(bytes).map_err(refused)?;
    let own: Vec<&str> =
        SHEETS.into_iter().filter(|name| used.iter().any(|one| one == name)).collect();
    let Some((first, others)) = own.split_first() else {
        return Ok(read_typed(&rows(path, bytes)?, meaning));
    };
    let read = |name: &str| -> Result<Option<TypedRules<'p>>, Failure> {
        let rows = workbook::rows_of(bytes, &[name], MOST_ROWS).map_err(refused)?;
        Ok(read_typed(&rows, meaning))
    };
    let Some(mut typed) = read(first)? else { return Ok(None) };
    for name in others {
        let same = read(name)?.is_some_and(|other| typed.says_what(&other));
        if !same {
            let what = format!("it says something else than the sheet `{first}`");
            typed.not_understood.push((format!("sheet `{name}`"), what));
        }
    }
    Ok(Some(typed))
}
