//! `bastium ports`: what to set on each switch port and Wi-Fi name.

use crate::failure::{Exit, Failure};
use crate::session::Session;
use crate::show::{self, style, table};
use bastium_gateway::clean;
use bastium_report::sheets::PortSheet;

pub(super) fn run(session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let sheet = PortSheet::new(&plan);
    let exit = if sheet.missing.is_empty() { Exit::Fine } else { Exit::No };
    if show::for_programs(session, &sheet, || sheet.tables(false), "device")? {
        return Ok(exit);
    }
    let heading =
        format!("{}: {}", clean(&sheet.site), bastium_report::count(sheet.ports.len(), "port"));
    session.print(&format!("{heading}\n"))?;
    for shown in &sheet.tables(true) {
        let title = clean(shown.title.as_deref().unwrap_or_default());
        session.print(&format!("\n{}\n", style::in_style(style::STRONG, &title)))?;
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    if plan.wiring().switches.is_empty() {
        session.prose(
            style::FAINT,
            "\nThe plan declares no switch and no access point: see `[switch.NAME]`, `[wifi.NAME]`.",
        )?;
    }
    Ok(exit)
}
