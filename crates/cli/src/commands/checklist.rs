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
use bastium_export::clean;
use bastium_export::sheets::{ChecklistSheet, System};

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
    session.print(&format!(
        "{} for {}: {} at {}, about {}\n",
        style::in_style(style::STRONG, "Checklist"),
        clean(&sheet.site),
        count(sheet.count(), "check"),
        count(sheet.stands.len(), "place"),
        count(minutes as usize, "minute"),
    ))?;
    for (stand, shown) in sheet.stands.iter().zip(sheet.short_tables(system)) {
        let title = style::in_style(style::STRONG, &clean(&stand.place));
        session.print(&format!("\n{title}: {}\n", clean(&stand.how)))?;
        let mut set_ups: Vec<&str> = stand.checks.iter().filter_map(|c| c.set_up.as_deref()).collect();
        set_ups.extend(stand.checks.iter().filter_map(|check| check.remark));
        set_ups.dedup();
        for set_up in set_ups {
            session.print(&format!("  first {}\n", clean(set_up)))?;
        }
        session.print(&table::draw(&shown, session.width(), 2))?;
    }
    session.print(
        "\nreply: an answer; refused: a reset; unreachable: a notice; silence: nothing until the time is out.\n\
         If something else comes back, look at the rule: `bastium rules --find NUMBER`.\n",
    )?;
    Ok(())
}
