//! `bastium worksheet`: what to type into a gateway, step by step.

mod since_gateway;

use crate::args::Worksheet as Args;
use crate::failure::{Exit, Failure, Named, Unknown, shown};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use crate::{files, plans};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Form;
use bastium_core::proof::Proved;
use bastium_gateway::clean;
use bastium_report::count;
use bastium_report::sheets::{Misread, Since, Step, Worksheet};
use bastium_report::{Table, worksheet_page};
use std::path::Path;

pub(super) fn run(args: &Args, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let form = args.form.map_or(plan.gateway().form, Form::from);
    let rules = session::in_form(&meaning, form)?;
    let proved = session::proved(&meaning, &rules)?;
    let mut sheet = match (&args.since, &args.since_gateway) {
        (Some(old), _) => since(old, &meaning, proved, session)?,
        (_, Some(rules)) => since_gateway::sheet(rules, &meaning, proved)?,
        _ => checked(&meaning, proved)?,
    };
    let all = sheet.steps.len();
    if let Some(word) = &args.step {
        only(&mut sheet, word)?;
    }
    if let Some(path) = &args.page {
        let lines = sheet.since.iter().flat_map(since_lines).map(|(_, says)| says);
        let page = worksheet_page(&sheet, lines.chain([heading(&sheet, all)]).collect());
        let page = page.map_err(|_| std::io::Error::other("the page could not be put together"))?;
        files::put(path, &page, args.force, session)?;
        session.remark(&format!("wrote {}", path.display()));
        return Ok(Exit::Fine);
    }
    if show::for_programs(session, &sheet, || sheet.tables(), "step")? {
        return Ok(Exit::Fine);
    }
    print(&sheet, all, session)?;
    Ok(Exit::Fine)
}

/// The worksheet of rules that are proved, read back from its own words.
pub(super) fn checked(meaning: &Meaning<'_>, proved: Proved<'_>) -> Result<Worksheet, Failure> {
    Worksheet::new(meaning, proved).map_err(|one| misread(&one))
}

/// The worksheet of a change. One day counts for both, or what ends in between would be one, too.
fn since(
    old: &Path,
    meaning: &Meaning<'_>,
    proved: Proved<'_>,
    session: &Session<'_>,
) -> Result<Worksheet, Failure> {
    let plan = plans::older(old, session.options.plan.as_deref())?;
    let before = session::meaning(&plan, Some(meaning.day()))?;
    let rules = session::in_form(&before, proved.rules().form)?;
    let name = shown(old);
    Worksheet::since(&name, (&before, &rules), (meaning, proved)).map_err(|one| misread(&one))
}

/// Rows that do not say what they shall.
pub(super) fn misread(misread: &[Misread]) -> Failure {
    Failure::Unproved { faults: misread.iter().map(ToString::to_string).collect() }
}

/// Leaves the step that is asked for.
fn only(sheet: &mut Worksheet, word: &str) -> Result<(), Failure> {
    let lower = word.to_lowercase();
    let by_name = sheet.steps.iter().any(|step| step.name == lower);
    let is_it = |step: &Step| match by_name {
        true => step.name == lower,
        false => step.number.to_string() == lower || step.title.to_lowercase().contains(&lower),
    };
    let steps: Vec<String> =
        sheet.steps.iter().map(|step| format!("{} {}", step.number, step.name)).collect();
    sheet.steps.retain(is_it);
    if sheet.steps.is_empty() {
        let unknown =
            Unknown { what: Named::Step, word: word.to_owned(), near: None, known: steps };
        return Err(unknown.into());
    }
    Ok(())
}

/// From where it goes, and whether that is safe: each with what it means.
fn since_lines(since: &Since) -> Vec<(anstyle::Style, String)> {
    let Since { old, edits, kept, safe, assumed } = since;
    let kept = match kept {
        1 => "1 stays as it is".to_owned(),
        kept => format!("{kept} stay as they are"),
    };
    let says = format!("since {}: {} of rules; {kept}", clean(old), count(*edits, "edit"));
    let mut lines = vec![(style::PLAIN, says)];
    match (edits, safe) {
        (0, _) => {}
        (_, true) => lines.push((
            style::GOOD,
            "safe in this order: after each row, what old and new rules both block is blocked, and what both allow passes".to_owned(),
        )),
        (_, false) => lines.push((
            style::WARN,
            "not safe at every step: see the rows marked `at once`, and what stands below them".to_owned(),
        )),
    }
    lines.extend(assumed.iter().map(|says| (style::FAINT, format!("assumed: {says}"))));
    lines
}

/// How much there is to type.
fn heading(sheet: &Worksheet, all: usize) -> String {
    let until = match &sheet.changes_on {
        Some(day) => format!("; the rules change on {day}"),
        None => String::new(),
    };
    let steps = match sheet.steps.len() == all {
        true => count(all, "step"),
        false => format!("{} of {}", sheet.steps.len(), count(all, "step")),
    };
    let (site, rows) = (clean(&sheet.site), count(sheet.rows(), "row"));
    format!("{site}: {rows} to type in {steps}, for {}{until}", sheet.day)
}

fn print(sheet: &Worksheet, all: usize, session: &mut Session<'_>) -> Result<(), Failure> {
    for (tone, says) in sheet.since.iter().flat_map(since_lines) {
        session.prose(tone, &says)?;
    }
    session.print(&format!("{}\n", heading(sheet, all)))?;
    for step in &sheet.steps {
        let title = format!("{}. {}", step.number, step.title);
        session.print(&format!("\n{}\n", style::in_style(style::STRONG, &title)))?;
        for mut shown in step.tables().into_iter().map(Table::without_empty_columns) {
            let title = shown.title.take().unwrap_or_default();
            let title = title.split_once(". ").map_or(title.as_str(), |(_, title)| title);
            session.print(&format!("\n{}\n", clean(title)))?;
            session.print(&table::draw(&shown, session.look(), 2))?;
        }
        for warning in &step.warnings {
            session.prose(style::WARN, &format!("Mind: {}.", clean(warning)))?;
        }
        session.prose(style::FAINT, &format!("Afterwards: {}.", step.afterwards))?;
    }
    Ok(())
}
