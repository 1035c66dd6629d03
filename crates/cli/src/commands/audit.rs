//! `bastium audit`

use super::count;
use crate::args::Audit;
use crate::failure::{Exit, Failure};
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::diagnosis::Severity;
use bastium_core::plan::Form;
use bastium_export::clean;
use bastium_export::foreign::{NotAList, read_rules};
use bastium_export::sheets::AuditSheet;
use std::io::Read;
use std::path::Path;

/// How many sentences of a kind are shown one by one.
const MOST: usize = 30;

pub(super) fn run(args: &Audit, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let text = text(&args.rules)?;
    let sheet = if args.alone {
        let foreign =
            read_rules(&text, None).map_err(|problem| not_a_list(&args.rules, &problem))?;
        AuditSheet::new(&foreign, None)
    } else {
        let plan = session.plan()?;
        let meaning = session::meaning(&plan, args.day.day)?;
        let rules = session::in_form(&meaning, Form::PerPair)?;
        let foreign =
            read_rules(&text, Some(&plan)).map_err(|problem| not_a_list(&args.rules, &problem))?;
        AuditSheet::new(&foreign, Some((&plan, &rules)))
    };
    let warned = sheet.count(Severity::Warning) > 0;
    let exit = match sheet.differences.is_empty() && !warned {
        true => Exit::Fine,
        false => Exit::No,
    };
    if !show::for_programs(session, &sheet, || sheet.tables(), "part")? {
        print(&sheet, session)?;
    }
    Ok(exit)
}

fn text(path: &Path) -> Result<String, Failure> {
    let bytes = if path == Path::new("-") {
        let mut bytes = Vec::new();
        std::io::stdin().lock().read_to_end(&mut bytes).map_err(|error| Failure::File {
            path: path.to_owned(),
            doing: "read",
            error,
        })?;
        bytes
    } else {
        plans::read_file(path)?
    };
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn not_a_list(path: &Path, problem: &NotAList) -> Failure {
    let path = clean(&path.display().to_string()).into_owned();
    let (says, cure) = match problem {
        NotAList::Neither => (
            format!("{path} is no rule list"),
            "give it what `nft -j list ruleset` prints, RFC 8519 in JSON, or a table with headings",
        ),
        NotAList::OtherJson => (
            format!("{path} is JSON, but no rule list"),
            "give it what `nft -j list ruleset` prints, or lists of RFC 8519",
        ),
        NotAList::BrokenJson(error) => {
            (format!("{path} is no JSON: {}", clean(error)), "is the file whole?")
        }
        NotAList::NoColumns(missing) => (
            format!("{path} has no column {}", missing.join(", ")),
            "its first row needs the headings action, source, destination and service",
        ),
        NotAList::BrokenTable(error) => {
            (format!("{path} is no table: {}", clean(error)), "is it comma-separated (RFC 4180)?")
        }
        NotAList::Empty => (format!("{path} has no rules in it"), "is it the right file?"),
        NotAList::TooManyInterfaces { count, most } => (
            format!("{path} speaks of {count} interfaces; at most {most} can be told apart"),
            "look at it part by part: the rules for some of the interfaces at a time",
        ),
    };
    Failure::Call { says, cure: cure.to_owned() }
}

fn print(sheet: &AuditSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    session.prose(style::PLAIN, &format!("{}.", count(sheet.lines, "line")))?;
    let differences = sheet.differences.iter().map(|row| (row.after == "allow", row.says.clone()));
    part("differences", differences.collect(), session)?;
    let findings = sheet.findings.iter().map(|one| {
        let says = format!("{} at {} ({}): {}", one.name, one.at, one.rule, one.says);
        (one.severity == "warning", says)
    });
    part("findings", findings.collect(), session)?;
    let obscure =
        sheet.not_understood.iter().map(|one| (false, format!("{}: {}", one.at, one.what)));
    part("not understood", obscure.collect(), session)?;
    session.print("\n")?;
    if sheet.compared {
        let says = match (sheet.differences.len(), sheet.not_understood.len(), sheet.undecided) {
            (0, 0, 0) => {
                "The gateway does what the plan says, with every packet there can be.".to_owned()
            }
            (0, 0, _) => {
                "The gateway does what the plan says, as far as it could be decided.".to_owned()
            }
            (0, ..) => "The gateway does what the plan says, as far as its rules are understood."
                .to_owned(),
            (some, ..) => {
                format!("Gateway and plan differ: {}.", count(some, "box").replace("boxs", "boxes"))
            }
        };
        let good = sheet.differences.is_empty();
        session.prose(if good { style::GOOD } else { style::ERROR }, &says)?;
    }
    let (warnings, advice) = (sheet.count(Severity::Warning), sheet.count(Severity::Advice));
    session.prose(
        style::PLAIN,
        &format!("{}, {} worth a look.", count(warnings, "warning"), advice),
    )?;
    if sheet.undecided > 0 {
        let says = format!("{} could not be decided", count(sheet.undecided, "question"));
        session.prose(style::WARN, &says)?;
    }
    Ok(())
}

/// A part of the report, a sentence each; what matters most is marked.
fn part(
    title: &str,
    sentences: Vec<(bool, String)>,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    if sentences.is_empty() {
        return Ok(());
    }
    session.print("\n")?;
    session.prose(style::STRONG, title)?;
    let more = sentences.len().saturating_sub(MOST);
    for (marked, says) in sentences.into_iter().take(MOST) {
        session.prose(if marked { style::WARN } else { style::PLAIN }, &format!("- {says}"))?;
    }
    if more > 0 {
        let says = format!("and {more} more, all of them with --format json");
        session.prose(style::FAINT, &says)?;
    }
    Ok(())
}
