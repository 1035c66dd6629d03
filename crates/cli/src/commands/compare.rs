//! `bastium compare`: what changes from one plan, or rule list, to another.

use crate::args::Compare;
use crate::failure::{CallProblem, Exit, Failure, shown};
use crate::plans::{self, Version};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::meaning::Meaning;
use bastium_core::plan::{Form, Plan};
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet};
use bastium_report::sheets::{
    ChangeRow, CompareSheet, Names, RuleFile, RuleFileProblem, SettingRow,
};
use jiff::civil::Date;
use std::path::Path;

/// How many boxes of a kind are shown one by one.
const MOST: usize = 12;

pub(super) fn run(args: &Compare, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if let (Some(old), Some(new)) = (&args.old, &args.new)
        && let Some(lists) = two_lists(old, new)?
    {
        return lists_compared((&lists.0, &lists.1), (shown(old), shown(new)), session);
    }
    let (old, new) = match (&args.old, &args.new) {
        (Some(old), Some(new)) => (plans::load(Some(old))?, plans::load(Some(new))?),
        _ => {
            let version = Version { commit: &args.since };
            (version.load(session.options.plan.as_deref())?, session.plan()?)
        }
    };
    // One day for both, or what ends in between would be reported as a change of the plan.
    let day = session::day_of(&new, args.day.day);
    let before = session::meaning(&old, Some(day))?;
    let after = session::meaning(&new, Some(day))?;
    let form = args.form.map_or(new.gateway().form, Form::from);
    let (old_rules, new_rules) = compiled(&before, &after, form);
    let changes = proof::changes(&before, &after, (&old_rules, &new_rules));
    let named = (day.to_string(), new_rules.form.word().to_owned());
    let files = match (&args.old, &args.new) {
        (Some(old), Some(new)) => (shown(old), shown(new)),
        _ => (args.since.clone(), "the plan as it is".to_owned()),
    };
    let sheet = CompareSheet::new((&old, &new), files, named, &changes);
    let exit = if sheet.same_policy() { Exit::Fine } else { Exit::No };
    if !show::for_programs(session, &sheet, || sheet.tables(), "table")? {
        print(&sheet, session)?;
    }
    Ok(exit)
}

/// Two rule lists, if both files are the JSON of such; `None` if neither is.
fn two_lists(old: &Path, new: &Path) -> Result<Option<(RuleFile, RuleFile)>, Failure> {
    let json = |path: &Path| -> Result<Option<String>, Failure> {
        let bytes = plans::read_whole(path)?;
        let text = String::from_utf8_lossy(&bytes);
        Ok(text.trim_start().starts_with('{').then(|| text.into_owned()))
    };
    let read =
        |path: &Path, text: &str| RuleFile::read(text).map_err(|problem| not_a_list(path, problem));
    match (json(old)?, json(new)?) {
        (Some(a), Some(b)) => Ok(Some((read(old, &a)?, read(new, &b)?))),
        (None, None) => Ok(None),
        _ => Err(CallProblem::PlanAndList.into()),
    }
}

fn not_a_list(path: &Path, problem: RuleFileProblem) -> Failure {
    CallProblem::RuleFile { path: path.to_owned(), problem }.into()
}

fn lists_compared(
    (old, new): (&RuleFile, &RuleFile),
    files: (String, String),
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let mut names = Names::default();
    let lines = |file: &RuleFile, names: &mut Names| {
        file.lines(names).map_err(|problem| not_a_list(Path::new("a rule list"), problem))
    };
    let (before, after) = (lines(old, &mut names)?, lines(new, &mut names)?);
    let sheet =
        CompareSheet::of_lists(files, (new.day.clone(), new.form.clone()), &names, &before, &after);
    let exit = if sheet.same_policy() { Exit::Fine } else { Exit::No };
    if !show::for_programs(session, &sheet, || sheet.tables(), "table")? {
        print(&sheet, session)?;
    }
    Ok(exit)
}

/// The rules of both in one form: the one that is asked for, if it can say both plans.
/// What the new one of two plans changes on a day, in its own form where both have it; `None` where one of them has no
/// meaning.
pub(super) fn between(
    (old, new): (&Plan, &Plan),
    files: (String, String),
    day: Date,
) -> Option<CompareSheet> {
    let (before, after) = (Meaning::new(old, day).ok()?, Meaning::new(new, day).ok()?);
    let rules = compiled(&before, &after, new.gateway().form);
    let changes = proof::changes(&before, &after, (&rules.0, &rules.1));
    let named = (day.to_string(), rules.1.form.word().to_owned());
    Some(CompareSheet::new((old, new), files, named, &changes))
}

pub(super) fn compiled<'b, 'a>(
    before: &Meaning<'b>,
    after: &Meaning<'a>,
    form: Form,
) -> (RuleSet<'b>, RuleSet<'a>) {
    let both = |form| Some((rules::in_form(before, form).ok()?, rules::in_form(after, form).ok()?));
    both(form).unwrap_or_else(|| (rules::compile(before), rules::compile(after)))
}

fn list(words: &[String]) -> String {
    if words.is_empty() { "no fixed address".to_owned() } else { words.join(", ") }
}

