//! `bastium completions`: completion scripts for shells.

use crate::failure::{Exit, Failure, MachineProblem};
use crate::session::Session;
use clap_complete::Shell;
use clap_complete::env::Shells;

/// What a shell sets when it asks the program for completions. It is our own: under a common name, a variable of
/// somebody else's would keep the program from running at all.
pub(crate) const ASKED_BY: &str = "BASTIUM_COMPLETE";

pub(super) fn run(shell: Shell, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let shells = Shells::builtins();
    let Some(completer) = shells.completer(&shell.to_string()) else {
        return Err(MachineProblem::Completion(shell).into());
    };
    let mut script = Vec::new();
    completer.write_registration(ASKED_BY, "bastium", "bastium", "bastium", &mut script)?;
    session.print(&String::from_utf8_lossy(&script))?;
    Ok(Exit::Fine)
}
