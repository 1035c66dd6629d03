//! `bastium change`: several changes of the plan file as one.

use super::{changed, compare, edit};
use crate::args::{Change, Cli, Command, Format, Writing};
use crate::failure::{Exit, Failure, Malformed, shown};
use crate::plans;
use crate::session::{self, Session};
use crate::show::style;
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_gateway::clean;
use bastium_planfile::edit::{Edit, apply_all, apply_each};
use bastium_report::count;
use bastium_report::sheets::CompareSheet;
use clap::Parser;
use std::path::Path;

pub(super) fn run(args: &Change, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let bytes = plans::read_whole(&args.file)?;
    let name = shown(&args.file);
    let text = String::from_utf8(bytes).map_err(|_| Malformed::Changes(args.file.clone()))?;
    let (lines, edits) = read(&text, &args.file)?;
    let changed = plans::change(args.writing, session, |plan| {
        apply_all(plan, &edits).map_err(|first| match refused(plan, &edits, &lines, &name) {
            diagnoses if diagnoses.is_empty() => Failure::Edit(first),
            diagnoses => Failure::Words { diagnoses },
        })
    })?;
    let traffic = traffic(&changed);
    changed::report(&changed, traffic.clone(), session)?;
    if !changed.piped && session.options.format == Format::Text {
        print(traffic.as_ref(), session)?;
    }
    Ok(Exit::Fine)
}

/// The changes, each with its line; or everything that is wrong with any of them.
pub(super) fn read(text: &str, path: &Path) -> Result<(Vec<usize>, Vec<Edit>), Failure> {
    let name = shown(path);
    let (mut lines, mut edits, mut wrong) = (Vec::new(), Vec::new(), Vec::new());
    for (number, line) in (1..).zip(text.lines()) {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        match one(line) {
            Ok(edit) => {
                lines.push(number);
                edits.push(edit);
            }
            Err((says, help)) => wrong.push(at(&name, number, &says, help)),
        }
    }
    if !wrong.is_empty() {
        return Err(Failure::Words { diagnoses: wrong });
    }
    if edits.is_empty() {
        return Err(Malformed::NoChange(path.to_owned()).into());
    }
    Ok((lines, edits))
}

/// One change, in the words of the command line.
pub(super) fn one(line: &str) -> Result<Edit, (String, String)> {
    let usage = "write it like `set network desks hosts=20`; quote what has blanks".to_owned();
    let words =
        shlex::split(line).ok_or_else(|| ("a quote is not closed".to_owned(), usage.clone()))?;
    let words = words.iter().map(String::as_str).skip_while(|word| *word == "bastium");
    let parsed = Cli::try_parse_from(["bastium"].into_iter().chain(words));
    if let Ok(cli) = &parsed
        && has_options_of_its_own(cli)
    {
        let help = "write --plan, --dry-run, --force and --format behind `bastium change FILE`";
        return Err(("it has options that are for all changes".to_owned(), help.to_owned()));
    }
    let made = match parsed.map(|cli| cli.command) {
        Ok(Command::Add(args)) if args.table.is_some() => {
            let says = "a table cannot be read in the middle of other changes".to_owned();
            return Err((says, "read it first: `bastium add KIND --from FILE`".to_owned()));
        }
        Ok(Command::Add(args)) => edit::added(&args),
        Ok(Command::Set(args)) => edit::set_edit(&args),
        Ok(Command::Remove(args)) => Ok(edit::removed(&args)),
        Ok(Command::Rename(args)) => Ok(edit::renamed(&args)),
        Ok(_) => {
            return Err((
                "that changes no plan".to_owned(),
                "use add, set, remove or rename".to_owned(),
            ));
        }
        Err(error) => {
            let text = error.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            return Err((first.to_owned(), usage));
        }
    };
    made.map_err(|failure| failure.says_and_help())
}

/// Whether a line says how the plan is found or written, which it does not decide alone.
fn has_options_of_its_own(cli: &Cli) -> bool {
    let writing = match &cli.command {
        Command::Add(args) => args.writing,
        Command::Set(args) => args.writing,
        Command::Remove(args) => args.writing,
        Command::Rename(args) => args.writing,
        _ => Writing::default(),
    };
    let named = std::env::var_os("BASTIUM_PLAN").map(std::path::PathBuf::from);
    writing.dry_run
        || writing.force
        || cli.options.plan != named
        || cli.options.format != Format::Text
}

/// The changes that cannot be made, with their lines, where the others are.
fn refused(plan: &str, edits: &[Edit], lines: &[usize], name: &str) -> Vec<Diagnosis> {
    let refused = apply_each(plan, edits).map(|(_, refused)| refused).unwrap_or_default();
    let at_line = |(place, problem): (usize, bastium_planfile::edit::EditProblem)| {
        let line = lines.get(place).copied().unwrap_or_default();
        let (says, help) = Failure::Edit(problem).says_and_help();
        at(name, line, &says, help)
    };
    refused.into_iter().map(at_line).collect()
}

fn at(name: &str, line: usize, says: &str, help: String) -> Diagnosis {
    let says = format!("{name}:{line}: {}", clean(says));
    Diagnosis::new("change", Severity::Error, None).says(says).help(help)
}

/// Which traffic the changes open and close, all together; `None` where the plan before was none.
pub(super) fn traffic(changed: &plans::Changed) -> Option<CompareSheet> {
    let read = |text: &str| bastium_planfile::read(&changed.name, text.as_bytes()).ok();
    let (old, new) = (read(&changed.old)?, read(&changed.new)?);
    let day = session::day_of(&new, None);
    let names = ("before".to_owned(), "after".to_owned());
    compare::between((&old, &new), names, day)
}

fn print(traffic: Option<&CompareSheet>, session: &mut Session<'_>) -> Result<(), Failure> {
    let Some(sheet) = traffic else {
        let says = "the plan before had mistakes: what the change opens and closes cannot be said";
        return session.prose(style::WARN, says);
    };
    session.print("\n")?;
    if sheet.no_traffic() {
        session.prose(style::GOOD, "no traffic changes")?;
        return compare::print_settings(sheet.settings.iter(), session);
    }
    compare::print_traffic(sheet, session)?;
    compare::print_settings(sheet.settings.iter().filter(|row| !row.moves_traffic()), session)?;
    let all = [&sheet.rules.added, &sheet.rules.removed, &sheet.rules.moved, &sheet.rules.changed];
    let rules: usize = all.into_iter().map(Vec::len).sum();
    let says = format!("{} with it: bastium compare", count(rules, "rule change"));
    session.prose(style::FAINT, &says)
}
