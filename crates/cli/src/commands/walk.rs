//! `bastium walk`: through the checklist.

mod by_hand;
mod by_itself;
mod keys;
#[cfg(target_os = "linux")]
mod lease_faults;
#[cfg(target_os = "linux")]
pub(super) mod one_cable;
mod results;

use super::checklist::keep_place;
use crate::args::Walk;
use crate::failure::{Exit, Failure, Meaningless};
use crate::files;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::checklist::{self, Check, Expect, Stand};
use bastium_core::meaning::Meaning;
use bastium_core::proof::Proved;
use bastium_core::rules::{self, RuleSet};
use bastium_gateway::clean;
use bastium_report::walk::{Abouts, Outcome, Record, State, WalkSheet, abouts, junit};
pub(super) use results::{Results, now, path as results_beside};

/// So many results that do not count are named one by one.
const MOST_NAMED: usize = 10;

/// A walk: the list, and what has come of it so far.
struct Tour<'t, 'p> {
    args: &'t Walk,
    meaning: &'t Meaning<'p>,
    rules: &'t RuleSet<'t>,
    stands: Vec<Stand>,
    /// What the checks of the plan are about, in either list and at every place.
    known: Abouts,
    results: Results,
}

pub(super) fn run(args: &Walk, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let path = results::path(args.results.as_ref(), session)?;
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let compiled = rules::compile(&meaning);
    let proved = session::proved(&meaning, &compiled)?;
    let by_cable = by_cable(args)?;
    let list = if args.full || by_cable { checklist::build } else { checklist::carried };
    let stands = list(&meaning, proved).stands;
    let results = Results::open(path, &args.with, session)?;
    // By cable, results of both lists are kept.
    let known = known((&stands, &compiled), results.all(), by_cable, || {
        let other = if args.full || by_cable { checklist::carried } else { checklist::build };
        other(&meaning, proved).stands
    });
    let mut tour = Tour { args, meaning: &meaning, rules: &compiled, stands, known, results };
    if let Some(word) = &args.stand {
        keep_place(&mut tour.stands, &meaning, word)?;
    }
    if let Some(file) = &args.junit {
        files::put(file, &junit(&tour.sheet())?, args.force, session)?;
        session.remark(&format!("wrote {}", file.display()));
        return Ok(tour.exit());
    }
    if by_cable {
        return one_cable(&mut tour, proved, session);
    }
    if args.run {
        if !by_itself::run(&mut tour, session)? {
            tour.show(session)?;
            return Ok(Exit::No);
        }
    } else if !args.status {
        by_hand::run(&mut tour, session)?;
    }
    tour.show(session)
}

/// What all checks of a plan are about. The other list is made only where it is wanted, or some result is not of this one.
fn known(
    (stands, rules): (&[Stand], &RuleSet),
    records: &[Record],
    both: bool,
    other: impl FnOnce() -> Vec<Stand>,
) -> Abouts {
    let own = abouts(stands, rules);
    if !both && records.iter().all(|record| own.contains_key(&record.id)) {
        return own;
    }
    let mut known = abouts(&other(), rules);
    known.extend(own);
    known
}

/// Whether this machine stands in several networks at once.
///
/// # Errors
/// When something is said that has a meaning only then.
fn by_cable(args: &Walk) -> Result<bool, Failure> {
    if args.trunk.is_some() || !args.interface.is_empty() || !args.outside.is_empty() {
        return Ok(true);
    }
    let said = [
        (!args.stand_in.is_empty(), "--stand-in"),
        (args.rate.is_some(), "--rate"),
        (args.mac.is_some(), "--mac"),
        (args.take, "--take"),
        (args.no_sweep, "--no-sweep"),
    ];
    match said.into_iter().find(|(is, _)| *is) {
        Some((_, option)) => Err(Meaningless::WithoutCable(option).into()),
        None => Ok(false),
    }
}

#[cfg(target_os = "linux")]
fn one_cable(
    tour: &mut Tour<'_, '_>,
    proved: Proved<'_>,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    one_cable::run(tour, proved, session)
}

#[cfg(not(target_os = "linux"))]
fn one_cable(_: &mut Tour<'_, '_>, _: Proved<'_>, _: &mut Session<'_>) -> Result<Exit, Failure> {
    Err(crate::failure::MachineProblem::NotLinux.into())
}

impl Tour<'_, '_> {
    fn sheet(&self) -> WalkSheet {
        let recorded = self.results.recorded(&self.known, self.meaning.plan());
        WalkSheet::new(self.meaning, self.rules, &self.stands, &recorded)
    }

    fn exit(&self) -> Exit {
        if self.sheet().failed > 0 { Exit::No } else { Exit::Fine }
    }

