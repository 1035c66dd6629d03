//! `bastium services`: the services that a plan can name.

use crate::args::Services;
use crate::failure::{Exit, Failure};
use crate::plans;
use crate::session::Session;
use crate::show::{self, table};
use bastium_report::sheets::ServiceSheet;

pub(super) fn run(args: &Services, session: &mut Session<'_>) -> Result<Exit, Failure> {
    // What the plan declares is shown as well, if there is one; the look-up works without.
    let named = session.options.plan.clone();
    let plan = match plans::load(named.as_deref()) {
        Ok(plan) => Some(plan),
        Err(failure) if named.is_some() => return Err(failure),
        Err(_) => None,
    };
    let word = args.word.as_deref().unwrap_or_default();
    let sheet = ServiceSheet::new(word, plan.as_ref());
    let exit = if sheet.services.is_empty() { Exit::No } else { Exit::Fine };
    if show::for_programs(session, &sheet, || sheet.tables(), "services")? {
        return Ok(exit);
    }
    if sheet.services.is_empty() {
        session.print("No service fits.\n")?;
        return Ok(exit);
    }
    for shown in &sheet.tables() {
        session.print(&table::draw(shown, session.look(), 2))?;
    }
    Ok(exit)
}
