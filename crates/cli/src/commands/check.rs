//! `bastium check`: all mistakes and risks in a plan.

use crate::args::{Check, FailOn};
use crate::failure::{Exit, Failure, has_errors};
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, diagnostic, style};
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::findings;
use bastium_core::meaning::Meaning;
use bastium_core::plan::Plan;
use bastium_core::rules;
use bastium_core::source::Source;
use bastium_report::count;
use bastium_report::sarif;
use bastium_report::sheets::FindingSheet;

pub(super) fn run(args: &Check, session: &mut Session<'_>) -> Result<Exit, Failure> {
    match plans::load(session.options.plan.as_deref()) {
        Ok(plan) => {
            let (diagnoses, summary) = examine(&plan, args);
            report(plan.source(), &diagnoses, summary, args, session)
        }
        Err(Failure::Refused { plan: source, diagnoses }) => {
            report(&source, &diagnoses, None, args, session)
        }
        Err(other) => Err(other),
    }
}

/// All findings, and what was looked at if there is a meaning.
fn examine(plan: &Plan, args: &Check) -> (Vec<Diagnosis>, Option<String>) {
    let day = session::day_of(plan, args.day.day);
    match Meaning::new(plan, day) {
        Ok(meaning) => {
            let rules = rules::compile(&meaning);
            let summary = format!(
                "{}, {}, {}, {} for {day}",
                count(plan.networks().iter().filter(|n| n.tunnel.is_none()).count(), "network"),
                count(plan.hosts().len(), "host"),
                count(plan.exceptions().len() - plan.inbounds().len(), "exception"),
                count(rules.rows().count(), "rule"),
            );
            (findings::find_with(&meaning, &rules), Some(summary))
        }
        Err(problems) => (findings::find(plan, day, Err(&problems)), None),
    }
}

fn report(
    source: &Source,
    diagnoses: &[Diagnosis],
    summary: Option<String>,
    args: &Check,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let sheet = FindingSheet::new(source, diagnoses);
    let open: Vec<Diagnosis> = diagnoses.iter().filter(|d| !d.known).cloned().collect();
    let counts = |diagnosis: &Diagnosis| match args.fail_on {
        FailOn::Error => diagnosis.severity == Severity::Error,
        FailOn::Warning => diagnosis.severity != Severity::Advice,
        FailOn::Advice => true,
    };
    let exit = match (has_errors(diagnoses), open.iter().any(counts)) {
        (true, _) => Exit::Wrong,
        (false, true) => Exit::No,
        (false, false) => Exit::Fine,
    };
    if args.sarif {
        session.print(&bastium_gateway::escape_hidden(&sarif(&sheet, source.name())))?;
        return Ok(exit);
    }
    if show::for_programs(session, &sheet, || sheet.tables(), "check")? {
        return Ok(exit);
    }
    session.print(&diagnostic::render(source, &open, session.width()))?;
    let counts: Vec<String> = [
        (Severity::Error, "error"),
        (Severity::Warning, "warning"),
        (Severity::Advice, "piece of advice"),
    ]
    .into_iter()
    .map(|(severity, word)| (sheet.count(severity), word))
    .filter(|(number, _)| *number > 0)
    .map(|(number, word)| match (number, word) {
        (1, word) => format!("1 {word}"),
        (_, "piece of advice") => format!("{number} pieces of advice"),
        (_, word) => format!("{number} {word}s"),
    })
    .collect();
    let (tone, result) = match counts.is_empty() {
        true => (style::GOOD, "nothing found".to_owned()),
        false => (style::WARN, counts.join(", ")),
    };
    let looked_at = summary.map(|summary| format!(" in {summary}")).unwrap_or_default();
    let kept = match sheet.known() {
        0 => String::new(),
        number => format!(", and {number} kept as known"),
    };
    session.prose(tone, &format!("{}: {result}{kept}{looked_at}", source.name()))?;
    Ok(exit)
}
