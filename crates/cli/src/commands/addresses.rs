//! `bastium addresses`

use crate::failure::{Exit, Failure};
use crate::session::Session;
use crate::show::{self, table};
use bastium_export::clean;
use bastium_export::sheets::AddressSheet;

pub(super) fn run(session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let sheet = AddressSheet::new(&plan);
    if show::for_programs(session, &sheet, || sheet.tables(false), "sheet")? {
        return Ok(Exit::Fine);
    }
    let wide = sheet.tables(false);
    let fits = wide.iter().all(|t| table::natural_width(t, 2) <= session.width());
    let tables = if fits { wide } else { sheet.tables(true) };
    let heading =
        format!("{}: {}\n\n", clean(&sheet.site), super::count(sheet.networks.len(), "network"));
    session.print(&heading)?;
    for shown in &tables {
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    Ok(Exit::Fine)
}
