//! `bastium blocked`: explains the packets in a gateway's log.

use crate::args::Blocked;
use crate::failure::{Exit, Failure};
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::blocked::{Group, Offer, Tally};
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Rows};
use bastium_core::proof;
use bastium_core::rules::{self, Rule};
use bastium_gateway::{clean, nftables, read_packet_log};
use bastium_planfile::edit::{Edit, Setting, apply};
use bastium_report::count;
use bastium_report::sheets::{BlockedSheet, CompareSheet, GroupRow, offer_keys};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufReader};
use std::path::Path;

/// How many groups are shown one by one.
const MOST: usize = 25;

pub(super) fn run(args: &Blocked, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    // A gateway may have either form, with the fewest rules or one for every cell; an id means the same in all.
    let sets = [Form::OneList, Form::PerPair].into_iter().flat_map(|form| {
        Rows::ALL.map(|rows| rules::in_form_with(&meaning, form, rows)).into_iter().flatten()
    });
    let sets: Vec<_> = sets.collect();
    let tags: HashMap<String, &Rule> = sets.iter().flat_map(nftables::tags).collect();
    let mut tally = Tally::new(&meaning, tags.clone());
    let lines = read(&args.log, |line, entry| tally.add(line, entry))?;
    let blocked = tally.finish();
    let mut sheet = BlockedSheet::new(&plan, &blocked, &tags, lines);
    let offered = blocked.groups.iter().zip(&mut sheet.groups);
    let offered = offered.filter(|(group, _)| group.offer.is_some()).take(args.offers);
    for (group, row) in offered {
        weigh(&meaning, group, row);
    }
    if !show::for_programs(session, &sheet, || sheet.tables(), "part")? {
        print(&sheet, args.all, session)?;
    }
    Ok(Exit::Fine)
}

