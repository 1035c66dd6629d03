//! `bastium checklist`

use super::count;
use crate::args::{Checklist, SystemName};
use crate::failure::{Exit, Failure};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::checklist::{self, Stand};
use bastium_core::meaning::Meaning;
use bastium_core::name::nearest;
use bastium_core::rules;
use bastium_export::sheets::{ChecklistSheet, StandRow, System};

pub(super) fn run(args: &Checklist, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let compiled = rules::compile(&meaning);
    let mut stands = checklist::build(&meaning, &compiled);
    if let Some(word) = &args.stand {
        keep_place(&mut stands, &meaning, word)?;
    }
    let sheet = ChecklistSheet::new(&meaning, &compiled, &stands);
    if show::for_programs(session, &sheet, || sheet.tables(), "place")? {
        return Ok(Exit::Fine);
    }
    let system = match args.system {
        SystemName::Linux => System::Linux,
        SystemName::Macos => System::Macos,
        SystemName::Windows => System::Windows,
    };
    print(&sheet, system, session)?;
    Ok(Exit::Fine)
}

/// Keeps what is done at one place: at a host, or in a network with all of its hosts.
fn keep_place(stands: &mut Vec<Stand>, meaning: &Meaning<'_>, word: &str) -> Result<(), Failure> {
    let plan = meaning.plan();
    let names: Vec<String> = stands.iter().map(|stand| stand.standpoint.name(meaning)).collect();
    let network = plan.network_ids().find(|id| plan.network(*id).name.as_str() == word);
    stands.retain(|stand| {
        let there = network.is_some() && stand.standpoint.network() == network;
        there || stand.standpoint.name(meaning) == word
    });
    if !stands.is_empty() {
        return Ok(());
    }
    let cure = match nearest(word, names.iter().map(String::as_str)) {
        Some(near) => format!("write `{near}`, if that is meant"),
        None => format!("the places are {}", names.join(", ")),
    };
    Err(Failure::Call { says: format!("no check is made at `{word}`"), cure })
}

fn print(sheet: &ChecklistSheet, system: System, session: &mut Session<'_>) -> Result<(), Failure> {
    let minutes = sheet.seconds.div_ceil(60);
    let heading = format!(
        "Checklist for {}: {} at {}, about {}",
        sheet.site,
        count(sheet.count(), "check"),
        count(sheet.stands.len(), "place"),
        count(minutes as usize, "minute"),
    );
    session.prose(style::PLAIN, &heading)?;
    for (stand, shown) in sheet.stands.iter().zip(sheet.short_tables(system)) {
        session.print("\n")?;
        session.prose(style::STRONG, &stand.place)?;
        session.prose(style::PLAIN, &stand.how)?;
        for set_up in first(stand) {
            session.prose(style::FAINT, &format!("first: {set_up}"))?;
        }
        session.print(&table::draw(&shown, session.look(), 2))?;
    }
    session.print("\n")?;
    session.prose(
        style::PLAIN,
        "reply: an answer; refused: a reset; unreachable: a notice; silence: nothing until the time is \
         out. If something else comes back, look at the rule: `bastium rules --find NUMBER`.",
    )?;
    Ok(())
}

/// What to set up, or to know, before the checks of a place: each thing once.
fn first(stand: &StandRow) -> Vec<String> {
    let mut first: Vec<String> = Vec::new();
    let mut outside: Vec<&str> = Vec::new();
    for check in &stand.checks {
        if let Some(set_up) = check.set_up.as_ref().filter(|set_up| !first.contains(set_up)) {
            first.push(set_up.clone());
        }
        if check.remark.is_some() && !outside.contains(&check.service.as_str()) {
            outside.push(&check.service);
        }
    }
    if !outside.is_empty() {
        first.push(format!(
            "OUTSIDE_ADDRESS stands for a server outside that answers {} where that is allowed",
            outside.join(", ")
        ));
    }
    first
}
