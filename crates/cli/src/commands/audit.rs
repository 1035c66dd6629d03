//! `bastium audit`: what a gateway runs, examined and compared with the plan.

use super::import::workbook;
use super::typed;
use crate::args::Audit;
use crate::failure::{CallProblem, Exit, Failure};
use crate::plans;
use crate::session::{self, Session};
use crate::show::{self, style};
use bastium_core::diagnosis::Severity;
use bastium_core::plan::{Form, Plan};
use bastium_gateway::foreign::{Foreign, NotAList, NotUnderstood, read_rules};
use bastium_report::sheets::{AuditSheet, DifferenceRow, TypedRules};
use bastium_report::{count, either, unseen};
use std::path::Path;

/// How many sentences of a kind are shown one by one, where none of them is a warning.
const MOST: usize = 30;
/// How many further packets are named in one sentence.
const MOST_TOGETHER: usize = 3;

pub(super) fn run(args: &Audit, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let sheet = if args.alone {
        AuditSheet::new(&foreign(&args.rules, None)?, None)
    } else {
        let plan = session.plan()?;
        let meaning = session::meaning(&plan, args.day.day)?;
        let rules = session::in_form(&meaning, Form::PerPair)?;
        let foreign = match typed::read(&args.rules, &meaning)? {
            Some(typed) => own(typed),
            None => Ok(foreign(&args.rules, Some(&plan))?),
        };
        let foreign = foreign.map_err(|problem| not_a_list(&args.rules, problem))?;
        AuditSheet::new(&foreign, Some((&meaning, &rules)))
    };
    let warned = sheet.count(Severity::Warning) > 0;
    let fine = !warned && (sheet.agrees || !sheet.compared && sheet.not_understood.is_empty());
    let exit = if fine && sheet.undecided == 0 { Exit::Fine } else { Exit::No };
    if !show::for_programs(session, &sheet, || sheet.tables(), "part")? {
        print(&sheet, session)?;
    }
    Ok(exit)
}

/// Rules that somebody else wrote.
///
/// # Errors
/// When the file has none.
pub(super) fn foreign(path: &Path, plan: Option<&Plan>) -> Result<Foreign, Failure> {
    let bytes = plans::read_whole(path)?;
    let refused = |problem| not_a_list(path, problem);
    if !workbook::is_one(&bytes) {
        return read_rules(&String::from_utf8_lossy(&bytes), plan).map_err(refused);
    }
    let (rows, others) = typed::first_sheet(path, &bytes)?;
    let text = as_csv(rows)?;
    let mut foreign = read_rules(&text, plan).map_err(refused)?;
    let what = "it is not read; keep the rules in a workbook of their own".to_owned();
    foreign.not_understood.extend(
        others
            .into_iter()
            .map(|name| NotUnderstood { at: format!("sheet `{name}`"), what: what.clone() }),
    );
    Ok(foreign)
}

/// The rules of a sheet of this program.
fn own(typed: TypedRules<'_>) -> Result<Foreign, NotAList> {
    let unread = typed.not_understood.into_iter().map(|(at, what)| NotUnderstood { at, what });
    Foreign::typed(&typed.rules, unread.collect())
}

