//! `bastium worksheet --since-gateway`: the change of a gateway whose rules are in a file, whoever wrote them.

use super::super::{audit, typed};
use super::misread;
use crate::failure::{CallProblem, Failure, shown};
use bastium_core::meaning::Meaning;
use bastium_core::proof::Proved;
use bastium_gateway::foreign::{NotHeld, NotUnderstood};
use bastium_report::sheets::Worksheet;
use std::path::Path;

/// The worksheet of a change of a gateway that has the rules of a file.
///
/// # Errors
/// When these are no rules, or not all of them are understood.
pub(super) fn sheet(
    path: &Path,
    meaning: &Meaning<'_>,
    proved: Proved<'_>,
) -> Result<Worksheet, Failure> {
    let name = shown(path);
    let Some(typed) = typed::read(path, meaning)? else {
        let foreign = audit::foreign(path, Some(meaning.plan()))?;
        let held = foreign.held_rules(meaning, proved.rules());
        let held = held.map_err(|problem| not_held(path, problem))?;
        return Worksheet::since_held(&name, &held, (meaning, proved)).map_err(|one| misread(&one));
    };
    if !typed.not_understood.is_empty() {
        let unread = typed.not_understood.into_iter().map(|(at, what)| NotUnderstood { at, what });
        return Err(not_held(path, NotHeld::Unread(unread.collect())));
    }
    Worksheet::since_typed(&name, &typed, (meaning, proved)).map_err(|one| misread(&one))
}

/// Why no change can begin with the rules of a file.
fn not_held(path: &Path, problem: NotHeld) -> Failure {
    CallProblem::NotHeld { path: path.to_owned(), problem }.into()
}
