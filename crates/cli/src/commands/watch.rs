//! `bastium watch`: what each save of the plan changes.

use super::compare;
use crate::args::Watch;
use crate::failure::{Exit, Failure, NeedsFile, shown};
use crate::plans;
use crate::session::{self, Session};
use crate::show::{diagnostic, style};
use bastium_core::diagnosis::{Diagnose, Diagnosis, Severity};
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::source::Source;
use bastium_report::count;
use bastium_report::sheets::CompareSheet;
use std::path::Path;
use std::time::Duration;

/// How often the file is looked at. What counts is what is in it, so that it does not matter how an editor writes; and
/// only once it has stayed the same from one look to the next, since some empty a file before they fill it.
const LOOK: Duration = Duration::from_millis(25);

/// How many changes of traffic of a kind are shown for one save. Openings are all shown.
const MOST: usize = 12;

/// A plan with a meaning, and what is found in it.
struct Known {
    plan: Plan,
    found: Vec<Diagnosis>,
}

pub(super) fn run(args: &Watch, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let named = session.options.plan.clone();
    let Some(path) = plans::path(named.as_deref())? else {
        return Err(NeedsFile::Watch.into());
    };
    let plan = session.plan()?;
    session::meaning(&plan, args.day.day)?;
    let first = known(plan, args)?;
    session.remark(&format!(
        "watching {}: {}; Ctrl-C ends it",
        shown(&path),
        count(first.found.len(), "open finding")
    ));
    follow(&path, first, args, session)
}

fn follow(
    path: &Path,
    first: Known,
    args: &Watch,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let name = first.plan.source().name().to_owned();
    let mut text = first.plan.source().text().as_bytes().to_vec();
    let mut last: Option<Known> = None;
    let (mut saves, mut is_broken) = (0, false);
    let mut seen: Option<Vec<u8>> = None;
    while args.saves.is_none_or(|most| saves < most) {
        std::thread::sleep(LOOK);
        // While an editor puts a new file in its place there may be none.
        let Ok(now) = plans::read_whole(path) else { continue };
        let is_still = seen.as_ref() == Some(&now);
        if now == text || !is_still {
            seen = Some(now);
            continue;
        }
        text = now;
        let new = match read(&name, &text, args) {
            Ok(new) => new,
            Err((source, diagnoses)) => {
                (saves, is_broken) = (saves + 1, true);
                let rendered = diagnostic::render(&source, &diagnoses, session.width());
                session.print(&format!("\nsave {saves}\n{rendered}"))?;
                session.flush()?;
                continue;
            }
        };
        let news = News::between(last.as_ref().unwrap_or(&first), &new, args);
        if news.is_empty() && !is_broken {
            last = Some(new);
            continue;
        }
        saves += 1;
        session.print(&format!("\nsave {saves}\n"))?;
        if is_broken {
            session.prose(style::GOOD, "the plan is valid again")?;
        }
        news.print(&new, session)?;
        if last.is_some() {
            since_begun(&first, &new, args, session)?;
        }
        session.flush()?;
        (last, is_broken) = (Some(new), false);
    }
    Ok(Exit::Fine)
}

/// A plan, with what is open in it.
fn known(plan: Plan, args: &Watch) -> Result<Known, Failure> {
    let day = session::day_of(&plan, args.day.day);
    let meaning = session::meaning(&plan, Some(day))?;
    let mut found = findings::find(&plan, day, Ok(&meaning));
    found.retain(|finding| !finding.known);
    drop(meaning);
    Ok(Known { plan, found })
}

/// What is in the file now, or everything that is wrong with it.
fn read(name: &str, text: &[u8], args: &Watch) -> Result<Known, (Source, Vec<Diagnosis>)> {
    let plan = bastium_planfile::read(name, text).map_err(|one| (one.source, one.diagnoses))?;
    let problems = match Meaning::new(&plan, session::day_of(&plan, args.day.day)) {
        Ok(_) => None,
        Err(problems) => Some(problems.iter().map(Diagnose::diagnose).collect()),
    };
    if let Some(diagnoses) = problems {
        return Err((plan.source().clone(), diagnoses));
    }
    known(plan, args).map_err(|_| (Source::new(name, ""), Vec::new()))
}

