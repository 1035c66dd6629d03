//! Self-contained HTML pages that work offline.

use crate::sheets::{ChecklistSheet, Step, System, Worksheet, tried_grid};
use crate::{Column, Table};
use askama::Template;
use bastium_gateway::clean;
use bastium_picture::{Theme, css, svg_for_page};

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
    /// Where the checks are made.
    picture: String,
    light: String,
    dark: String,
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
        // Ticks outlive the day; those of checks that are about something else are gone by themselves.
        key: sheet.site.clone(),
        summary: summary.to_owned(),
        strength: sheet.strength.words(),
        system: system.word(),
        picture: svg_for_page(&tried_grid(sheet).picture(), "tried"),
        light: css(Theme::Light, ""),
        dark: css(Theme::Dark, ""),
    };
    written(&page)
}

/// The worksheet, to tick off on a tablet or on paper.
#[derive(Template)]
#[template(path = "worksheet.html")]
struct WorksheetPage {
    title: String,
    key: String,
    summary: Vec<String>,
    steps: Vec<PageStep>,
}

struct PageStep {
    heading: String,
    tables: Vec<PageTable>,
    warnings: Vec<String>,
    afterwards: String,
}

struct PageTable {
    title: String,
    columns: Vec<Column>,
    rows: Vec<PageRow>,
}

struct PageRow {
    /// What its tick is kept under.
    key: String,
    cells: Vec<PageCell>,
}

struct PageCell {
    text: String,
    class: &'static str,
}

/// Writes the worksheet as a page. `summary` says how much it is, and how safe.
///
/// # Errors
/// When it cannot be put together; no plan is known to make it so.
pub fn worksheet_page(sheet: &Worksheet, summary: Vec<String>) -> Result<String, std::fmt::Error> {
    let what = if sheet.since.is_some() { "Change of" } else { "Worksheet for" };
    let steps: Vec<PageStep> = sheet.steps.iter().map(page_step).collect();
    // Another worksheet has other ticks, be it only that a value is another.
    let mut sum = crc32fast::Hasher::new();
    let rows = steps.iter().flat_map(|step| &step.tables).flat_map(|table| &table.rows);
    rows.flat_map(|row| &row.cells).for_each(|cell| sum.update(cell.text.as_bytes()));
    written(&WorksheetPage {
        title: format!("{what} {}", sheet.site),
        key: format!("worksheet {} {} {:08x}", sheet.site, sheet.day, sum.finalize()),
        summary,
        steps,
    })
}

fn page_step(step: &Step) -> PageStep {
    let tables = step.tables().into_iter().map(Table::without_empty_columns).enumerate();
    let tables = tables.map(|(place, table)| page_table(step.number, place, table));
    PageStep {
        heading: format!("{}. {}", step.number, step.title),
        tables: tables.collect(),
        warnings: step.warnings.clone(),
        afterwards: step.afterwards.clone(),
    }
}

fn page_table(step: usize, place: usize, table: Table) -> PageTable {
    let title = table.title.unwrap_or_default();
    let title = title.split_once(". ").map_or(title.as_str(), |(_, title)| title).to_owned();
    let class = |column: &Column| match (column.numbers, column.whole) {
        (true, _) => "numbers",
        (_, true) => "whole",
        _ => "",
    };
    // The first column is for ticks.
    let columns: Vec<Column> = table.columns.into_iter().skip(1).collect();
    let rows = table.rows.into_iter().enumerate().map(|(row, cells)| PageRow {
        key: format!("{step}-{}-{}", place + 1, row + 1),
        cells: cells
            .into_iter()
            .skip(1)
            .zip(&columns)
            .map(|(cell, column)| PageCell { text: cell.text, class: class(column) })
            .collect(),
    });
    PageTable { title, rows: rows.collect(), columns }
}

fn written(page: &impl Template) -> Result<String, std::fmt::Error> {
    let text = page.render().map_err(|_| std::fmt::Error)?;
    // What would turn a line of text round, or hide, is shown as what it is; line ends are the page's own.
    Ok(text.lines().map(|line| format!("{}\n", clean(line))).collect())
}
