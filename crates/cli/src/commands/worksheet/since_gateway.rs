//! `bastium worksheet --since-gateway`: the change of a gateway whose rules are in a file, whoever wrote them.

use super::super::{audit, typed};
use super::misread;
use crate::failure::Failure;
use bastium_core::meaning::Meaning;
use bastium_core::proof::Proved;
use bastium_gateway::clean;
use bastium_gateway::foreign::{NotHeld, NotUnderstood};
use bastium_report::sheets::Worksheet;
use std::path::Path;

/// So many things that were not understood are named in one sentence.
const MOST_NAMED: usize = 3;

/// The worksheet of a change of a gateway that has the rules of a file.
///
/// # Errors
/// When these are no rules, or not all of them are understood.
pub(super) fn sheet(
    path: &Path,
    meaning: &Meaning<'_>,
    proved: Proved<'_>,
) -> Result<Worksheet, Failure> {
    let name = clean(&path.display().to_string()).into_owned();
    let Some(typed) = typed::read(path, meaning)? else {
        let foreign = audit::foreign(path, meaning.plan())?;
        let held = foreign.held_rules(meaning, proved.rules());
        let held = held.map_err(|problem| not_held(&name, problem))?;
        return Worksheet::since_held(&name, &held, (meaning, proved)).map_err(|one| misread(&one));
    };
    if !typed.not_understood.is_empty() {
        let unread = typed.not_understood.into_iter().map(|(at, what)| NotUnderstood { at, what });
        return Err(not_held(&name, NotHeld::Unread(unread.collect())));
    }
    Worksheet::since_typed(&name, &typed, (meaning, proved)).map_err(|one| misread(&one))
}

/// Why no change can begin with the rules of a file.
fn not_held(name: &str, problem: NotHeld) -> Failure {
    let (says, help) = match problem {
        NotHeld::Unread(unread) => (
            format!("is not understood in every row: {}", named(&unread)),
            "a safe order needs every row: enter what is named as conditions that Bastium knows, or take these rows out \
             of the gateway first"
                .to_owned(),
        ),
        NotHeld::Exhausted => (
            "has chains that lead into each other too often, or too deep".to_owned(),
            whole_file(),
        ),
        NotHeld::ByManyWays { at } => (
            format!("has a row that is reached by several ways ({})", clean(&at)),
            whole_file(),
        ),
        NotHeld::OneOfSeveralUplinks { at } => (
            format!("has a row for what leaves by one of several uplinks ({})", clean(&at)),
            "no order of rows decides by which uplink a packet leaves: let the row be for all of them, or load a whole file"
                .to_owned(),
        ),
        NotHeld::State { keeps: true } => (
            "keeps state, and the plan's rules are for a gateway that does not".to_owned(),
            "take another form, such as `--form one-list`".to_owned(),
        ),
        NotHeld::State { keeps: false } => (
            "keeps no state, and the plan's rules are for a gateway that does".to_owned(),
            "take the form for such lists: `--form per-interface`".to_owned(),
        ),
        NotHeld::Ranks => (
            "says nothing of ranks, which the plan's rules rest on".to_owned(),
            "take another form, such as `--form one-list`".to_owned(),
        ),
        NotHeld::Several { at, lists: [one, other] } => (
            format!(
                "has a row that is for more than one of the plan's lists: {} is for {} and {}",
                clean(&at),
                clean(&one),
                clean(&other)
            ),
            "take the form with a single list: `--form one-list`".to_owned(),
        ),
        _ => ("cannot be what a change begins with".to_owned(), whole_file()),
    };
    Failure::Call { says: format!("{name} {says}"), help }
}

fn whole_file() -> String {
    "load the whole file that `bastium export nftables` writes: it takes the place of the old rules in one step".to_owned()
}

/// What was not understood, the first few by name.
fn named(unread: &[NotUnderstood]) -> String {
    let each = unread.iter().take(MOST_NAMED);
    let each = each.map(|one| format!("{} ({})", clean(&one.what), clean(&one.at)));
    let each = each.collect::<Vec<_>>().join(", ");
    match unread.len().saturating_sub(MOST_NAMED) {
        0 => each,
        more => format!("{each}, and {more} more"),
    }
}
