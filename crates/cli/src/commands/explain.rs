//! `bastium explain`: a page about a finding.

use crate::args::Explain;
use crate::failure::{Exit, Failure, Named, Unknown};
use crate::session::Session;
use crate::show::{self, style, table};
use bastium_core::findings::explain::{PAGES, page};
use bastium_core::name::nearest;
use bastium_report::sheets::PageSheet;

pub(super) fn run(args: &Explain, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let sheet = match &args.name {
        None => PageSheet::new(PAGES.iter()),
        Some(name) => PageSheet::new([page(name).ok_or_else(|| unknown(name))?]),
    };
    if show::for_programs(session, &sheet, || sheet.tables(), "page")? {
        return Ok(Exit::Fine);
    }
    if let (Some(_), [page]) = (&args.name, sheet.pages.as_slice()) {
        session.prose(style::STRONG, &format!("{} ({})", page.name, page.severity))?;
        session.prose(style::PLAIN, page.text)?;
        return Ok(Exit::Fine);
    }
    for shown in &sheet.tables() {
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    Ok(Exit::Fine)
}

fn unknown(name: &str) -> Failure {
    let near = nearest(name, PAGES.iter().map(|page| page.name)).map(ToString::to_string);
    Unknown { what: Named::Finding, word: name.to_owned(), near, known: Vec::new() }.into()
}
