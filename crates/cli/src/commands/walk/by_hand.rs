//! A walk with a person: each check is shown, and a key records the outcome.

use super::keys::{self, Key};
use super::{Tour, words};
use crate::failure::Failure;
use crate::session::Session;
use crate::show::style;
use bastium_core::checklist::SetUp;
use bastium_core::space::Minute;
use bastium_gateway::clean;
use bastium_report::walk::Outcome;
use bastium_report::{count, either};

/// A check's place: its stand, its number there.
type Place = (usize, usize);

pub(super) fn run(tour: &mut Tour<'_, '_>, session: &mut Session<'_>) -> Result<(), Failure> {
    let sheet = tour.sheet();
    let all = tour.stands.iter().enumerate().flat_map(|(number, stand)| {
        stand.checks.iter().enumerate().map(move |(check, of_it)| ((number, check), of_it))
    });
    let due = all.filter(|(_, check)| tour.is_due(check, &sheet));
    let (now, later): (Vec<_>, Vec<_>) = due.partition(|(_, check)| tour.is_the_hour(check));
    let later: Vec<Minute> = later.into_iter().filter_map(|(_, check)| check.when).collect();
    let places: Vec<Place> = now.into_iter().map(|(place, _)| place).collect();
    let mut at = 0;
    let mut shown_stand = None;
    while let Some(&place) = places.get(at) {
        if shown_stand != Some(place.0) {
            show_stand(tour, place.0, session)?;
            shown_stand = Some(place.0);
        }
        show_check(tour, place, (at + 1, places.len()), session)?;
        match step(tour, place, session)? {
            Step::Next => at += 1,
            Step::Before => at = at.saturating_sub(1),
            Step::Again => {}
            Step::End => break,
        }
    }
    session.print("\n")?;
    show_later(later, session)
}

/// How many checks are for another hour, and when they can be made.
fn show_later(mut hours: Vec<Minute>, session: &mut Session<'_>) -> Result<(), Failure> {
    if hours.is_empty() {
        return Ok(());
    }
    let says = format!("{} {}", count(hours.len(), "check"), either(hours.len(), "needs", "need"));
    hours.sort_unstable();
    hours.dedup();
    let hours: Vec<String> = hours.iter().map(ToString::to_string).collect();
    session.prose(style::FAINT, &format!("{says} another hour, such as {}", hours.join(", ")))
}

enum Step {
    Next,
    Before,
    Again,
    End,
}

fn show_stand(tour: &Tour<'_, '_>, stand: usize, session: &mut Session<'_>) -> Result<(), Failure> {
    let all = tour.stands.len();
    let stand_of = &tour.stands[stand];
    let name = stand_of.standpoint.name(tour.meaning);
    session.print("\n")?;
    session.prose(style::STRONG, &format!("{name} (place {} of {all})", stand + 1))?;
    session.prose(style::PLAIN, &stand_of.standpoint.how(tour.meaning))?;
    let set_up: Vec<SetUp> = stand_of.checks.iter().filter_map(|check| check.set_up()).collect();
    for line in SetUp::lines(&set_up) {
        session.prose(style::FAINT, &format!("first: {line}"))?;
    }
    Ok(())
}

fn show_check(
    tour: &Tour<'_, '_>,
    (stand, number): Place,
    (at, all): (usize, usize),
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let check = &tour.stands[stand].checks[number];
    let heading = format!("{at}/{all}  {}", check.says);
    session.print("\n")?;
    session.prose(style::PLAIN, &heading)?;
    let commands = check.commands();
    let command = if cfg!(target_os = "macos") {
        commands.macos
    } else if cfg!(windows) {
        commands.windows
    } else {
        commands.linux
    };
    session.print(&format!("  type    {}\n", clean(&command)))?;
    session.print(&format!("  expect  {}\n", check.expect.word()))?;
    if let Some(control) = tour.control_of(check) {
        session.print(&format!("  counts  once {} ({})\n", clean(&control.says), control.id))?;
    }
    if let Some((rule, _, name)) = &check.proves {
        session.print(&format!("  proves  rule {rule} ({})\n", clean(name)))?;
    }
    session.print("  [p]ass  [f]ail  [s]kip  [n]ote  [b]ack  [q]uit ")?;
    session.flush()
}

/// Takes one key and does what it says.
fn step(tour: &mut Tour<'_, '_>, place: Place, session: &mut Session<'_>) -> Result<Step, Failure> {
    let (key, text) = keys::next()?;
    let expect = tour.stands[place.0].checks[place.1].expect;
    let (says, step) = match key {
        Key::Pass => {
            tour.record(place, Outcome::Pass, Some(words(expect)), text)?;
            ("pass", Step::Next)
        }
        Key::Fail => {
            tour.record(place, Outcome::Fail, None, text)?;
            session.print("fail\n")?;
            let check = &tour.stands[place.0].checks[place.1];
            session.prose(style::WARN, &check.if_not(tour.rules))?;
            return Ok(Step::Next);
        }
        Key::Skip => {
            tour.record(place, Outcome::Skip, None, text)?;
            ("skip", Step::Next)
        }
        Key::Note => {
            let note = match text {
                Some(text) => text,
                None => {
                    session.print("\n  note: ")?;
                    session.flush()?;
                    keys::line()?
                }
            };
            if !note.is_empty() {
                tour.record(place, Outcome::Note, None, Some(note))?;
            }
            ("", Step::Again)
        }
        Key::Back => ("back", Step::Before),
        Key::Quit => ("quit", Step::End),
        Key::Other => ("", Step::Again),
    };
    session.print(&format!("{says}\n"))?;
    Ok(step)
}