/// What is new since the last save.
struct News<'k> {
    /// Findings that were not there.
    fresh: Vec<&'k Diagnosis>,
    /// Findings that are there no longer.
    gone: Vec<&'k Diagnosis>,
    /// What became of traffic; none where that cannot be said.
    traffic: Option<CompareSheet>,
}

impl<'k> News<'k> {
    fn between(old: &'k Known, new: &'k Known, args: &Watch) -> Self {
        let is_in = |finding: &Diagnosis, found: &[Diagnosis]| {
            found.iter().any(|other| (other.name, &other.says) == (finding.name, &finding.says))
        };
        Self {
            fresh: new.found.iter().filter(|finding| !is_in(finding, &old.found)).collect(),
            gone: old.found.iter().filter(|finding| !is_in(finding, &new.found)).collect(),
            traffic: changes(&old.plan, &new.plan, args),
        }
    }

    fn is_empty(&self) -> bool {
        let same = |sheet: &CompareSheet| sheet.no_traffic() && sheet.settings.is_empty();
        let quiet = self.traffic.as_ref().is_none_or(same);
        self.fresh.is_empty() && self.gone.is_empty() && quiet
    }

    fn print(&self, new: &Known, session: &mut Session<'_>) -> Result<(), Failure> {
        for finding in &self.fresh {
            let is_error = finding.severity == Severity::Error;
            let tone = if is_error { style::ERROR } else { style::WARN };
            let at = finding.at.map_or(String::new(), |at| format!(", line {}", new.plan.line(at)));
            let (severity, name) = (finding.severity.word(), finding.name);
            session.item(tone, "new: ", &format!("{severity} [{name}]{at}: {}", finding.says))?;
        }
        for finding in &self.gone {
            let says = format!("[{}]: {}", finding.name, finding.says);
            session.item(style::GOOD, "gone: ", &says)?;
        }
        let Some(sheet) = &self.traffic else { return Ok(()) };
        print_traffic(sheet, session)?;
        for row in &sheet.settings {
            session.item(style::PLAIN, "also: ", &row.says)?;
        }
        Ok(())
    }
}

fn print_traffic(sheet: &CompareSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    if sheet.no_traffic() {
        return session.prose(style::FAINT, "no traffic changes");
    }
    for row in &sheet.opens {
        session.item(style::WARN, "opens: ", &row.says)?;
    }
    for (what, tone, rows) in
        [("closes: ", style::GOOD, &sheet.closes), ("changes: ", style::PLAIN, &sheet.changes)]
    {
        for row in rows.iter().take(MOST) {
            session.item(tone, what, &row.says)?;
        }
        if rows.len() > MOST {
            let rest = rows.len() - MOST;
            session.item(
                style::FAINT,
                what,
                &format!("{rest} more; `bastium compare` shows all"),
            )?;
        }
    }
    if sheet.undecided > 0 {
        session.prose(style::WARN, "some traffic could not be decided within the limits")?;
    }
    Ok(())
}

/// What has been opened and closed since the start, in numbers.
fn since_begun(
    first: &Known,
    new: &Known,
    args: &Watch,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let Some(sheet) = changes(&first.plan, &new.plan, args) else { return Ok(()) };
    let says = match sheet.no_traffic() {
        true => "since the start: no traffic changes".to_owned(),
        false => format!(
            "since the start: opens {}, closes {}, changes {}; `bastium compare` shows them",
            sheet.opens.len(),
            sheet.closes.len(),
            sheet.changes.len()
        ),
    };
    session.prose(style::FAINT, &says)
}

fn changes(old: &Plan, new: &Plan, args: &Watch) -> Option<CompareSheet> {
    let day = session::day_of(new, args.day.day);
    let names = ("before".to_owned(), "after".to_owned());
    compare::between((old, new), names, day)
}
