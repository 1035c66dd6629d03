//! `bastium completions`

use crate::args::Cli;
use crate::failure::{Exit, Failure};
use crate::session::Session;
use clap::CommandFactory;
use clap_complete::Shell;

pub(super) fn run(shell: Shell, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "bastium", &mut script);
    session.print(&String::from_utf8_lossy(&script))?;
    Ok(Exit::Fine)
}
