//! `bastium man`: manual pages.

use crate::args::{Man, program};
use crate::failure::{Exit, Failure};
use crate::files;
use crate::session::Session;
use bastium_report::count;
use clap::Command;
use std::path::PathBuf;

pub(super) fn run(args: &Man, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let pages = pages()?;
    let path = |name: &str| -> PathBuf { args.to.join(name) };
    if let Some((name, _)) = pages.iter().find(|(name, _)| path(name).exists() && !args.force) {
        return Err(Failure::Exists { path: path(name) });
    }
    std::fs::create_dir_all(&args.to).map_err(|error| Failure::File {
        path: args.to.clone(),
        doing: "make the folder",
        error,
    })?;
    for (name, page) in &pages {
        files::put(&path(name), page, args.force, session)?;
    }
    session.remark(&format!("wrote {} to {}", count(pages.len(), "page"), args.to.display()));
    Ok(Exit::Fine)
}

/// A page for the program, and one for each of its commands: `bastium.1`, `bastium-ask.1`, ...
fn pages() -> Result<Vec<(String, Vec<u8>)>, Failure> {
    let program = program();
    let mut pages = vec![page(program.clone().disable_help_subcommand(true), "bastium")?];
    for command in program.get_subcommands().filter(|one| one.get_name() != "help") {
        let name = format!("bastium-{}", command.get_name());
        pages.push(page(command.clone().name(name.clone()), &name)?);
    }
    Ok(pages)
}

fn page(command: Command, name: &str) -> Result<(String, Vec<u8>), Failure> {
    let mut text = Vec::new();
    clap_mangen::Man::new(command).render(&mut text)?;
    Ok((format!("{name}.1"), text))
}
