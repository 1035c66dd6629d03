//! The `bastium` program: thin. It parses arguments, calls the core, and shows what comes back.
//!
//! [`args`] holds what can be typed; `commands` has one file per command; `show` turns sheets and
//! diagnoses into text; `session` is what a command works with; `failure` is where errors become
//! words and exit codes.

pub mod args;
mod commands;
mod failure;
mod plans;
mod session;
mod show;

use args::Cli;
use clap::Parser;
use failure::Exit;
use session::Session;
use std::process::ExitCode;

/// Runs the program with the arguments of the process.
pub fn run() -> ExitCode {
    let cli = Cli::parse();
    let mut session = Session::for_terminal(cli.options.clone());
    let exit = match commands::run(&cli.command, &mut session) {
        Ok(exit) => exit,
        Err(failure) => failure.show(&mut session),
    };
    session.finish(exit).into()
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
