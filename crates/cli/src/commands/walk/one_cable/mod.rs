//! A walk over one cable that carries every network: the list, and a sweep.

pub(in crate::commands) mod found;
mod lines;
mod ports;

use super::{Tour, lease_faults, words};
use crate::failure::{Exit, Failure, MachineProblem, Named, Unknown};
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::checklist::{self, Check, Expect, Probe};
use bastium_core::proof::Proved;
use bastium_report::count;
use bastium_report::sheets::CableSheet;
use bastium_report::walk::Outcome;
use bastium_testbed::cable::{Answer, Came, Ends, Pace};
use bastium_testbed::trunk::{Manner, Shown, Stand, StandIn, Swept, Tried, Wrong, faults};
use std::time::Instant;

/// How many conversations are begun a second, where nobody says.
const RATE: u32 = 200;
/// Whatever takes longer is said beforehand, in seconds.
const LONG: usize = 20;

/// Stands for all hosts that are not there.
const EVERYONE: &str = "*";

pub(super) fn run(
    tour: &mut Tour<'_, '_>,
    proved: Proved<'_>,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let begun = Instant::now();
    let plan = tour.meaning.plan();
    let stand_in = stand_in(tour)?;
    let ports = ports::open(tour.args, plan)?;
    let pace = Pace(tour.args.rate.unwrap_or(RATE));
    let at = session::minute_of_week(plan);
    session.doing("looking who is there");
    let ends = Ends::new(ports.open, ports.lanes.lanes.clone(), ports.mac);
    let (meaning, rules) = (tour.meaning, tour.rules);
    let manner = Manner { stand_in, pace, at, serves: true, provides: true };
    let place = (ends, ports.lanes);
    let taken = Stand::take((meaning, rules), place, manner, crate::interrupt::last_wish);
    let mut stand = taken.map_err(|error| {
        crate::interrupt::last_wish_now();
        MachineProblem::Cable(error)
    })?;
    let tried = try_all(tour, proved, &mut stand, session);
    session.progress_ends();
    crate::interrupt::no_last_wish();
    // Whatever has come of it, leases are given back.
    let left = stand.leave();
    let (tried, swept) = tried?;
    left.map_err(MachineProblem::Cable)?;
    let mut sheet = CableSheet::new(tour.sheet());
    found::fill(&mut sheet, &stand, swept.as_ref());
    sheet.not_tried = found::untried(tour, &tried);
    sheet.without_control = found::without_control(&tried, swept.as_ref());
    sheet.took_ms = u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX);
    show(&sheet, tour, session)
}

/// Makes the lists and the sweep, and keeps what the checks have shown.
fn try_all(
    tour: &mut Tour<'_, '_>,
    proved: Proved<'_>,
    stand: &mut Stand<'_, '_>,
    session: &mut Session<'_>,
) -> Result<(Vec<Tried>, Option<Swept>), Failure> {
    if stand.awaits_addresses() {
        session.doing("waiting for the gateway to ask for its address outside");
    }
    stand.await_addresses().map_err(MachineProblem::Cable)?;
    session.doing("trying the checks");
    let tried = stand.list(&tour.stands, &mut |done, all| session.progress(done, all));
    let tried = tried.map_err(MachineProblem::Cable)?;
    keep(tour, stand, &tried)?;
    carried(tour, proved, stand)?;
    if tour.args.no_sweep {
        return Ok((tried, None));
    }
    session.doing("sweeping");
    let rate = tour.args.rate.unwrap_or(RATE);
    let mut said = false;
    let swept = stand.sweep(&mut |done, all| {
        if !std::mem::replace(&mut said, true) {
            foretell(all, rate, session);
        }
        session.progress(done, all);
    });
    Ok((tried, Some(swept.map_err(MachineProblem::Cable)?)))
}

/// Says how long a sweep will take, if that is long.
fn foretell(all: usize, rate: u32, session: &mut Session<'_>) {
    let seconds = all / rate.max(1) as usize;
    if seconds > LONG {
        let minutes = seconds.div_ceil(60);
        session.remark(&format!(
            "{all} conversations at {rate} a second take about {} (--rate)",
            count(minutes, "minute")
        ));
    }
}

/// For whom the tester stands in.
fn stand_in(tour: &Tour<'_, '_>) -> Result<StandIn, Failure> {
    let plan = tour.meaning.plan();
    let named: Vec<String> = tour.args.stand_in.clone();
    if named.iter().any(|name| name == EVERYONE) {
        return Ok(StandIn::Everyone);
    }
    for name in &named {
        if !plan.hosts().iter().any(|host| host.name.as_str() == name) {
            return Err(Unknown {
                what: Named::StandIn,
                word: name.clone(),
                near: None,
                known: Vec::new(),
            }
            .into());
        }
    }
    Ok(StandIn::These(named))
}

