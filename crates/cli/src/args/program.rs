//! The complete command line, assembled.

use super::candidates;
use super::{Cli, examples};
use clap::builder::StyledStr;
use clap::{Command, CommandFactory};
use std::fmt::Write as _;

/// The options that every command has. They are explained once, in the help of the program itself.
pub const OPTIONS_OF_EVERY_COMMAND: [&str; 6] =
    ["plan", "format", "color", "quiet", "verbose", "no_pager"];

/// The command line as it is parsed, completed and documented: each command with its examples, and without the
/// options of every command, which would be most of its help.
pub fn program() -> Command {
    let mut program = Cli::command();
    // Only then do the commands have the options of every command.
    program.build();
    program.mut_subcommands(|command| {
        let name = command.get_name().to_owned();
        let command = command.mut_args(|arg| {
            let everywhere = OPTIONS_OF_EVERY_COMMAND.contains(&arg.get_id().as_str());
            let arg = if everywhere { arg.hide(true) } else { arg };
            match candidates::of(&name, arg.get_id().as_str()) {
                Some(candidates) => arg.add(candidates),
                None => arg,
            }
        });
        match name.as_str() {
            "help" => command,
            _ => command.after_help(after(&name)),
        }
    })
}

/// What stands at the end of a command's help.
fn after(name: &str) -> StyledStr {
    let mut text = String::new();
    let all = examples(name);
    if !all.is_empty() {
        text.push_str("Examples:\n");
        for (what, words) in all {
            let _ = writeln!(text, "  # {what}\n  bastium {words}");
        }
        text.push('\n');
    }
    text.push_str("Options of every command (--plan, --format, ...): bastium --help");
    text.into()
}
