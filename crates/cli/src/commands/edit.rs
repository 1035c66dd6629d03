//! `bastium add`, `set`, `remove` and `rename`: changes of the plan file.

use super::changed::report;
use crate::args::{Add, Remove, Rename, Set, Writing};
use crate::failure::{CallProblem, Exit, Failure, Malformed, Meaningless};
use crate::plans;
use crate::session::Session;
use bastium_core::plan::ZoneId;
use bastium_core::space::AddressSet;
use bastium_gateway::clean;
use bastium_planfile::edit::{Edit, Setting, apply};

pub(super) fn add(args: &Add, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if let Some(file) = &args.table {
        return super::import::run(args, file, session);
    }
    change(&added(args)?, args.writing, session)
}

/// The entry that is added.
pub(super) fn added(args: &Add) -> Result<Edit, Failure> {
    let Some(name) = args.name.clone() else {
        return Err(CallProblem::NoName { kind: args.kind.clone() }.into());
    };
    let settings = settings(&args.settings)?;
    let (kind, open_by_trust) = (args.kind.clone(), args.open_by_trust);
    Ok(Edit::Add { kind, name, like: args.like.clone(), settings, open_by_trust })
}

pub(super) fn set(args: &Set, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let edit = set_edit(args)?;
    let made =
        plans::change(args.writing, session, |text| apply(text, &edit).map_err(Failure::Edit))?;
    report(&made, None, session)?;
    if let Edit::Cell { from, to, both_ways, action } = &edit {
        say_what_stands_above(&made.new, (from, to, *both_ways), action, session);
    }
    Ok(Exit::Fine)
}

/// Names the exceptions that go before the cells which have been set, and do something else.
fn say_what_stands_above(
    text: &str,
    (from, to, both_ways): (&str, &str, bool),
    action: &str,
    session: &mut Session<'_>,
) {
    let Ok(plan) = bastium_planfile::read("the plan", text.as_bytes()) else { return };
    let word = action.split('+').next().unwrap_or_default();
    let meets = |name: &str, zone: ZoneId, addresses: &AddressSet| {
        let is_meant = name == "any" || plan.zone(zone).name.as_str() == name;
        is_meant && !plan.zone_prefixes(zone).is_disjoint(addresses)
    };
    let lies = |name: &str, addresses: &AddressSet| {
        plan.zone_ids().any(|zone| meets(name, zone, addresses))
    };
    let above = plan.exceptions().iter().filter(|exception| {
        let (source, destination) = (&exception.from.addresses, &exception.to.addresses);
        let there = lies(from, source) && lies(to, destination);
        let back = both_ways && lies(to, source) && lies(from, destination);
        exception.action.word() != word && (there || back)
    });
    let names: Vec<String> = above
        .map(|one| format!("{} {} (line {})", one.action.word(), one.name, plan.line(one.at)))
        .collect();
    if !names.is_empty() {
        let says = format!("exceptions go before these cells: {}", names.join(", "));
        session.remark(&clean(&says));
    }
}

/// The keys that are set, or the cell.
pub(super) fn set_edit(args: &Set) -> Result<Edit, Failure> {
    let words: Vec<&str> = args.words.iter().map(String::as_str).collect();
    if args.both_ways && args.kind != "cell" {
        return Err(Meaningless::BothWays.into());
    }
    Ok(match (args.kind.as_str(), words.as_slice()) {
        ("cell", [from, to, action]) => Edit::Cell {
            from: (*from).to_owned(),
            to: (*to).to_owned(),
            both_ways: args.both_ways,
            action: (*action).to_owned(),
        },
        ("cell", _) => {
            return Err(Malformed::Cell.into());
        }
        (kind, words) => {
            let name = words.first().filter(|word| !word.contains('='));
            let rest = &args.words[usize::from(name.is_some())..];
            let name = name.map(|name| (*name).to_owned());
            Edit::Set { kind: kind.to_owned(), name, settings: settings(rest)? }
        }
    })
}

pub(super) fn remove(args: &Remove, session: &mut Session<'_>) -> Result<Exit, Failure> {
    change(&removed(args), args.writing, session)
}

/// The entry that is removed.
pub(super) fn removed(args: &Remove) -> Edit {
    Edit::Remove { kind: args.kind.clone(), name: args.name.clone() }
}

pub(super) fn rename(args: &Rename, session: &mut Session<'_>) -> Result<Exit, Failure> {
    change(&renamed(args), args.writing, session)
}

/// The entry that gets another name.
pub(super) fn renamed(args: &Rename) -> Edit {
    Edit::Rename { kind: args.kind.clone(), old: args.old.clone(), new: args.new.clone() }
}

fn settings(words: &[String]) -> Result<Vec<Setting>, Failure> {
    let one = |word: &String| {
        Setting::from_words(word).ok_or_else(|| Malformed::Setting(word.clone()).into())
    };
    words.iter().map(one).collect()
}

/// Makes one change of the plan file, if what comes of it is a plan, and shows it.
pub(super) fn change(
    edit: &Edit,
    writing: Writing,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let edit = |text: &str| apply(text, edit).map_err(Failure::Edit);
    let changed = plans::change(writing, session, edit)?;
    report(&changed, None, session)?;
    Ok(Exit::Fine)
}
