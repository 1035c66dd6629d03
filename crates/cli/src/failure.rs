//! Where errors become words and exit codes.

use crate::session::Session;
use crate::show::diagnostic;
use bastium_core::diagnosis::{Diagnosis, Severity};
use bastium_core::source::Source;
use bastium_export::clean;
use std::io;
use std::path::PathBuf;

/// How the program ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// 0: all is well.
    Fine,
    /// 1: the answer is no, or something was found.
    No,
    /// 2: the call is wrong, or the plan has no single meaning.
    Wrong,
}

impl Exit {
    /// The code for the shell.
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Fine => 0,
            Self::No => 1,
            Self::Wrong => 2,
        }
    }
}

/// Why a command could not do what it was asked to.
#[derive(Debug)]
pub(crate) enum Failure {
    /// There is no plan here.
    NoPlan,
    /// A file could not be read or written.
    File { path: PathBuf, doing: &'static str, error: io::Error },
    /// A file is there already.
    Exists { path: PathBuf },
    /// The plan is not one, or has no single meaning.
    Refused { source: Source, diagnoses: Vec<Diagnosis> },
    /// Words on the command line have no meaning in this plan.
    Words { diagnoses: Vec<Diagnosis> },
    /// The call asks for something that cannot be.
    Call { says: String, cure: String },
    /// Nobody reads the output any more.
    Closed,
    /// The output could not be written.
    Output(io::Error),
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Self {
        if error.kind() == io::ErrorKind::BrokenPipe { Self::Closed } else { Self::Output(error) }
    }
}

impl Failure {
    /// Tells the failure, and says how to end.
    pub(crate) fn show(&self, session: &mut Session<'_>) -> Exit {
        match self {
            Self::Closed => return Exit::Fine,
            Self::Refused { source, diagnoses } => {
                let rendered = diagnostic::render(source, diagnoses, session.width());
                session.say(&rendered);
            }
            Self::Words { diagnoses } => {
                for diagnosis in diagnoses {
                    session.complain(&diagnosis.says, &diagnosis.cure);
                }
            }
            other => {
                if matches!(other, Self::Output(_)) {
                    session.close_output();
                }
                let (says, cure) = other.words();
                session.complain(&says, &cure);
            }
        }
        Exit::Wrong
    }

    fn words(&self) -> (String, String) {
        match self {
            Self::NoPlan => (
                "there is no bastium.toml here or in a folder above".to_owned(),
                "name a plan with --plan FILE, or write a first one with `bastium new`".to_owned(),
            ),
            Self::File { path, doing, error } => (
                format!("cannot {doing} {}: {}", clean(&path.display().to_string()), reason(error)),
                "check the path and its permissions".to_owned(),
            ),
            Self::Exists { path } => (
                format!("{} is there already", clean(&path.display().to_string())),
                "add --force to write over it, or choose another place".to_owned(),
            ),
            Self::Output(error) => (
                format!("cannot write the result: {}", reason(error)),
                "is there room left?".to_owned(),
            ),
            Self::Call { says, cure } => (says.clone(), cure.clone()),
            Self::Refused { .. } | Self::Words { .. } | Self::Closed => Default::default(),
        }
    }
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
