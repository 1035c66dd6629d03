//! Failures: what can go wrong, in words, and the exit code that follows.

mod call;
mod library;
mod machine;

pub(crate) use call::{
    CableProblem, CallProblem, Malformed, Meaningless, Named, NeedsFile, Unknown,
};
pub(crate) use machine::MachineProblem;

use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::source::Source;
use bastium_gateway::clean;
use bastium_planfile::edit::EditProblem;
use bastium_planfile::format::{kinds, single};
use std::io;
use std::path::{Path, PathBuf};
use thiserror::Error;

/// How the program ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// 0: all is well.
    Fine,
    /// 1: the answer is no, or something was found.
    No,
    /// 2: usage error, or the plan has no single meaning.
    Wrong,
    /// 3: this machine cannot do it.
    Unable,
}

impl Exit {
    /// The code for the shell.
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Fine => 0,
            Self::No => 1,
            Self::Wrong => 2,
            Self::Unable => 3,
        }
    }
}

/// Why a command could not do what it was asked to. Its `Display` says it in a sentence; [`Self::help`] what to do.
#[derive(Debug, Error)]
pub(crate) enum Failure {
    /// There is no plan here.
    #[error("no bastium.toml was found here or in a parent folder")]
    NoPlan,
    /// A file could not be read or written.
    #[error("cannot {doing} {}: {}", shown(.path), reason(.error))]
    File { path: PathBuf, doing: &'static str, error: io::Error },
    /// A file is there already.
    #[error("{} already exists", shown(.path))]
    Exists { path: PathBuf },
    /// A file is write-protected.
    #[error("{} is write-protected", shown(.path))]
    Protected { path: PathBuf },
    /// What is named is no ordinary file, but this.
    #[error("{} is {what}: nothing is written there", shown(.path))]
    NoFile { path: PathBuf, what: &'static str },
    /// The plan is not one, or has no single meaning.
    #[error("the plan has errors")]
    Refused { plan: Source, diagnoses: Vec<Diagnosis> },
    /// Words on the command line have no meaning in this plan.
    #[error("some words have no meaning in this plan")]
    Words { diagnoses: Vec<Diagnosis> },
    /// A change of the plan that cannot be made.
    #[error("{}", edit_words(.0).0)]
    Edit(EditProblem),
    /// What would be written does not do what the plan says: nothing is written.
    #[error("what would be written does not do what the plan says")]
    Unproved { faults: Vec<String> },
    /// This machine lacks what is needed.
    #[error(transparent)]
    Machine(MachineProblem),
    /// The call asks for something that cannot be.
    #[error(transparent)]
    Call(CallProblem),
    /// The output could not be written.
    #[error("cannot write the result: {}", reason(.0))]
    Output(io::Error),
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        Self::Output(error)
    }
}

/// Whatever becomes a problem of the call is a failure, too.
macro_rules! of_the_call {
    ($($problem:ty),*) => {$(
        impl From<$problem> for Failure {
            fn from(problem: $problem) -> Self {
                Self::Call(problem.into())
            }
        }
    )*};
}
of_the_call!(CallProblem, Unknown, NeedsFile, Meaningless, Malformed, CableProblem);

impl From<MachineProblem> for Failure {
    fn from(problem: MachineProblem) -> Self {
        Self::Machine(problem)
    }
}

impl Failure {
    /// What to do about it; empty where each part of it has a help of its own.
    pub(crate) fn help(&self) -> String {
        let fixed = match self {
            Self::NoPlan => "name a plan with --plan FILE, or create one with `bastium new`",
            Self::File { .. } => "check the path and its permissions",
            Self::Exists { .. } => "add --force to overwrite it, or choose another path",
            Self::Protected { .. } => "add --force to write it anyway, or ask its owner",
            Self::NoFile { .. } => {
                "name a regular file, or omit the option and redirect standard output"
            }
            Self::Output(_) => "is the disk full?",
            Self::Edit(problem) => return edit_words(problem).1,
            Self::Call(problem) => return problem.help(),
            Self::Machine(problem) => problem.help(),
            Self::Refused { .. } | Self::Words { .. } | Self::Unproved { .. } => "",
        };
        fixed.to_owned()
    }

    /// What is wrong, in a sentence, and what to do.
    pub(crate) fn says_and_help(&self) -> (String, String) {
        (self.to_string(), self.help())
    }
}

/// Why a change cannot be made, and what to do.
fn edit_words(problem: &EditProblem) -> (String, String) {
    let write = |nearest: Option<&str>, otherwise: &str| match nearest {
        Some(name) => format!("did you mean `{name}`?"),
        None => otherwise.to_owned(),
    };
    match problem {
        EditProblem::NotToml => (
            "the plan is written in a way that cannot be edited automatically".to_owned(),
            "edit it by hand".to_owned(),
        ),
        EditProblem::NoTable { name } => (
            format!("`{name}` is not written as a table"),
            format!("write it like `[{name}.NAME]`, each with its keys below"),
        ),
        EditProblem::UnknownKind { kind, nearest } => (
            format!("a plan has no table `{kind}`"),
            write(
                *nearest,
                &format!("write one of {}, or of {}", listed(single()), listed(kinds())),
            ),
        ),
        EditProblem::AlreadyThere { kind, name } => (
            format!("{kind} `{name}` already exists"),
            format!("choose another name, or change it with `bastium set {kind} {name} …`"),
        ),
        EditProblem::NotThere { name, nearest } => (
            format!("there is no `{name}`"),
            write(nearest.as_deref(), "look at the plan for its name"),
        ),
        EditProblem::Used { kind, name, by } => (
            format!("{kind} `{name}` is still used by {}", by.join(", ")),
            "remove it there first".to_owned(),
        ),
        EditProblem::WhichKind { name, kinds } => (
            format!("`{name}` is a {}", kinds.join(" and a ")),
            format!("choose one with `--kind {}`", kinds.first().copied().unwrap_or_default()),
        ),
        EditProblem::NoGrid => (
            "the plan has no grid to change".to_owned(),
            "`bastium matrix --draft` proposes one from the trust levels".to_owned(),
        ),
        EditProblem::BadValue { key, value } => (
            format!("`{value}` is not a value of `{key}`"),
            "write a number, a text, or a list with commas".to_owned(),
        ),
    }
}

/// A path, as it can be shown.
pub(crate) fn shown(path: &Path) -> String {
    clean(&path.display().to_string()).into_owned()
}

/// The system's reason, without its number.
fn reason(error: &io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or_default().to_lowercase()
}

/// Whether there is an error among the diagnoses.
pub(crate) fn has_errors(diagnoses: &[Diagnosis]) -> bool {
    diagnoses.iter().any(|diagnosis| diagnosis.severity == Severity::Error)
}

fn listed(words: impl Iterator<Item = &'static str>) -> String {
    words.collect::<Vec<_>>().join(", ")
}
