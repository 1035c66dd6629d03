//! `bastium compare`

use crate::args::Compare;
use crate::failure::{Exit, Failure};
use crate::plans::{self, Version};
use crate::session::{self, Session};
use crate::show::{self, style, table};
use bastium_core::meaning::Meaning;
use bastium_core::plan::Form;
use bastium_core::proof;
use bastium_core::rules::{self, RuleSet};
use bastium_export::clean;
use bastium_export::sheets::{CompareSheet, Names, RuleFile, RuleFileProblem};
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
    // One day for both, or what ends in between would be told as a change of the plan.
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
    let exit = if sheet.is_empty() { Exit::Fine } else { Exit::No };
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
    let read = |path: &Path, text: &str| {
        RuleFile::read(text).map_err(|problem| not_a_list(path, &problem))
    };
    match (json(old)?, json(new)?) {
        (Some(a), Some(b)) => Ok(Some((read(old, &a)?, read(new, &b)?))),
        (None, None) => Ok(None),
        _ => Err(Failure::Call {
            says: "one of the two is a plan, the other a rule list".to_owned(),
            cure:
                "write the plan's rules with `bastium rules --format json`, and compare the lists"
                    .to_owned(),
        }),
    }
}

fn not_a_list(path: &Path, problem: &RuleFileProblem) -> Failure {
    let path = clean(&path.display().to_string()).into_owned();
    let says = match problem {
        RuleFileProblem::NotOne(error) => format!("{path} is no rule list: {error}"),
        RuleFileProblem::InPart => format!("{path} has only some of the rules"),
        RuleFileProblem::Word(word) => {
            format!("{path}: `{}` says nothing in a rule list", clean(word))
        }
        RuleFileProblem::TooMany => {
            format!("{path}: more places are named than can be told apart")
        }
    };
    let cure = "write it with `bastium rules --format json`, without FROM, TO or --find";
    Failure::Call { says, cure: cure.to_owned() }
}

/// A file's name, as it can be shown.
fn shown(path: &Path) -> String {
    clean(&path.display().to_string()).into_owned()
}

fn lists_compared(
    (old, new): (&RuleFile, &RuleFile),
    files: (String, String),
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let mut names = Names::default();
    let lines = |file: &RuleFile, names: &mut Names| {
        file.lines(names).map_err(|problem| not_a_list(Path::new("a rule list"), &problem))
    };
    let (before, after) = (lines(old, &mut names)?, lines(new, &mut names)?);
    let sheet =
        CompareSheet::of_lists(files, (new.day.clone(), new.form.clone()), &names, &before, &after);
    let exit = if sheet.is_empty() { Exit::Fine } else { Exit::No };
    if !show::for_programs(session, &sheet, || sheet.tables(), "table")? {
        print(&sheet, session)?;
    }
    Ok(exit)
}

/// The rules of both in one form: the one that is asked for, if it can say both plans.
fn compiled(before: &Meaning<'_>, after: &Meaning<'_>, form: Form) -> (RuleSet, RuleSet) {
    let one = |meaning: &Meaning<'_>, form| rules::in_form(meaning, form).ok();
    let both = |form| Some((one(before, form)?, one(after, form)?));
    both(form).unwrap_or_else(|| (rules::compile(before), rules::compile(after)))
}

fn list(words: &[String]) -> String {
    if words.is_empty() { "no fixed address".to_owned() } else { words.join(", ") }
}

fn print(sheet: &CompareSheet, session: &mut Session<'_>) -> Result<(), Failure> {
    if sheet.is_empty() {
        return session.prose(style::GOOD, "nothing changes: no traffic, and no rule");
    }
    let classes = |number: usize| match number {
        1 => "1 class of packets".to_owned(),
        number => format!("{number} classes of packets"),
    };
    let mut headline = format!("{} -> {}: ", sheet.old, sheet.new);
    if sheet.no_traffic() {
        headline.push_str("no traffic changes, only rules");
    } else {
        headline.push_str(&format!(
            "opens {}, closes {}",
            classes(sheet.opens.len()),
            sheet.closes.len()
        ));
        if !sheet.changes.is_empty() {
            headline.push_str(&format!(", {} get another answer", sheet.changes.len()));
        }
    }
    let tone = if sheet.opens.is_empty() { style::STRONG } else { style::WARN.bold() };
    session.prose(tone, &headline)?;
    session.print("\n")?;
    let kinds = [
        (&sheet.opens, style::WARN, "opens"),
        (&sheet.closes, style::BAD, "closes"),
        (&sheet.changes, style::PLAIN, "answers otherwise"),
    ];
    for (rows, tone, heading) in kinds {
        if rows.is_empty() {
            continue;
        }
        session.prose(tone.bold(), heading)?;
        // What opens is never cut off.
        let most = if heading == "opens" { rows.len() } else { MOST };
        for row in rows.iter().take(most) {
            let one = &row.packets;
            let verdicts = format!("was {}, is {}", row.before, row.after).replace('_', " ");
            let line = |line: Option<usize>| {
                line.map(|line| format!(" (line {line})")).unwrap_or_default()
            };
            let because = &row.because_after;
            session.prose(
                style::PLAIN,
                &format!(
                    "- {}: {verdicts}, by {} {}{}",
                    one.short,
                    because.kind.replace('_', " "),
                    because.name,
                    line(because.line)
                ),
            )?;
        }
        if rows.len() > most {
            let more = format!("and {} more, all of them with --format json", rows.len() - most);
            session.prose(style::FAINT, &more)?;
        }
        session.print("\n")?;
    }
    if sheet.no_traffic() {
        session.prose(style::GOOD, "no traffic opens, closes or gets another answer")?;
        session.print("\n")?;
    }
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
            session.prose(style::GOOD, "- everything gets through as before")?;
        }
        session.print("\n")?;
    }
    if sheet.undecided > 0 {
        let says = format!("{} questions could not be decided", sheet.undecided);
        session.prose(style::WARN, &says)?;
    }
    let rules = sheet.rule_table();
    if rules.rows.is_empty() {
        return session.prose(style::PLAIN, "no rule comes, goes, moves or changes");
    }
    session.prose(style::STRONG, &format!("rules, form {}, for {}", sheet.form, sheet.day))?;
    session.print(&table::draw(&rules, session.look(), 3))
}
