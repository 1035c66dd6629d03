//! One file per command: take arguments, call the core, show the sheet.

mod addresses;
mod answer;
mod ask;
mod audit;
mod batch;
mod blocked;
mod check;
mod checklist;
mod compare;
mod completions;
mod demo;
mod edit;
mod explain;
mod export;
mod import;
mod matrix;
mod new;
mod ports;
mod prove;
mod rehearse;
mod rules;
mod schema;
mod services;
mod walk;

use crate::args::Command;
use crate::failure::{Exit, Failure};
use crate::session::Session;

/// Runs a command.
///
/// # Errors
/// When it could not do what it was asked to; what it found is no failure.
pub(crate) fn run(command: &Command, session: &mut Session<'_>) -> Result<Exit, Failure> {
    match command {
        Command::New(args) => new::run(args, session),
        Command::Check(args) => check::run(args, session),
        Command::Explain(args) => explain::run(args, session),
        Command::Addresses(args) => addresses::run(args, session),
        Command::Add(args) => edit::add(args, session),
        Command::Set(args) => edit::set(args, session),
        Command::Remove(args) => edit::remove(args, session),
        Command::Rename(args) => edit::rename(args, session),
        Command::Ports => ports::run(session),
        Command::Matrix(args) => matrix::run(args, session),
        Command::Rules(args) => rules::run(args, session),
        Command::Prove(args) => prove::run(args, session),
        Command::Compare(args) => compare::run(args, session),
        Command::Ask(args) => ask::run(args, session),
        Command::Checklist(args) => checklist::run(args, session),
        Command::Walk(args) => walk::run(args, session),
        Command::Answer(args) => answer::run(args, session),
        Command::Rehearse(args) => rehearse::run(args, session),
        Command::Export(args) => export::run(args, session),
        Command::Audit(args) => audit::run(args, session),
        Command::Blocked(args) => blocked::run(args, session),
        Command::Services(args) => services::run(args, session),
        Command::Schema => schema::run(session),
        Command::Demo(args) => demo::run(args, session),
        Command::Completions { shell } => completions::run(*shell, session),
    }
}

/// `1 rule`, `2 rules`.
fn count(number: usize, thing: &str) -> String {
    let plural = if number == 1 { "" } else { "s" };
    format!("{number} {thing}{plural}")
}
