//! What can be typed for the checklist, and for going through it.

use super::Day;
use clap::{Args, ValueEnum};
use jiff::SignedDuration;
use std::net::IpAddr;
use std::path::PathBuf;

/// Arguments of `checklist`.
#[derive(Clone, Debug, Args)]
pub struct Checklist {
    /// Show only what is done at this place
    #[arg(long, value_name = "PLACE")]
    pub stand: Option<String>,
    /// Keep the best that fits this time, moves included: `30m`, `1h 15m`
    #[arg(long, value_name = "TIME")]
    pub within: Option<SignedDuration>,
    /// Keep the best so many checks
    #[arg(long, value_name = "NUMBER", conflicts_with = "within")]
    pub at_most: Option<usize>,
    /// Show what the list catches, by kind of mistake, in place of the list
    #[arg(long, conflicts_with_all = ["stand", "page"])]
    pub strength: bool,
    /// Write the list as a page to tick off, which needs no network, to this file
    #[arg(long, value_name = "FILE.html")]
    pub page: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "page")]
    pub force: bool,
    /// Show the commands of this system
    #[arg(long, value_enum, default_value_t)]
    pub system: SystemName,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `walk`.
#[derive(Clone, Debug, Args)]
pub struct Walk {
    /// Try by itself what can be tried from where this machine stands
    #[arg(long, conflicts_with_all = ["status", "junit"])]
    pub run: bool,
    /// Only show what has come of it so far
    #[arg(long)]
    pub status: bool,
    /// Only what failed, and what a change of the plan has touched since it was tried
    #[arg(long, conflicts_with_all = ["status", "all"])]
    pub retest: bool,
    /// Also what has passed already
    #[arg(long)]
    pub all: bool,
    /// Only what is done at this place
    #[arg(long, value_name = "PLACE")]
    pub stand: Option<String>,
    /// Who makes the walk [default: the name of the user]
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Add the results to this file [default: PLAN.walk.jsonl beside the plan]
    #[arg(long, value_name = "FILE")]
    pub results: Option<PathBuf>,
    /// Count the results of others in as well
    #[arg(long, value_name = "FILE")]
    pub with: Vec<PathBuf>,
    /// How long to wait for an answer
    #[arg(long, value_name = "TIME", default_value = "1s")]
    pub patience: SignedDuration,
    /// A server outside that answers what is allowed, where the plan names none
    #[arg(long, value_name = "NAME")]
    pub server: Option<String>,
    /// This machine stands outside, on no network of the site
    #[arg(long, requires = "run")]
    pub outside_site: bool,
    /// Write the results as JUnit's XML to this file
    #[arg(long, value_name = "FILE.xml")]
    pub junit: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "junit")]
    pub force: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `answer`.
#[derive(Clone, Debug, Args)]
pub struct Answer {
    /// What to listen on: `tcp/443`, `udp/5000-5003`
    #[arg(required = true, value_name = "PORT")]
    pub ports: Vec<String>,
    /// Listen at this address of the machine alone
    #[arg(long, value_name = "ADDRESS")]
    pub at: Option<IpAddr>,
    /// Stop by itself after this time: `10m`
    #[arg(long = "for", value_name = "TIME")]
    pub lasting: Option<SignedDuration>,
}

/// The systems that commands are shown for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum SystemName {
    /// Linux
    #[default]
    Linux,
    /// macOS
    Macos,
    /// Windows, in PowerShell
    Windows,
}
