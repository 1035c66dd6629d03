//! Questions and changes on the screen, made by the same functions as on the command line.

use crate::args::{Cli, Command, Options, Writing};
use crate::commands::{ask, change};
use crate::failure::{CallProblem, Failure};
use crate::plans;
use crate::session::Session;
use bastium_core::diagnosis::Diagnosis;
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_core::source::Source;
use bastium_gateway::clean;
use bastium_planfile::edit::{Edit, apply};
use bastium_report::sheets::{ChangeRow, ChangeSheet, CompareSheet};
use clap::Parser;

/// What a change would do, before it is kept.
#[derive(Clone, Debug, Default)]
pub(super) struct Proposal {
    /// The change, as it was typed.
    pub(super) line: String,
    /// What it opens.
    pub(super) opens: Vec<String>,
    /// What it closes.
    pub(super) closes: Vec<String>,
    /// What else becomes of traffic, or why that cannot be said.
    pub(super) others: Vec<String>,
    /// The lines of the file that go and come.
    pub(super) lines: Vec<String>,
}

/// Changes of the file, and the way back.
pub(super) struct Edits {
    options: Options,
    /// The change that was shown, and the text that it was worked out for.
    proposed: Option<(Edit, String)>,
    /// The texts before and after each change that was kept.
    kept: Vec<(String, String)>,
}

impl Edits {
    pub(super) fn new(options: Options) -> Self {
        Self { options, proposed: None, kept: Vec::new() }
    }

    /// What a change would do; nothing is written.
    pub(super) fn propose(&mut self, line: &str) -> Result<Proposal, String> {
        let edit = change::one(line).map_err(|(says, help)| format!("{says}; {help}"))?;
        let made = self.change(true, |text| apply(text, &edit).map_err(Failure::Edit))?;
        let lines = ChangeSheet::new(&made.name, &made.old, &made.new, false).lines;
        let lines = lines.iter().map(|row| format!("{} {}", row.sign, clean(&row.text))).collect();
        let mut proposal = Proposal { line: line.to_owned(), lines, ..Proposal::default() };
        match change::traffic(&made) {
            Some(sheet) => proposal.fill(&sheet),
            None => proposal.others.push(
                "what it opens and closes is unknown: one of the two plans is not valid".to_owned(),
            ),
        }
        self.proposed = Some((edit, made.old));
        Ok(proposal)
    }

    /// Makes the change that was proposed last.
    pub(super) fn keep(&mut self) -> Result<String, String> {
        let (edit, shown_for) = self.proposed.take().ok_or("nothing is proposed")?;
        let unless_changed = |text: &str| match text == shown_for {
            true => apply(text, &edit).map_err(Failure::Edit),
            false => {
                Err(CallProblem::ChangedSince { help: "look at what the change does to it now" }
                    .into())
            }
        };
        let made = self.change(false, unless_changed)?;
        let fresh: Vec<&str> = made.fresh.iter().map(|finding| finding.name).collect();
        let says = match (made.written, fresh.is_empty()) {
            (false, _) => "the plan says so already".to_owned(),
            (true, true) => "saved; press u to undo".to_owned(),
            (true, false) => {
                format!("saved; new for `check`: {}; press u to undo", fresh.join(", "))
            }
        };
        if made.written {
            self.kept.push((made.old, made.new));
        }
        Ok(says)
    }

    /// Takes the last change back, if the file is still as it left it.
    pub(super) fn undo(&mut self) -> Result<String, String> {
        let (old, new) = self.kept.last().cloned().ok_or("nothing to undo")?;
        let changed = |text: &str| match text == new {
            true => Ok(old),
            false => {
                Err(CallProblem::ChangedSince { help: "undo it with your editor or with git" }
                    .into())
            }
        };
        self.change(false, changed)?;
        self.kept.pop();
        Ok("undone".to_owned())
    }

    fn change(
        &self,
        dry_run: bool,
        edit: impl FnOnce(&str) -> Result<String, Failure>,
    ) -> Result<plans::Changed, String> {
        let mut silent = Session::silent(self.options.clone());
        let writing = Writing { dry_run, force: false };
        plans::change(writing, &mut silent, edit).map_err(|failure| words(&failure))
    }
}

impl Proposal {
    fn fill(&mut self, sheet: &CompareSheet) {
        let short = |rows: &[ChangeRow]| -> Vec<String> {
            rows.iter().map(|row| clean(&row.says).into_owned()).collect()
        };
        self.opens = short(&sheet.opens);
        self.closes = short(&sheet.closes);
        self.others = short(&sheet.changes);
        if sheet.undecided > 0 {
            self.others.push("some traffic could not be decided within the limits".to_owned());
        }
    }
}

/// What is answered to a question in the words of `ask`.
pub(super) fn answer(words_typed: &str, meaning: &Meaning<'_>, rules: &RuleSet) -> Vec<String> {
    let split = shlex::split(words_typed).unwrap_or_default();
    let words_of = split.iter().map(String::as_str);
    let parsed = Cli::try_parse_from(["bastium", "ask"].into_iter().chain(words_of));
    let args = match parsed.map(|cli| cli.command) {
        Ok(Command::Ask(args)) if args.batch.is_none() && args.to.is_some() => args,
        _ => return vec!["type FROM TO SERVICE, as in: desks printers ipp".to_owned()],
    };
    match ask::answered(&args, meaning, rules) {
        Err(failure) => vec![words(&failure)],
        Ok((_, sheet)) => {
            let rule = sheet.rule.as_ref().map(|rule| format!("rule {}, {}", rule.number, rule.id));
            let mut lines = vec![
                format!("{}: {}", sheet.verdict.to_uppercase(), clean(&sheet.says)),
                format!("because of {}", sheet.because.words_and_line()),
            ];
            lines.extend(rule);
            lines.extend(
                sheet.to_change.iter().map(|line| format!("to change it: {}", clean(line))),
            );
            lines
        }
    }
}

/// A failure in one line.
fn words(failure: &Failure) -> String {
    match failure {
        Failure::Refused { plan, diagnoses } => first_said(plan, diagnoses),
        Failure::Words { diagnoses } => diagnoses
            .iter()
            .map(|one| format!("{}; {}", clean(&one.says), clean(&one.help)))
            .collect::<Vec<_>>()
            .join(" "),
        other => {
            let (says, help) = other.says_and_help();
            format!("{says}; {help}")
        }
    }
}

/// The first of several problems, with its line.
pub(super) fn first_said(source: &Source, diagnoses: &[Diagnosis]) -> String {
    let Some(first) = diagnoses.first() else { return String::new() };
    let line = first.at.map_or(String::new(), |at| format!("line {}: ", source.line(at)));
    format!("{line}{}", clean(&first.says))
}
