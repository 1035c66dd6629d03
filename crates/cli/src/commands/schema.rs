//! `bastium schema`: JSON Schemas of the plan and of every sheet.

use crate::failure::{Exit, Failure};
use crate::session::Session;

pub(super) fn run(session: &mut Session<'_>) -> Result<Exit, Failure> {
    let schema = bastium_planfile::schema();
    session.print(&format!("{schema:#}\n"))?;
    Ok(Exit::Fine)
}
