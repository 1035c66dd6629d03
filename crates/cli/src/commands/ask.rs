//! `bastium ask`: would this get through, and what decides?

use super::batch;
use super::times::{date_of, minutes};
use crate::args::Ask;
use crate::failure::{CallProblem, Exit, Failure};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::asking::{Answer, End, NoAnswer, ask};
use bastium_core::diagnosis::Diagnose;
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Plan, Services};
use bastium_core::rules::{self, RuleSet};
use bastium_core::source::Text;
use bastium_core::verdict::Verdict;
use bastium_gateway::clean;
use bastium_report::sheets::AnswerSheet;

use bastium_report::{Cell, Column, Table, Tone};

/// How many exceptions that came close are shown.
const MOST_NEAR_MISSES: usize = 4;

pub(super) fn run(args: &Ask, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if let Some(file) = &args.batch {
        return batch::run(file, args, session);
    }
    let plan = session.plan()?;
    // A date that is named is the day that is asked about.
    let dated = args.at.as_deref().and_then(date_of);
    let day = args.day.day.or(dated);
    let meaning = session::meaning(&plan, day)?;
    let compiled = rules::compile(&meaning);
    let (answer, sheet) = answered(args, &meaning, &compiled)?;
    let exit = if answer.verdict == Some(Verdict::Allow) { Exit::Fine } else { Exit::No };
    if !show::for_programs(session, &sheet, || sheet.tables(), "question")? {
        print(&plan, &answer, &sheet, session)?;
    }
    if sheet.differences.is_empty() { Ok(exit) } else { Ok(report_internal_error(&sheet, session)) }
}

/// What is answered to a question, of rules that are compiled already.
pub(super) fn answered<'r>(
    args: &Ask,
    meaning: &Meaning<'_>,
    compiled: &'r RuleSet<'r>,
) -> Result<(Answer<'r>, AnswerSheet), Failure> {
    let plan = meaning.plan();
    let ends = (args.from.as_deref().unwrap_or("any"), args.to.as_deref().unwrap_or("any"));
    let (from, to, service) = words(args, ends, plan)?;
    let at = minutes(args.at.as_deref(), meaning.day())?;
    let answer = ask(meaning, compiled, &from, &to, &service, &at)
        .map_err(|reason| no_answer(reason, ends))?;
    let sheet = AnswerSheet::new(plan, &from, &to, &service, &answer);
    let sheet = sheet.ok_or_else(|| no_answer(NoAnswer::NoCommonFamily, ends))?;
    Ok((answer, sheet))
}

/// Resolves all three, and tells all that is wrong with them together.
fn words(args: &Ask, ends: (&str, &str), plan: &Plan) -> Result<(End, End, Services), Failure> {
    let mut diagnoses = Vec::new();
    let mut end = |words: &str| match End::new(plan, words) {
        Ok(end) => Some(end),
        Err(problems) => {
            diagnoses.extend(problems.iter().map(Diagnose::diagnose));
            None
        }
    };
    let (from, to) = (end(ends.0), end(ends.1));
    let items = args.service.iter().flat_map(|words| words.split([',', ' ']));
    let items: Vec<Text> = items.filter(|word| !word.is_empty()).map(Text::new).collect();
    let service = match plan.service(&items) {
        Ok(service) if !items.is_empty() => Some(service),
        Ok(_) => {
            return Err(CallProblem::NoService.into());
        }
        Err(problems) => {
            diagnoses.extend(problems.iter().map(Diagnose::diagnose));
            None
        }
    };
    match (from, to, service) {
        (Some(from), Some(to), Some(service)) => Ok((from, to, service)),
        _ => Err(Failure::Words { diagnoses }),
    }
}

fn no_answer(reason: NoAnswer, (from, to): (&str, &str)) -> Failure {
    CallProblem::Unanswered { reason, from: from.to_owned(), to: to.to_owned() }.into()
}

fn print(
    plan: &Plan,
    answer: &Answer<'_>,
    sheet: &AnswerSheet,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let tone = match sheet.verdict {
        "allow" => style::GOOD.bold(),
        "mixed" => style::WARN.bold(),
        _ => style::BAD.bold(),
    };
    session.prose(tone, &sheet.verdict.replace('_', " "))?;
    session.prose(style::PLAIN, &sheet.says)?;
    session.print("\n")?;
    if !sheet.parts.is_empty() {
        for parts in sheet.tables() {
            session.print(&table::draw(&parts, session.look(), 2))?;
        }
    }
    let details = details(plan, answer, sheet);
    if details.rows.is_empty() {
        return Ok(());
    }
    if !sheet.parts.is_empty() {
        session.print("\n")?;
    }
    session.print(&table::draw_rows(&details, session.look()))
}

/// What is shown below the verdict, a name and a value in each line: only the first of several lines about the same
/// has the name.
struct Details(Table);

impl Details {
    fn line(&mut self, name: &str, value: String) {
        self.0.row([Cell::toned(name, Tone::Faint), value.into()]);
    }

    fn lines(&mut self, name: &str, values: impl IntoIterator<Item = String>) {
        for (index, value) in values.into_iter().enumerate() {
            self.line(if index == 0 { name } else { "" }, value);
        }
    }
}

/// One packet that stands for the question, what decides it, what came close, and its reply.
fn details(plan: &Plan, answer: &Answer<'_>, sheet: &AnswerSheet) -> Table {
    let mut details = Details(Table::new([Column::whole("about"), Column::text("")]));
    if let (Some(first), Some(_)) = (answer.shares.first(), answer.verdict) {
        details.line("packet", plan.packet_words(&first.packet));
        if let Some(rule) = answer.rule {
            details.line("rule", format!("{} {}", rule.number, rule.id));
        }
        // What came close is shown below, with what would have to be otherwise.
        let reported =
            |id: &str| sheet.near_misses.iter().any(|one| id.contains(&format!(".{}", one.name)));
        let others = sheet.passed_over.iter().filter(|passed| !reported(&passed.id));
        details.lines(
            "not matched",
            others.map(|one| format!("{} {} (another {})", one.number, one.id, one.differs)),
        );
        let near = sheet.near_misses.iter().take(MOST_NEAR_MISSES);
        details.lines("came close", near.map(|one| format!("{} (line {})", one.says, one.line)));
        if sheet.near_misses.len() > MOST_NEAR_MISSES {
            details.line("", format!("and {} more", sheet.near_misses.len() - MOST_NEAR_MISSES));
        }
        details.lines("to change it", sheet.to_change.iter().cloned());
        if let Some(reply) = sheet.reply {
            let rule = sheet.reply_rule.as_ref();
            let by = rule.map(|r| format!(", allowed by rule {} {}", r.number, r.id));
            // What is expected has the same name as the line.
            let reply = if reply == "reply" { "yes" } else { reply };
            details.line("reply", format!("{reply}{}", by.unwrap_or_default()));
        }
        if first.decision.verdict.is_filtered() {
            details.line("logged", if sheet.logged { "yes" } else { "no" }.to_owned());
        }
    }
    details.lines("besides", sheet.asides.iter().cloned());
    details.0
}

/// Plan and rules come by separate ways. If they ever part, nothing here can be trusted.
fn report_internal_error(sheet: &AnswerSheet, session: &mut Session<'_>) -> Exit {
    session.complain(
        "THE RULES DO NOT MATCH THE PLAN. This is a fault in Bastium, not in your plan",
        "do not enter these rules; please report the plan and these packets",
    );
    for difference in &sheet.differences {
        session.say(&format!("  {}\n", clean(difference)));
    }
    Exit::Wrong
}
