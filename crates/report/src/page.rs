//! Pages that need no network: one HTML file each.

use crate::sheets::{ChecklistSheet, System};
use askama::Template;
use bastium_gateway::clean;

/// The checklist, to tick off on a tablet or on paper.
#[derive(Template)]
#[template(path = "checklist.html")]
struct ChecklistPage<'s> {
    sheet: &'s ChecklistSheet,
    /// What ticks are kept under: another list has other ones.
    key: String,
    summary: String,
    strength: String,
    system: &'static str,
}

/// Writes the checklist as a page. `summary` says how much it is; the commands of `system` are shown first.
///
/// # Errors
/// When it cannot be put together; no plan is known to make it so.
pub fn checklist_page(
    sheet: &ChecklistSheet,
    summary: &str,
    system: System,
) -> Result<String, std::fmt::Error> {
    let page = ChecklistPage {
        sheet,
        key: format!("{} {}", sheet.site, sheet.day),
        summary: summary.to_owned(),
        strength: sheet.strength.words(),
        system: system.word(),
    };
    let text = page.render().map_err(|_| std::fmt::Error)?;
    // What would turn a line of text round, or hide, is shown as what it is; line ends are the page's own.
    Ok(text.lines().map(|line| format!("{}\n", clean(line))).collect())
}
