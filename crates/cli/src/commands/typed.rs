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
        return workbook::rows_of(bytes, &SHEETS, MOST_ROWS).map_err(refused);
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
        Err(failure) if workbook::is_one(&bytes) => Err(failure),
        Err(_) => Ok(None),
    }
}
