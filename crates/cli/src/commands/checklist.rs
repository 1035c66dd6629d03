//! `bastium checklist`: the tests to make in the building.

use crate::args::Checklist;
use crate::failure::{Exit, Failure, Malformed, Named, Unknown};
use crate::files;
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::checklist::{self, Limit, Stand};
use bastium_core::meaning::Meaning;
use bastium_core::name::nearest;
use bastium_core::rules;
use bastium_report::checklist_page;
use bastium_report::count;
use bastium_report::sheets::{ChecklistSheet, Strength, System};

pub(super) fn run(args: &Checklist, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let compiled = rules::compile(&meaning);
    let full = args.full || args.within.is_some() || args.at_most.is_some();
    let build = if full { checklist::build } else { checklist::carried };
    let mut list = build(&meaning, session::proved(&meaning, &compiled)?);
    if let Some(limit) = limit(args)? {
        list.keep_best(limit);
    }
    if let Some(word) = &args.stand {
        keep_place(&mut list.stands, &meaning, word)?;
    }
    let sheet = if full { ChecklistSheet::new } else { ChecklistSheet::carried };
    let mut sheet = sheet(&meaning, &compiled, &list);
    sheet.whole = full && args.within.is_none() && args.at_most.is_none() && args.stand.is_none();
    if args.strength {
        let all = args.within.is_none() && args.at_most.is_none();
        if all {
            let proved = session::proved(&meaning, &compiled)?;
            sheet.strength.add_ways(&checklist::noticed(&meaning, proved));
        }
        return strength(&sheet.strength, session);
    }
    if show::for_programs(session, &sheet, || sheet.tables(), "place")? {
        return Ok(Exit::Fine);
    }
    let system = System::from(args.system);
    if let Some(path) = &args.page {
        let page = checklist_page(&sheet, &heading(&sheet), system);
        let page = page.map_err(|_| std::io::Error::other("the page could not be put together"))?;
        files::put(path, &page, args.force, session)?;
        session.remark(&format!("wrote {}", path.display()));
        return Ok(Exit::Fine);
    }
    print(args, &sheet, system, session)?;
    Ok(Exit::Fine)
}

/// What is noticed: by each way of checking; of a part of the list, by that alone.
fn strength(strength: &Strength, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let (table, words) = match strength.ways.is_empty() {
        true => (strength.table(), strength.words()),
        false => (strength.ways_table(), strength.ways_words()),
    };
    if show::for_programs(session, strength, || vec![table.clone()], "strength")? {
        return Ok(Exit::Fine);
    }
    session.print(&table::draw(&table, session.look(), 0))?;
    session.print("\n")?;
    session.prose(style::PLAIN, &words)?;
    Ok(Exit::Fine)
}

/// How much of the list is wanted.
fn limit(args: &Checklist) -> Result<Option<Limit>, Failure> {
    let Some(time) = args.within else { return Ok(args.at_most.map(Limit::Checks)) };
    let seconds = u32::try_from(time.as_secs()).map_err(|_| Malformed::Within)?;
    Ok(Some(Limit::Seconds(seconds)))
}

/// Keeps what is done at one place: at a host, or in a network with all of its hosts.
pub(super) fn keep_place(
    stands: &mut Vec<Stand>,
    meaning: &Meaning<'_>,
    word: &str,
) -> Result<(), Failure> {
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
    let near = nearest(word, names.iter().map(String::as_str)).map(str::to_owned);
    Err(Unknown { what: Named::TestPoint, word: word.to_owned(), near, known: names }.into())
}

/// How much it is, in a sentence.
fn heading(sheet: &ChecklistSheet) -> String {
    let minutes = sheet.seconds.div_ceil(60);
    let mut words = format!(
        "{} at {}, about {}",
        count(sheet.count(), "check"),
        count(sheet.points, "test point"),
        count(minutes as usize, "minute"),
    );
    if sheet.whole {
        words.push_str(&format!("; no list with fewer than {} catches as much", sheet.least));
    }
    words
}

fn print(
    args: &Checklist,
    sheet: &ChecklistSheet,
    system: System,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let heading = format!("Checklist for {}: {}", sheet.site, heading(sheet));
    session.prose(style::PLAIN, &heading)?;
    if !sheet.full {
        session.prose(
            style::FAINT,
            "what one person carries; `--full` has everything that can be tried",
        )?;
    }
    if args.stand.is_none() {
        session.prose(style::FAINT, &sheet.strength.words())?;
    }
    for line in &sheet.second_laptop {
        session.prose(style::PLAIN, line)?;
    }
    for (stand, shown) in sheet.stands.iter().zip(sheet.short_tables(system)) {
        session.print("\n")?;
        session.prose(style::STRONG, &format!("{}. {}", stand.point, stand.place))?;
        session.prose(style::PLAIN, &stand.how)?;
        for set_up in stand.first() {
            session.prose(style::FAINT, &format!("first: {set_up}"))?;
        }
        session.print(&table::draw(&shown, session.look(), 2))?;
    }
    if args.stand.is_none() && !sheet.not_tried.is_empty() {
        session.print(&format!("\n{}\n", style::in_style(style::STRONG, "not tried")))?;
        for one in &sheet.not_tried {
            session.prose(style::PLAIN, &format!("- {}: {}", one.what, one.why))?;
        }
    }
    let alone = sheet.without_control();
    if args.stand.is_none() && !sheet.full && !alone.is_empty() {
        let title = "silence that no other check makes evidence: be sure that the other end is on";
        session.print(&format!("\n{}\n", style::in_style(style::STRONG, title)))?;
        for says in alone {
            session.prose(style::PLAIN, &format!("- {says}"))?;
        }
    }
    session.print("\n")?;
    session.prose(
        style::PLAIN,
        "reply: an answer; refused: a TCP reset; unreachable: an ICMP error; silence: no answer until the \
         timeout. Silence counts only while whoever is asked is on: where another check shows it, that one has to pass. If a \
         check fails, look at its rule: `bastium rules --find NUMBER`.",
    )?;
    Ok(())
}
