//! Turns sheets and diagnoses into text.

pub(crate) mod diagnostic;
pub(crate) mod style;
pub(crate) mod sweep;
pub(crate) mod table;
pub(crate) mod wrap;

use crate::args::Format;
use crate::failure::Failure;
use crate::session::Session;
use bastium_report::{Table, csv, markdown};
use serde::Serialize;

/// Prints a sheet for programs. Returns whether it was: text for people is the command's own.
///
/// # Errors
/// When it cannot be written.
pub(crate) fn for_programs(
    session: &mut Session<'_>,
    sheet: &impl Serialize,
    tables: impl FnOnce() -> Vec<Table>,
    title: &str,
) -> Result<bool, Failure> {
    let text = match session.options.format {
        Format::Text => return Ok(false),
        Format::Json => {
            let json = serde_json::to_string_pretty(sheet).map_err(std::io::Error::from)?;
            // JSON itself allows characters that turn a line of text round; people look at JSON too.
            format!("{}\n", bastium_gateway::escape_hidden(&json))
        }
        Format::Csv => csv(&tables(), title),
        Format::Md => markdown(&tables()),
    };
    session.print(&text)?;
    Ok(true)
}
