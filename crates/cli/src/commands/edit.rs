//! `bastium add`, `set`, `remove` and `rename`: changes of the plan file.

use crate::args::{Add, Remove, Rename, Set, Writing};
use crate::failure::{Exit, Failure};
use crate::plans;
use crate::session::Session;
use crate::show::{self, style};
use bastium_export::clean;
use bastium_export::sheets::ChangeSheet;
use bastium_planfile::edit::{Edit, Setting, apply};

pub(super) fn add(args: &Add, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if let Some(file) = &args.table {
        return super::import::run(args, file, session);
    }
    let Some(name) = args.name.clone() else {
        return Err(Failure::Call {
            says: format!("the new {} has no name", args.kind),
            cure: format!(
                "write it behind the kind, as in `bastium add {} NAME key=value`",
                args.kind
            ),
        });
    };
    let settings = settings(&args.settings)?;
    let (kind, open_by_trust) = (args.kind.clone(), args.open_by_trust);
    change(&Edit::Add { kind, name, settings, open_by_trust }, args.writing, session)
}

pub(super) fn set(args: &Set, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let words: Vec<&str> = args.words.iter().map(String::as_str).collect();
    let edit = match (args.kind.as_str(), words.as_slice()) {
        ("cell", [from, to, action]) => Edit::Cell {
            from: (*from).to_owned(),
            to: (*to).to_owned(),
            action: (*action).to_owned(),
        },
        ("cell", _) => {
            return Err(Failure::Call {
                says: "a cell is set by two zones and what happens".to_owned(),
                cure: "write it like `bastium set cell staff guests block`".to_owned(),
            });
        }
        (kind, words) => {
            let name = words.first().filter(|word| !word.contains('='));
            let rest = &args.words[usize::from(name.is_some())..];
            let name = name.map(|name| (*name).to_owned());
            Edit::Set { kind: kind.to_owned(), name, settings: settings(rest)? }
        }
    };
    change(&edit, args.writing, session)
}

pub(super) fn remove(args: &Remove, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let (kind, name) = (args.kind.clone(), args.name.clone());
    change(&Edit::Remove { kind, name }, args.writing, session)
}

pub(super) fn rename(args: &Rename, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let (kind, old, new) = (args.kind.clone(), args.old.clone(), args.new.clone());
    change(&Edit::Rename { kind, old, new }, args.writing, session)
}

fn settings(words: &[String]) -> Result<Vec<Setting>, Failure> {
    let one = |word: &String| {
        Setting::from_words(word).ok_or_else(|| Failure::Call {
            says: format!("`{word}` is not a key with its value"),
            cure: "write it like vlan=24; a list like service=ssh,https; `key=` takes a key out"
                .to_owned(),
        })
    };
    words.iter().map(one).collect()
}

/// Makes one change of the plan file, if what comes of it is a plan, and shows it.
pub(super) fn change(
    edit: &Edit,
    writing: Writing,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let edit = |text: &str| apply(text, edit).map_err(Failure::Edit);
    let changed = plans::change(writing, session, edit)?;
    report(&changed, session)?;
    Ok(Exit::Fine)
}

/// Shows what a change did. A plan from standard input goes, changed, to standard output.
pub(super) fn report(changed: &plans::Changed, session: &mut Session<'_>) -> Result<(), Failure> {
    let plans::Changed { name, old, new, written, piped, fresh } = changed;
    for finding in fresh {
        let (severity, says) = (finding.severity.word(), &finding.says);
        session.remark(&format!("new for `check`, {severity} [{}]: {says}", finding.name));
    }
    if *piped {
        return session.print(new);
    }
    let sheet = ChangeSheet::new(name, old, new, *written);
    if show::for_programs(session, &sheet, || sheet.tables(), "change")? {
        return Ok(());
    }
    let digits = sheet.lines.iter().map(|line| line.line).max().unwrap_or(0).to_string().len();
    for line in &sheet.lines {
        let style = if line.sign == "+" { style::GOOD } else { style::BAD };
        let text = format!("{} {:>digits$}  {}", line.sign, line.line, clean(&line.text));
        session.print(&format!("{}\n", style::in_style(style, text.trim_end())))?;
    }
    session.remark(&match (sheet.lines.is_empty(), *written) {
        (true, _) => format!("{name} says so already"),
        (false, true) => format!("wrote {name}"),
        (false, false) => format!("{name} would change so; nothing was written"),
    });
    Ok(())
}