    /// The check whose reply makes silence in another one evidence.
    fn control_of(&self, check: &Check) -> Option<&Check> {
        let mut all = self.stands.iter().flat_map(|stand| &stand.checks);
        all.find(|other| check.control.as_ref() == Some(&other.id))
    }

    /// Whether a check is still to be made, or to be made again.
    fn is_due(&self, check: &Check, sheet: &WalkSheet) -> bool {
        let row = sheet.results.iter().find(|row| row.id == check.id);
        row.is_none_or(|row| match row.outcome {
            State::Open => !self.args.retest,
            State::Fail | State::Changed => true,
            State::Skip => !self.args.retest,
            State::Pass | State::NotShown => self.args.all,
        })
    }

    /// Whether a check may be made at this hour.
    fn is_the_hour(&self, check: &Check) -> bool {
        check.may_be_made(self.meaning, session::minute_of_week(self.meaning.plan()))
    }

    /// Keeps a result, at once.
    fn record(
        &mut self,
        (stand, check): (usize, usize),
        outcome: Outcome,
        seen: Option<String>,
        note: Option<String>,
    ) -> Result<(), Failure> {
        self.record_heard((stand, check), outcome, seen, note, (false, false))
    }

    /// The same, with whether the gateway answered before and after, and whether it answered both ends, which were our own.
    fn record_heard(
        &mut self,
        (stand, check): (usize, usize),
        outcome: Outcome,
        seen: Option<String>,
        note: Option<String>,
        (gateway_answered, both_ends): (bool, bool),
    ) -> Result<(), Failure> {
        let stand = &self.stands[stand];
        let check = &stand.checks[check];
        let record = Record {
            bastium: 1,
            id: check.id.clone(),
            outcome,
            expect: check.expect.word().to_owned(),
            seen,
            by: self.args.by.clone().unwrap_or_else(results::somebody),
            at: results::now(),
            place: stand.standpoint.name(self.meaning),
            gateway_answered,
            both_ends,
            note,
            means: check.means(self.rules),
        };
        self.results.add(record)
    }

    /// What it has come to.
    fn show(&self, session: &mut Session<'_>) -> Result<Exit, Failure> {
        let sheet = self.sheet();
        if show::for_programs(session, &sheet, || sheet.tables(), "check")? {
            return Ok(self.exit());
        }
        for row in sheet.remarkable() {
            let mood = if row.outcome == State::Fail { style::BAD } else { style::WARN };
            session.prose(mood, &format!("{}: {} ({})", row.outcome.word(), row.says, row.id))?;
            let said = [Some(row.words()), row.note.clone(), row.if_not.clone()];
            for line in said.into_iter().flatten() {
                session.prose(style::PLAIN, &format!("- {line}"))?;
            }
        }
        self.show_due(&sheet, session)?;
        let mood = match (sheet.failed, sheet.is_done()) {
            (0, true) => style::GOOD,
            (0, false) => style::PLAIN,
            _ => style::BAD,
        };
        session.prose(mood, &format!("{}: {}", sheet.site, sheet.words()))?;
        if sheet.is_done() {
            let who = sheet.people().join(", ");
            session.prose(style::GOOD, &format!("signed off: every check was made, by {who}"))?;
        }
        let file = self.results.shown();
        let kept = match self.results.are_kept() {
            true => format!("results are in {file}"),
            false => format!("nothing is in {file} yet"),
        };
        session.prose(style::FAINT, &kept)?;
        Ok(self.exit())
    }
}

impl Tour<'_, '_> {
    /// What is still to be made and what that takes, and which results do not count.
    fn show_due(&self, sheet: &WalkSheet, session: &mut Session<'_>) -> Result<(), Failure> {
        if self.args.status {
            for (checks, takes) in sheet.due() {
                let takes = if takes.is_empty() { takes } else { format!("; needed: {takes}") };
                session.prose(style::PLAIN, &format!("open: {checks}{takes}"))?;
            }
        }
        for one in sheet.not_counted.iter().take(MOST_NAMED) {
            let says = format!(
                "does not count, since this plan has no such check: {}, made at {} by {} ({})",
                clean(&one.id),
                clean(&one.place),
                clean(&one.by),
                one.at
            );
            session.prose(style::WARN, &says)?;
        }
        let more = sheet.not_counted.len().saturating_sub(MOST_NAMED);
        if more > 0 {
            session
                .prose(style::WARN, &format!("{more} more do not count; JSON names all of them"))?;
        }
        Ok(())
    }
}

/// What has come back, in the words of the list.
fn words(expect: Expect) -> String {
    expect.word().to_owned()
}