fn read(
    path: &Path,
    reported: impl FnMut(u64, &bastium_core::blocked::Entry<'_>),
) -> Result<u64, Failure> {
    let failed = |error| Failure::File { path: path.to_owned(), doing: "read", error };
    if path == Path::new("-") {
        return read_packet_log(io::stdin().lock(), reported).map_err(failed);
    }
    let file = File::open(path).map_err(failed)?;
    read_packet_log(BufReader::with_capacity(1 << 18, file), reported).map_err(failed)
}

/// Looks at what an offered exception would open, and what would be wrong with the plan then.
fn weigh(meaning: &Meaning<'_>, group: &Group, row: &mut GroupRow) {
    let Some(offer) = &group.offer else { return };
    let plan = meaning.plan();
    let source = plan.source();
    let tried = plans::edited(source.name(), source.text().as_bytes(), |text| {
        apply(text, &addition(offer, group.count)).map_err(Failure::Edit)
    });
    let says = |all: &[Diagnosis]| all.iter().map(|one| one.says.clone()).collect::<Vec<_>>();
    let (text, fresh) = match tried {
        Ok((_, text, fresh)) => (text, fresh),
        Err(Failure::Refused { diagnoses, .. }) => {
            row.breaks = says(&diagnoses);
            return;
        }
        Err(other) => {
            row.breaks = vec![other.to_string()];
            return;
        }
    };
    row.breaks =
        says(&fresh.into_iter().filter(|f| f.severity != Severity::Advice).collect::<Vec<_>>());
    let Ok(after) = bastium_planfile::read(source.name(), text.as_bytes()) else { return };
    let Ok(then) = Meaning::new(&after, meaning.day()) else { return };
    let (old, new) = (rules::compile(meaning), rules::compile(&then));
    let changes = proof::changes(meaning, &then, (&old, &new));
    let named = (meaning.day().to_string(), new.form.word().to_owned());
    let files = ("the plan".to_owned(), "the plan with the exception".to_owned());
    let compared = CompareSheet::new((plan, &after), files, named, &changes);
    let mut opens: Vec<String> =
        compared.opens.iter().map(|change| change.packets.short.clone()).collect();
    if compared.undecided > 0 {
        opens.push("more, perhaps: not all of it could be decided".to_owned());
    }
    row.opens = Some(opens);
}

fn addition(offer: &Offer, count: u64) -> Edit {
    let keys = offer_keys(offer, count);
    let settings =
        keys.iter().filter_map(|(key, value)| Setting::from_words(&format!("{key}={value}")));
    Edit::Add {
        kind: "exception".to_owned(),
        name: offer.name.clone(),
        settings: settings.collect(),
        like: None,
        open_by_trust: false,
    }
}

fn print(sheet: &BlockedSheet, all: bool, session: &mut Session<'_>) -> Result<(), Failure> {
    let noise = |row: &GroupRow| matches!(row.sort, "stranger" | "to_everyone" | "late");
    let reported: u64 = sheet.groups.iter().map(|row| row.count).sum();
    session.prose(
        style::PLAIN,
        &format!("{} blocked, in {}.", packets(reported), count(sheet.groups.len(), "group")),
    )?;
    session.print("\n")?;
    for row in sheet.groups.iter().filter(|row| all || !noise(row)).take(MOST) {
        session.item(tone(row.sort), &format!("{:>5}  ", row.count), &line(row))?;
    }
    asides(sheet, all, noise, session)?;
    let looked: Vec<&GroupRow> =
        sheet.groups.iter().filter(|row| row.opens.is_some() || !row.breaks.is_empty()).collect();
    if looked.is_empty() {
        return Ok(());
    }
    session.print("\n")?;
    session.prose(style::STRONG, "To allow it")?;
    for row in looked {
        offer(row, session)?;
    }
    Ok(())
}

/// `reception -> records, tcp/443: missing; cell.staff>clinical (cell staff>clinical, line 298)`
fn line(row: &GroupRow) -> String {
    let service = row.service.as_deref().unwrap_or("several services");
    let entry = row.because.words_and_line();
    let by = match (&row.rule, &row.tag) {
        (Some(rule), _) => format!("rule {rule} ({entry})"),
        (None, Some(tag)) => format!("rule {tag}, which the plan does not have ({entry})"),
        (None, None) => entry,
    };
    let sort = row.sort.replace('_', " ");
    format!("{} -> {}, {service}: {sort}; {by}", row.from, row.to)
}

fn tone(sort: &str) -> anstyle::Style {
    match sort {
        "missing" => style::WARN,
        "allowed" | "spoofed" | "scan" => style::BAD,
        "stranger" | "to_everyone" | "late" => style::FAINT,
        _ => style::PLAIN,
    }
}

fn packets(number: u64) -> String {
    bastium_report::count(number, "packet")
}

/// What is not in the table, by its number.
fn asides(
    sheet: &BlockedSheet,
    all: bool,
    noise: fn(&GroupRow) -> bool,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let mut aside = |number: u64, says: &str| -> Result<(), Failure> {
        if number == 0 {
            return Ok(());
        }
        session.prose(style::FAINT, &format!("{}: {says}", packets(number)))
    };
    let hidden = sheet.groups.iter().filter(|row| noise(row) && !all);
    let mut counted: Vec<(&str, u64)> = Vec::new();
    for row in hidden {
        match counted.iter_mut().find(|(says, _)| *says == row.says) {
            Some((_, number)) => *number += row.count,
            None => counted.push((row.says, row.count)),
        }
    }
    for (says, number) in counted {
        aside(number, says)?;
    }
    let beyond = sheet.groups.iter().filter(|row| all || !noise(row)).skip(MOST);
    aside(beyond.map(|row| row.count).sum(), "not shown here, all of them with --format json")?;
    aside(sheet.passed, "logged and allowed")?;
    aside(sheet.strange, "came by an interface that the plan does not know")
}

fn offer(row: &GroupRow, session: &mut Session<'_>) -> Result<(), Failure> {
    let Some(offer) = &row.offer else { return Ok(()) };
    let service = row.service.as_deref().unwrap_or_default();
    let heading = format!("{} -> {}, {service}: {}", row.from, row.to, packets(row.count));
    session.print("\n")?;
    session.prose(style::WARN, &heading)?;
    // One line, so that it can be copied whole.
    session.print(&format!("  {}\n", clean(&offer.command)))?;
    for opens in row.opens.iter().flatten() {
        session.prose(style::PLAIN, &format!("- opens {opens}"))?;
    }
    if row.opens.as_ref().is_some_and(Vec::is_empty) {
        session.prose(style::PLAIN, "- opens nothing that can pass")?;
    }
    for breaks in &row.breaks {
        session.prose(style::BAD, &format!("- {breaks}"))?;
    }
    Ok(())
}