fn print(sheet: &CompareSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    let same = sheet.is_empty();
    if same && sheet.settings.is_empty() && sheet.beside.is_empty() {
        return session.prose(style::GOOD, "no changes: neither traffic nor rules");
    }
    if !same {
        print_changes(sheet, session)?;
    }
    if let Some(beside) = sheet.beside_words() {
        let says = match same {
            true => format!("neither traffic nor rules change, but {beside} do"),
            false => format!("{beside} change, too"),
        };
        session.prose(style::PLAIN, &format!("{says}: {}", look_at(sheet)))?;
    } else if same {
        let says = format!(
            "on {} neither traffic nor rules change, but what the plan says does",
            sheet.day
        );
        session.prose(style::PLAIN, &says)?;
    }
    let others = || sheet.settings.iter().filter(|row| !row.moves_traffic());
    if !same && others().next().is_some() {
        session.print("\n")?;
        session.prose(style::STRONG, "other changes")?;
    }
    print_settings(others(), session)
}

/// What is said otherwise, a line each.
pub(super) fn print_settings<'s>(
    rows: impl Iterator<Item = &'s SettingRow>,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    for row in rows {
        session.prose(style::PLAIN, &format!("- {}", row.says))?;
    }
    Ok(())
}

/// The commands that show the sheets which differ.
fn look_at(sheet: &CompareSheet) -> String {
    let commands: Vec<String> =
        sheet.beside.iter().map(|sheet| format!("bastium {sheet}")).collect();
    commands.join(", ")
}

fn print_changes(sheet: &CompareSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    print_traffic(sheet, session)?;
    print_hosts(sheet, session)?;
    let rules = sheet.rule_table();
    if rules.rows.is_empty() {
        return session.prose(style::PLAIN, "no rule is added, removed, moved or changed");
    }
    session.prose(style::STRONG, &format!("rules, form {}, for {}", sheet.form, sheet.day))?;
    session.print(&table::draw(&rules, session.look(), 3))
}

/// How much is opened, closed and changed, in one line.
fn headline(sheet: &CompareSheet) -> String {
    let classes = |number: usize| match number {
        1 => "1 traffic class".to_owned(),
        number => format!("{number} traffic classes"),
    };
    let mut headline = format!("{} -> {}: ", sheet.old, sheet.new);
    if sheet.no_traffic() {
        headline.push_str("no traffic changes, only rules");
    } else if sheet.no_classes() {
        headline.push_str("the same entries stand for other traffic");
    } else {
        headline.push_str(&format!(
            "opens {}, closes {}",
            classes(sheet.opens.len()),
            sheet.closes.len()
        ));
        if !sheet.changes.is_empty() {
            let changes = match sheet.changes.len() {
                1 => "changes the verdict of 1 more".to_owned(),
                more => format!("changes the verdict of {more} more"),
            };
            headline.push_str(&format!(", {changes}"));
        }
    }
    headline
}

fn traffic_in_words(row: &ChangeRow) -> String {
    let verdicts = format!("was {}, is {}", row.before, row.after).replace('_', " ");
    let because = &row.because_after;
    // That nothing leads there is no entry of the plan.
    let by = match because.kind {
        "no_route" => String::new(),
        _ => format!(", by {}", because.words_and_line()),
    };
    format!("- {}: {verdicts}{by}", row.packets.short)
}

/// What is opened, closed and changed, a line each. What opens is never cut off.
pub(super) fn print_traffic(
    sheet: &CompareSheet,
    session: &mut Session<'_>,
) -> Result<(), Failure> {
    let tone = if sheet.opens.is_empty() { style::STRONG } else { style::WARN.bold() };
    session.prose(tone, &headline(sheet))?;
    session.print("\n")?;
    let kinds = [
        (&sheet.opens, style::WARN, "opens"),
        (&sheet.closes, style::BAD, "closes"),
        (&sheet.changes, style::PLAIN, "verdict changed"),
    ];
    for (rows, tone, heading) in kinds {
        if rows.is_empty() {
            continue;
        }
        session.prose(tone.bold(), heading)?;
        // What opens is never cut off.
        let most = if heading == "opens" { rows.len() } else { MOST };
        for row in rows.iter().take(most) {
            session.prose(style::PLAIN, &traffic_in_words(row))?;
        }
        if rows.len() > most {
            let more = format!("... and {} more; --format json lists all", rows.len() - most);
            session.prose(style::FAINT, &more)?;
        }
        session.print("\n")?;
    }
    let others = || sheet.settings.iter().filter(|row| row.moves_traffic());
    if others().next().is_some() {
        session.prose(style::WARN.bold(), "stands for something else")?;
        print_settings(others(), session)?;
        session.print("\n")?;
    }
    if sheet.no_traffic() {
        session.prose(style::GOOD, "no traffic is opened, closed or changed")?;
        session.print("\n")?;
    }
    if sheet.undecided > 0 {
        let says =
            format!("{} could not be decided", bastium_report::count(sheet.undecided, "question"));
        session.prose(style::WARN, &says)?;
    }
    Ok(())
}

/// What hosts that have moved lose and gain.
fn print_hosts(sheet: &CompareSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    for host in &sheet.moved {
        let title =
            format!("{} moves from {} to {}", host.host, list(&host.before), list(&host.after));
        session.prose(style::STRONG, &title)?;
        for (word, tone, rows) in
            [("loses", style::BAD, &host.loses), ("gains", style::WARN, &host.gains)]
        {
            for row in rows {
                session.prose(tone, &format!("- {word} {}", row.short))?;
            }
        }
        if host.loses.is_empty() && host.gains.is_empty() {
            session.prose(style::GOOD, "- everything passes as before")?;
        }
        session.print("\n")?;
    }
    Ok(())
}
