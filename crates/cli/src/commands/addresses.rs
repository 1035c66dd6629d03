//! `bastium addresses`: the addressing sheet.

use crate::args::{Addresses, Writing};
use crate::failure::{Exit, Failure};
use crate::session::Session;
use crate::show::{self, style, table};
use bastium_core::addressing::Subnet;
use bastium_gateway::clean;
use bastium_planfile::edit::Edit;
use bastium_report::sheets::AddressSheet;

pub(super) fn run(args: &Addresses, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if args.pin {
        let writing = Writing { dry_run: args.dry_run, force: args.force };
        return pin(writing, session);
    }
    let plan = session.plan()?;
    let sheet = AddressSheet::new(&plan, args.free);
    if show::for_programs(session, &sheet, || sheet.tables(false), "sheet")? {
        return Ok(Exit::Fine);
    }
    let fits = |tables: &[bastium_report::Table], width| {
        tables.iter().all(|t| table::natural_width(t, 2) <= width)
    };
    let wide = sheet.tables(false);
    let tables = if fits(&wide, session.width()) { wide } else { sheet.tables(true) };
    let tunnels = sheet.networks.iter().filter(|network| network.kind == "tunnel").count();
    let networks = bastium_report::count(sheet.networks.len() - tunnels, "network");
    let beside = if tunnels > 0 {
        format!(", {}", bastium_report::count(tunnels, "tunnel"))
    } else {
        String::new()
    };
    let heading = format!("{}: {networks}{beside}\n\n", clean(&sheet.site));
    session.print(&heading)?;
    let (free, sheets): (Vec<_>, Vec<_>) =
        tables.iter().partition(|table| table.title.as_deref() == Some("free"));
    for (index, shown) in sheets.into_iter().enumerate() {
        if index > 0 {
            title(shown.title.as_deref().unwrap_or_default(), session)?;
        }
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    for space in sheet.free.iter().flat_map(|free| &free.spaces) {
        title(&format!("{}: each sign is a {}", space.prefix, space.each), session)?;
        for (start, row) in space.starts.iter().zip(&space.map) {
            session.print(&format!("{start:>15}  {row}\n"))?;
        }
        session.print("`.` free, `#` taken, `+` taken in part\n")?;
    }
    for shown in free {
        title("free", session)?;
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    for network in &sheet.networks {
        let Some(growth) = &network.growth else { continue };
        let how = if growth.in_place { "around it" } else { "elsewhere" };
        session.remark(&format!(
            "{} has outgrown its subnet: {} {how} would do; `bastium check` says what moves",
            network.name, growth.prefix
        ));
    }
    let carved: Vec<&str> =
        sheet.networks.iter().filter(|n| n.carved).map(|n| n.name.as_str()).collect();
    if !carved.is_empty() {
        session.remark(&format!(
            "carved, and not in the file yet: {}; `bastium addresses --pin` writes them down",
            carved.join(", ")
        ));
    }
    Ok(Exit::Fine)
}

fn title(text: &str, session: &mut Session<'_>) -> Result<(), Failure> {
    session.print(&format!("\n{}\n", style::in_style(style::STRONG, &clean(text))))
}

/// Writes down what was carved.
fn pin(writing: Writing, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let carved = plan.networks().iter().filter(|network| network.carved).map(|network| {
        let prefixes = network.subnets.iter().map(Subnet::prefix);
        (network.name.to_string(), prefixes.map(|prefix| prefix.to_string()).collect())
    });
    super::edit::change(&Edit::Pin(carved.collect()), writing, session)
}
