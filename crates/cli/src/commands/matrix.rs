//! `bastium matrix`: what may pass between zones.

use crate::args::Matrix;
use crate::failure::{CallProblem, Exit, Failure, Named, Unknown};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::name::nearest;
use bastium_core::plan::{Plan, ZoneId};
use bastium_core::rules;
use bastium_planfile::edit::{Edit, drafted};
use bastium_report::Table;
use bastium_report::sheets::{DraftSheet, GridLayout, MatrixSheet};

pub(super) fn run(args: &Matrix, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if args.draft {
        return draft(args.write, session);
    }
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let rules = rules::compile(&meaning);
    let sheet = match (&args.from, &args.to) {
        (Some(from), Some(to)) => {
            let (from, to) = (zone(&plan, from)?, zone(&plan, to)?);
            MatrixSheet::one(&meaning, &rules, from, to)
        }
        _ => MatrixSheet::whole(&meaning, &rules),
    };
    if show::for_programs(session, &sheet, || sheet.tables(), "cell")? {
        return Ok(Exit::Fine);
    }
    if sheet.is_one_cell() {
        return one_cell(&sheet, session);
    }
    let (tables, gap, numbered) = fitting(&sheet, session.width());
    for (index, grid) in tables.iter().enumerate() {
        if index > 0 {
            session.print("\n")?;
        }
        session.print(&table::draw(grid, session.look(), gap))?;
    }
    let columns = if numbered { "Columns have the numbers of their rows. " } else { "" };
    session.print("\n")?;
    session.prose(
        style::PLAIN,
        &format!(
            "Rows: from. Columns: to. {columns}`*`: exceptions take precedence over the cell; \
             `bastium matrix FROM TO` shows them. `-`: no traffic is possible."
        ),
    )?;
    Ok(Exit::Fine)
}

/// The roomiest layout that fits: names over the columns, numbers, numbers and short cells, and at
/// last the matrix in pieces.
fn fitting(sheet: &MatrixSheet, width: u16) -> (Vec<Table>, u16, bool) {
    let all = 0..sheet.zones.len();
    for (layout, gap) in
        [(GridLayout::Names, 2), (GridLayout::Numbers, 2), (GridLayout::Compact, 1)]
    {
        let grid = sheet.grid(layout, all.clone());
        if table::natural_width(&grid, gap) <= width {
            return (vec![grid], gap, layout != GridLayout::Names);
        }
    }
    let mut pieces = Vec::new();
    let mut start = 0;
    while start < sheet.zones.len() {
        let fits = |end: &usize| {
            table::natural_width(&sheet.grid(GridLayout::Compact, start..*end), 1) <= width
        };
        let end = (start + 1..=sheet.zones.len()).take_while(fits).last().unwrap_or(start + 1);
        pieces.push(sheet.grid(GridLayout::Compact, start..end));
        start = end;
    }
    (pieces, 1, true)
}

fn one_cell(sheet: &MatrixSheet, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let cell = &sheet.cells[0];
    let heading = format!("{} -> {}: {}", cell.from, cell.to, cell.action);
    let log = if cell.log { ", logged" } else { "" };
    let heading = style::in_style(style::STRONG, &heading);
    session.print(&format!("{heading}{log} (line {})\n\n", cell.line))?;
    if sheet.rules.is_empty() {
        session.print(
            "No traffic is possible in that direction: one end has no networks, or there is no route.\n",
        )?;
        return Ok(Exit::Fine);
    }
    for rules in sheet.tables() {
        session.print(&table::draw(&rules, session.look(), 2))?;
    }
    session.print("\nFirst match wins.\n")?;
    Ok(Exit::Fine)
}

fn zone(plan: &Plan, word: &str) -> Result<ZoneId, Failure> {
    if let Some(zone) = plan.zone_named(word) {
        return Ok(zone);
    }
    let network = plan.networks().iter().find(|network| network.name.as_str() == word);
    if let Some(network) = network {
        let zone = plan.zone(network.zone).name.to_string();
        return Err(CallProblem::NetworkForZone { network: word.to_owned(), zone }.into());
    }
    let known: Vec<String> = plan.zones().iter().map(|zone| zone.name.to_string()).collect();
    let near = nearest(word, known.iter().map(String::as_str)).map(str::to_owned);
    Err(Unknown { what: Named::Zone, word: word.to_owned(), near, known }.into())
}

/// The matrix that follows from trust alone: shown, or written.
fn draft(write: bool, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if write {
        return super::edit::change(&Edit::Draft, crate::args::Writing::default(), session);
    }
    let plan = session.plan()?;
    let drawn = drafted(plan.source().text()).map_err(Failure::Edit)?;
    let sheet = DraftSheet::new(drawn);
    if show::for_programs(session, &sheet, || sheet.tables(), "draft")? {
        return Ok(Exit::Fine);
    }
    session.print(&sheet.grid)?;
    session.remark("higher trust may open towards lower; add --write to put it into the plan");
    Ok(Exit::Fine)
}
