//! The `bastium` program: thin. It parses arguments, calls the core, and shows what comes back.
//!
//! [`args`] holds what can be typed; `commands` has one file per command; `show` turns sheets and
//! diagnoses into text; `session` is what a command works with; `failure` is where errors become
//! words and exit codes; `progress` and `interrupt` are for users who wait, and for those who do not.

pub mod args;
mod commands;
mod failure;
mod files;
mod interrupt;
mod pager;
mod plans;
mod progress;
mod session;
mod show;

use args::{Cli, Options};
use clap::parser::ValueSource;
use clap::{ArgMatches, FromArgMatches};
use clap_complete::CompleteEnv;
use failure::{CallProblem, Exit, Failure};
use session::Session;
use std::io::{self, Write};
use std::process::ExitCode;

/// Runs the program with the arguments of the process.
pub fn run() -> ExitCode {
    // A shell that asks for completions gets them, and nothing is run.
    CompleteEnv::with_factory(args::program).var(commands::COMPLETION_ASKED_BY).complete();
    let typed = args::program().try_get_matches().and_then(|matches| {
        let cli = Cli::from_arg_matches(&matches)?;
        Ok((cli, plan_is_typed(&matches)))
    });
    let (mut cli, typed) = match typed {
        Ok(typed) => typed,
        Err(instead) => return reported(&instead).into(),
    };
    let empty = cli.options.plan.as_ref().is_some_and(|plan| plan.as_os_str().is_empty());
    if empty {
        cli.options.plan = None;
    }
    let mut session = Session::for_terminal(cli.options.clone());
    let done = match empty && typed {
        true => Err(CallProblem::EmptyPlan.into()),
        false => commands::run(&cli.command, &mut session),
    };
    let exit = done.unwrap_or_else(|failure| session.fail(&failure));
    session.finish(exit).into()
}

/// Whether the plan was named on the command line, and not by the environment.
fn plan_is_typed(matches: &ArgMatches) -> bool {
    let here = matches.value_source("plan") == Some(ValueSource::CommandLine);
    here || matches.subcommand().is_some_and(|(_, inner)| plan_is_typed(inner))
}

/// Tells what there is to say in place of a command: help, the version, or what is wrong with the call.
fn reported(instead: &clap::Error) -> Exit {
    let fine = instead.exit_code() == 0;
    match instead.print().and_then(|()| io::stdout().flush()) {
        Err(error) if fine && error.kind() != io::ErrorKind::BrokenPipe => {
            Session::for_terminal(Options::default()).fail(&Failure::from(error))
        }
        _ if fine => Exit::Fine,
        _ => Exit::Wrong,
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}
