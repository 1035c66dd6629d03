//! `bastium addresses`

use crate::args::Addresses;
use crate::failure::{Exit, Failure};
use crate::session::Session;
use crate::show::{self, style, table};
use bastium_core::addressing::Subnet;
use bastium_export::clean;
use bastium_export::sheets::AddressSheet;
use bastium_planfile::edit::Edit;

pub(super) fn run(args: &Addresses, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if args.pin {
        return pin(args.dry_run, session);
    }
    let plan = session.plan()?;
    let sheet = AddressSheet::new(&plan, args.free);
    if show::for_programs(session, &sheet, || sheet.tables(false), "sheet")? {
        return Ok(Exit::Fine);
    }
    let fits = |tables: &[bastium_export::Table], width| {
        tables.iter().all(|t| table::natural_width(t, 2) <= width)
    };
    let wide = sheet.tables(false);
    let tables = if fits(&wide, session.width()) { wide } else { sheet.tables(true) };
    let heading =
        format!("{}: {}\n\n", clean(&sheet.site), super::count(sheet.networks.len(), "network"));
    session.print(&heading)?;
    for (index, shown) in tables.iter().enumerate() {
        if index > 0 {
            let title = clean(shown.title.as_deref().unwrap_or_default());
            session.print(&format!("\n{}\n", style::in_style(style::STRONG, &title)))?;
        }
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    for space in sheet.free.iter().flat_map(|free| &free.spaces) {
        let title = format!("\n{}: each sign is a {}", space.prefix, space.each);
        session.print(&format!("{}\n", style::in_style(style::STRONG, &title)))?;
        for (index, row) in space.map.iter().enumerate() {
            session.print(&format!("{:>18}  {row}\n", space.starts[index]))?;
        }
        session.print("`.` free, `#` taken, `+` taken in part\n")?;
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

/// Writes down what was carved.
fn pin(dry_run: bool, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let carved = plan.networks().iter().filter(|network| network.carved).map(|network| {
        let prefixes = network.subnets.iter().map(Subnet::prefix);
        (network.name.to_string(), prefixes.map(|prefix| prefix.to_string()).collect())
    });
    super::edit::change(&Edit::Pin(carved.collect()), dry_run, session)
}