/// The list that a person carries, as far as it is another: its results are kept, too, so that `walk --status` has them.
fn carried(
    tour: &mut Tour<'_, '_>,
    proved: Proved<'_>,
    stand: &mut Stand<'_, '_>,
) -> Result<(), Failure> {
    let list = checklist::carried(tour.meaning, proved);
    let tried = stand.list(&list.stands, &mut |_, _| {}).map_err(MachineProblem::Cable)?;
    let whole = std::mem::replace(&mut tour.stands, list.stands);
    let kept = keep(tour, stand, &tried);
    tour.stands = whole;
    kept
}

/// Keeps what the checks have shown.
fn keep(tour: &mut Tour<'_, '_>, stand: &Stand<'_, '_>, tried: &[Tried]) -> Result<(), Failure> {
    for one in tried {
        let place = (one.stand, one.check);
        let check = &tour.stands[one.stand].checks[one.check];
        if check.probe == Probe::Lease {
            lease(tour, stand, place)?;
            continue;
        }
        let Ok(shown) = &one.shown else { continue };
        let outcome = match shown {
            Shown::AsPlanned => Outcome::Pass,
            Shown::Wrong(_) => Outcome::Fail,
            // Nothing was shown, so the check is open as before.
            Shown::Nothing(_) => continue,
        };
        let (seen, note) = (seen(check, *shown, &one.came), note(*shown, one));
        tour.record_heard(place, outcome, Some(seen), note, (true, both_ends(one)))?;
    }
    Ok(())
}

/// Whether both ends were this machine's own, and the gateway answered both.
fn both_ends(tried: &Tried) -> bool {
    tried.came.controlled
}

/// What came back, in the words of the list; of what is wrong, what is not as expected.
fn seen(check: &Check, shown: Shown, came: &Came) -> String {
    if shown == Shown::AsPlanned {
        return words(check.expect);
    }
    let came_back = match came.answer {
        Some(Answer::Reply) => Expect::Reply,
        Some(Answer::Refused) => Expect::Refused,
        Some(Answer::Unreachable) => Expect::Unreachable,
        None => Expect::Silence,
    };
    let detail = match shown {
        Shown::Wrong(wrong) => found::short(wrong, came),
        _ => None,
    };
    match detail {
        Some(detail) => format!("{}: {detail}", words(came_back)),
        None => words(came_back),
    }
}

fn note(shown: Shown, tried: &Tried) -> Option<String> {
    let tries = format!("{} tries", tried.tries);
    let mut notes = Vec::new();
    match shown {
        Shown::Wrong(Wrong::GetsThrough) if tried.tries > 1 => {
            notes.push(format!("it got through in at least one of {tries}"));
        }
        Shown::Wrong(_) if tried.tries > 1 => notes.push(format!("the same in {tries}")),
        Shown::AsPlanned if tried.tries > 1 => notes.push(format!("only in the last of {tries}")),
        _ => {}
    }
    if (shown, tried.came.answer) == (Shown::Wrong(Wrong::Stopped), Some(Answer::Refused)) {
        notes.push("either nothing listens there, or the gateway rejects it".to_owned());
    }
    (!notes.is_empty()).then(|| notes.join("; "))
}

/// Keeps what came of asking for a lease.
fn lease(
    tour: &mut Tour<'_, '_>,
    stand: &Stand<'_, '_>,
    place: (usize, usize),
) -> Result<(), Failure> {
    let plan = tour.meaning.plan();
    let Some(id) = tour.stands[place.0].standpoint.network() else { return Ok(()) };
    let lanes = stand.networks.iter().enumerate();
    let Some((_, network)) = lanes.into_iter().find(|(lane, _)| stand.network(*lane) == Some(id))
    else {
        return Ok(());
    };
    let found = faults(tour.meaning, id, network.leased.as_ref(), &network.routers);
    let says: Vec<String> = found.iter().map(|one| lease_faults::fault(plan, one)).collect();
    let leased = network.leased.as_ref().and_then(|leased| leased.taken.as_ref());
    match (leased, says.is_empty()) {
        (Some(offer), true) => {
            let seen = format!("reply: {}", offer.address);
            tour.record_heard(place, Outcome::Pass, Some(seen), None, (true, true))
        }
        (leased, _) => {
            let seen =
                leased.map_or("silence".to_owned(), |offer| format!("reply: {}", offer.address));
            tour.record_heard(place, Outcome::Fail, Some(seen), Some(says.join("; ")), (true, true))
        }
    }
}

fn show(
    sheet: &CableSheet,
    tour: &Tour<'_, '_>,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let fine = !sheet.finds_something() && sheet.without_control == 0;
    let exit = if fine { Exit::Fine } else { Exit::No };
    if show::for_programs(session, sheet, || sheet.tables(), "part")? {
        return Ok(exit);
    }
    for (mood, line) in lines::lines(sheet) {
        session.prose(mood, &line)?;
    }
    session.print("\n")?;
    tour.show(session)?;
    let (mood, says) = lines::answer(sheet);
    session.prose(if mood { style::GOOD } else { style::BAD }, &says)?;
    Ok(exit)
}

/// What is not tried, whatever the cable: said, so that nobody takes silence about it for an answer.
pub(super) const NOT_BY_CABLE: &str = "what devices do by themselves, Wi-Fi, sockets that carry one network, and isolation \
    within a network were not tried";
