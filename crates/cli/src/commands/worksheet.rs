//! `bastium worksheet`

use super::count;
use crate::args::Worksheet as Args;
use crate::failure::{Exit, Failure};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Form;
use bastium_core::proof::Proved;
use bastium_gateway::clean;
use bastium_report::sheets::{Step, Worksheet};

pub(super) fn run(args: &Args, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let plan = session.plan()?;
    let meaning = session::meaning(&plan, args.day.day)?;
    let form = args.form.map_or(plan.gateway().form, Form::from);
    let rules = session::in_form(&meaning, form)?;
    let mut sheet = checked(&meaning, session::proved(&meaning, &rules)?)?;
    let all = sheet.steps.len();
    if let Some(word) = &args.step {
        only(&mut sheet, word)?;
    }
    if show::for_programs(session, &sheet, || sheet.tables(), "step")? {
        return Ok(Exit::Fine);
    }
    print(&sheet, all, session)?;
    Ok(Exit::Fine)
}

/// The worksheet of rules that are proved, read back from its own words.
pub(super) fn checked(meaning: &Meaning<'_>, proved: Proved<'_>) -> Result<Worksheet, Failure> {
    Worksheet::new(meaning, proved).map_err(|misread| Failure::Unproved {
        faults: misread.iter().map(ToString::to_string).collect(),
    })
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
        return Err(Failure::Call {
            says: format!("no step of the worksheet is called `{word}`"),
            help: format!("the steps are: {}", steps.join(", ")),
        });
    }
    Ok(())
}

fn print(sheet: &Worksheet, all: usize, session: &mut Session<'_>) -> Result<(), Failure> {
    let until = match &sheet.changes_on {
        Some(day) => format!("; the rules change on {day}"),
        None => String::new(),
    };
    session.print(&format!(
        "{}: {} to type in {}, for {}{until}\n",
        clean(&sheet.site),
        count(sheet.rows(), "row"),
        if sheet.steps.len() == all {
            count(all, "step")
        } else {
            format!("{} of {}", sheet.steps.len(), count(all, "step"))
        },
        sheet.day
    ))?;
    for step in &sheet.steps {
        let title = format!("{}. {}", step.number, step.title);
        session.print(&format!("\n{}\n", style::in_style(style::STRONG, &title)))?;
        for mut shown in step.tables() {
            let title = shown.title.take().unwrap_or_default();
            let title = title.split_once(". ").map_or(title.as_str(), |(_, title)| title);
            session.print(&format!("\n{}\n", clean(title)))?;
            session.print(&table::draw(&shown, session.look(), 2))?;
        }
        session.prose(style::FAINT, &format!("Afterwards: {}.", step.afterwards))?;
    }
    Ok(())
}
