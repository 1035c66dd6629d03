//! One file per command: take arguments, call the core, show the sheet.

mod addresses;
mod ask;
mod audit;
mod batch;
mod blocked;
mod change;
mod changed;
mod check;
mod checklist;
mod compare;
mod completions;
mod demo;
mod draw;
mod edit;
mod explain;
mod export;
mod import;
mod leased;
mod listen;
mod load;
mod man;
mod matrix;
mod new;
mod ports;
mod prove;
mod rehearse;
mod report;
mod rules;
mod running;
mod schema;
mod services;
mod simulate;
mod times;
mod typed;
mod verify;
mod view;
mod walk;
mod watch;
mod worksheet;

pub(crate) use completions::ASKED_BY as COMPLETION_ASKED_BY;

use crate::args::{Command, Format};
use crate::failure::{Exit, Failure, Meaningless};
use crate::session::Session;

/// Runs a command.
///
/// # Errors
/// When it could not do what it was asked to; what it found is no failure.
pub(crate) fn run(command: &Command, session: &mut Session<'_>) -> Result<Exit, Failure> {
    if let Some(what) = takes_time(command) {
        session.doing(what);
    }
    if session.options.format != Format::Text && has_one_format(command) {
        return Err(Meaningless::Format.into());
    }
    if prints_alone(command) {
        session.page();
    }
    match command {
        Command::New(args) => new::run(args, session),
        Command::Check(args) => check::run(args, session),
        Command::Explain(args) => explain::run(args, session),
        Command::Addresses(args) => addresses::run(args, session),
        Command::Add(args) => edit::add(args, session),
        Command::Set(args) => edit::set(args, session),
        Command::Remove(args) => edit::remove(args, session),
        Command::Rename(args) => edit::rename(args, session),
        Command::Change(args) => change::run(args, session),
        Command::Ports => ports::run(session),
        Command::Matrix(args) => matrix::run(args, session),
        Command::Draw(args) => draw::run(args, session),
        Command::View(args) => view::run(args, session),
        Command::Watch(args) => watch::run(args, session),
        Command::Rules(args) => rules::run(args, session),
        Command::Worksheet(args) => worksheet::run(args, session),
        Command::Prove(args) => prove::run(args, session),
        Command::Compare(args) => compare::run(args, session),
        Command::Ask(args) => ask::run(args, session),
        Command::Checklist(args) => checklist::run(args, session),
        Command::Walk(args) => walk::run(args, session),
        Command::Listen(args) => listen::run(args, session),
        Command::Rehearse(args) => rehearse::run(args, session),
        Command::Export(args) => export::run(args, session),
        Command::Load(args) => load::run(args, session),
        Command::Audit(args) => audit::run(args, session),
        Command::Verify(args) => verify::run(args, session),
        Command::Report(args) => report::run(args, session),
        Command::Simulate(args) => simulate::run(args, session),
        Command::Blocked(args) => blocked::run(args, session),
        Command::Services(args) => services::run(args, session),
        Command::Schema => schema::run(session),
        Command::Demo(args) => demo::run(args, session),
        Command::Completions { shell } => completions::run(*shell, session),
        Command::Man(args) => man::run(args, session),
    }
}

/// Whether a command only prints a result, so that a pager may show it.
fn prints_alone(command: &Command) -> bool {
    let shows = matches!(command, Command::Services(_) | Command::Schema);
    shows || takes_time(command).is_some()
}

/// Whether there is nothing to choose a format for.
fn has_one_format(command: &Command) -> bool {
    let writes = matches!(command, Command::New(_) | Command::Export(_) | Command::Man(_));
    let shows = matches!(
        command,
        Command::Simulate(_)
            | Command::Demo(_)
            | Command::Draw(_)
            | Command::Listen(_)
            | Command::Report(_)
            | Command::Schema
            | Command::View(_)
            | Command::Watch(_)
    );
    writes || shows || matches!(command, Command::Completions { .. })
}

/// What a command does that can take a while. Those that ask a person, wait for packets, or run again in namespaces
/// of their own, say for themselves when they begin something.
fn takes_time(command: &Command) -> Option<&'static str> {
    Some(match command {
        Command::Check(_) | Command::Explain(_) => "looking the plan through",
        Command::Addresses(_) | Command::Ports => "reading the plan",
        Command::Add(_)
        | Command::Set(_)
        | Command::Remove(_)
        | Command::Rename(_)
        | Command::Change(_) => "changing the plan",
        Command::Matrix(_) | Command::Rules(_) => "making the rules",
        Command::Prove(_) => "proving the rules",
        Command::Worksheet(_) => "making the worksheet, and reading it back",
        Command::Compare(_) => "comparing",
        Command::Ask(_) => "asking the plan",
        Command::Checklist(_) => "choosing the checks",
        Command::Export(_) => "making the file, and proving it",
        Command::Report(_) => "putting the report together",
        Command::Audit(_) => "holding the rules against the plan",
        Command::Verify(_) => "holding the gateway against the plan",
        Command::Blocked(_) => "reading the log",
        Command::New(_)
        | Command::Draw(_)
        | Command::Load(_)
        | Command::Simulate(_)
        | Command::Walk(_)
        | Command::Listen(_)
        | Command::Rehearse(_)
        | Command::Services(_)
        | Command::Schema
        | Command::Demo(_)
        | Command::Completions { .. }
        | Command::View(_)
        | Command::Watch(_)
        | Command::Man(_) => return None,
    })
}