/// Rows of a workbook as the text that tables are read from.
fn as_csv(rows: Vec<Vec<String>>) -> Result<String, Failure> {
    let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(Vec::new());
    // A workbook leaves out what is empty at the end of a row.
    let columns = rows.first().map_or(0, Vec::len);
    for mut row in rows.into_iter().filter(|row| !row.is_empty()) {
        row.resize(row.len().max(columns), String::new());
        writer.write_record(row).map_err(std::io::Error::from)?;
    }
    let bytes = writer.into_inner().map_err(|error| error.into_error())?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn not_a_list(path: &Path, problem: NotAList) -> Failure {
    CallProblem::ForeignRules { path: path.to_owned(), problem }.into()
}

fn print(sheet: &AuditSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    // The answer first, and once more below everything that it rests on.
    let (good, answer) = answer(sheet);
    let style = if good { style::GOOD } else { style::ERROR };
    session.prose(style, &answer)?;
    let groups = sheet.groups();
    let (spoofed, others): (Vec<_>, Vec<_>) =
        groups.into_iter().partition(|group| group[0].because.kind == "spoofed");
    let words = |group: &Vec<&DifferenceRow>| (group[0].opens(), sentence(group));
    let differences: Vec<(bool, String)> = others.iter().map(words).collect();
    part("differences", differences, usize::MAX, session)?;
    let not_understood = sheet.not_understood.iter();
    let not_understood =
        not_understood.map(|one| (true, format!("{}: {}", one.at, one.what))).collect();
    part("not understood", not_understood, usize::MAX, session)?;
    let findings = sheet.findings.iter().map(|one| {
        let says = format!("{} at {} ({}): {}", one.name, one.at, one.rule, one.says);
        (one.severity == "warning", says)
    });
    let (warnings, advice): (Vec<_>, Vec<_>) = findings.partition(|(warns, _)| *warns);
    part("warnings", warnings, usize::MAX, session)?;
    part("worth a look", advice, MOST, session)?;
    part("anti-spoofing", spoofed.iter().map(words).collect(), MOST, session)?;
    let long = sheet.differences.len() + sheet.findings.len() + sheet.not_understood.len() > 0;
    if long {
        session.print("\n")?;
        session.prose(style, &answer)?;
    }
    let (warnings, advice) = (sheet.count(Severity::Warning), sheet.count(Severity::Advice));
    if warnings + advice > 0 {
        let says = format!("{}, {} worth a look.", count(warnings, "warning"), advice);
        session.prose(style::PLAIN, &says)?;
    }
    Ok(())
}

/// In what a gateway differs from its plan, a sentence each.
pub(super) fn differences(sheet: &AuditSheet) -> Vec<String> {
    sheet.groups().iter().map(|group| sentence(group)).collect()
}

/// The answer in a sentence or two, and whether it is a good one.
fn answer(sheet: &AuditSheet) -> (bool, String) {
    let lines = count(sheet.lines, "line");
    let unread = sheet.not_understood.len();
    let open = match (unread, sheet.undecided) {
        (0, 0) => String::new(),
        (0, _) => " Some of it could not be decided, so there is no all-clear.".to_owned(),
        (1, _) => " One thing was not understood, so there is no all-clear.".to_owned(),
        (many, _) => format!(" {many} things were not understood, so there is no all-clear."),
    };
    if !sheet.compared {
        return (open.is_empty(), format!("{lines} looked at, without a plan.{open}"));
    }
    if sheet.differences.is_empty() {
        let says = match (open.is_empty(), sheet.whole) {
            (true, _) if sheet.stateless => {
                "The lists do what the plan says, for every first packet, and let back what looks like a reply. They \
                 say nothing of translation and of what else the gateway does."
                    .to_owned()
            }
            (true, true) => {
                "The gateway does what the plan says, for every packet: verdicts, log, \
                             translation, replies."
                    .to_owned()
            }
            (true, false) => {
                let rates = if sheet.limits { "" } else { "of rate limits, " };
                format!(
                    "The list does what the plan says, for every packet. It says nothing of the log, {rates}of \
                     translation, of replies and of what else the gateway does."
                )
            }
            (false, _) if sheet.undecided > 0 => {
                format!("Whether the gateway does what the plan says could not be decided.{open}")
            }
            (false, _) => format!("No difference was found in what was understood.{open}"),
        };
        let unseen = unseen(&sheet.domains).map(|says| format!(" {says}")).unwrap_or_default();
        return (open.is_empty(), format!("{says}{unseen} ({lines})"));
    }
    let opens = sheet.differences.iter().filter(|row| row.opens()).count();
    let classes = sheet.differences.len();
    let word = either(classes, "traffic class", "traffic classes");
    let opened = match opens {
        0 => "none of them allows what the plan denies".to_owned(),
        1 => "1 of them allows what the plan denies".to_owned(),
        many => format!("{many} of them allow what the plan denies"),
    };
    let says = format!("Gateway and plan differ for {classes} {word}; {opened}.{open}");
    (false, format!("{says} ({lines})"))
}

/// What is said of differences that go together.
fn sentence(group: &[&DifferenceRow]) -> String {
    let first = group[0];
    let mut says = first.says.clone();
    let others: Vec<&str> = group[1..].iter().map(|row| row.packets.short.as_str()).collect();
    // What opens is never cut off.
    let shown = if first.opens() { others.len() } else { others.len().min(MOST_TOGETHER) };
    if shown > 0 {
        says.push_str(&format!("; likewise {}", others[..shown].join("; ")));
    }
    if others.len() > shown {
        says.push_str(&format!("; and {} more", others.len() - shown));
    }
    if !first.line_says.is_empty() && first.line_says != first.line {
        says.push_str(&format!(" -- {}", first.line_says));
    }
    says
}

/// A part of the report, a sentence each; what matters most is marked.
fn part(
    title: &str,
    sentences: Vec<(bool, String)>,
    most: usize,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    if sentences.is_empty() {
        return Ok(());
    }
    session.print("\n")?;
    session.prose(style::STRONG, title)?;
    let more = sentences.len().saturating_sub(most);
    for (marked, says) in sentences.into_iter().take(most) {
        session.prose(if marked { style::WARN } else { style::PLAIN }, &format!("- {says}"))?;
    }
    if more > 0 {
        let says = format!("and {more} more, all of them with --format json");
        session.prose(style::FAINT, &says)?;
    }
    Ok(())
}
