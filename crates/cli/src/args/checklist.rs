//! Arguments of `checklist` and `walk`.

use super::Day;
use bastium_report::sheets::System;
use clap::{Args, ValueEnum};
use jiff::SignedDuration;
use std::net::IpAddr;
use std::path::PathBuf;

/// Arguments of `checklist`.
#[derive(Clone, Debug, Args)]
pub struct Checklist {
    /// Show only the checks from this network or host
    #[arg(long = "from", value_name = "NETWORK")]
    pub stand: Option<String>,
    /// Everything that can be tried, not only what one person carries
    #[arg(long)]
    pub full: bool,
    /// Of everything, keep the best checks that fit into this time, walking included: `30m`, `1h 15m`
    #[arg(long, value_name = "TIME")]
    pub within: Option<SignedDuration>,
    /// Of everything, keep the best checks, this many
    #[arg(long, value_name = "NUMBER", conflicts_with = "within")]
    pub at_most: Option<usize>,
    /// Show what the checklist catches, by kind of mistake, instead of the checklist
    #[arg(long, conflicts_with_all = ["stand", "page"])]
    pub strength: bool,
    /// Write a page to tick off, which works offline, to this file
    #[arg(long, value_name = "FILE.html")]
    pub page: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "page")]
    pub force: bool,
    /// Show the commands for this operating system
    #[arg(long, value_enum, default_value_t)]
    pub system: SystemName,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `walk`.
#[derive(Clone, Debug, Args)]
pub struct Walk {
    /// Run automatically what can be tested from this machine
    #[arg(long, conflicts_with_all = ["status", "junit"])]
    pub run: bool,
    /// Only show the results so far
    #[arg(long)]
    pub status: bool,
    /// Repeat only what failed, and what a change of the plan has affected since
    #[arg(long, conflicts_with_all = ["status", "all"])]
    pub retest: bool,
    /// Repeat checks that have passed, too
    #[arg(long)]
    pub all: bool,
    /// Everything that can be tried, not only what one person carries
    #[arg(long)]
    pub full: bool,
    /// Only the checks from this network or host
    #[arg(long = "from", value_name = "NETWORK")]
    pub stand: Option<String>,
    /// Who runs the checks [default: the user's name]
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Append the results to this file [default: PLAN.walk.jsonl beside the plan]
    #[arg(long, value_name = "FILE")]
    pub results: Option<PathBuf>,
    /// Include the results in this file as well
    #[arg(long, value_name = "FILE")]
    pub with: Vec<PathBuf>,
    /// How long to wait for each answer
    #[arg(long, value_name = "TIME", default_value = "1s")]
    pub patience: SignedDuration,
    /// A server on the internet that answers, where the plan names none
    #[arg(long, value_name = "NAME")]
    pub server: Option<String>,
    /// This machine is outside, in none of the site's networks
    #[arg(long, requires = "run")]
    pub outside_site: bool,
    /// Stand in every network at once, by this interface, which carries all of them tagged: the whole list, then a sweep
    #[arg(long, value_name = "IFACE", conflicts_with_all = ["run", "status", "junit", "stand", "retest"])]
    pub trunk: Option<String>,
    /// Reach this network by an interface of its own, untagged
    #[arg(long, value_name = "NETWORK=IFACE", conflicts_with_all = ["run", "status", "junit", "stand", "retest"])]
    pub interface: Vec<String>,
    /// Stand outside as well, by this interface on a cable to the gateway's uplink port, and to nothing else: on the bench.
    /// Where the uplink has a leased address, the gateway is leased one there
    #[arg(long, value_name = "[UPLINK=]IFACE")]
    pub outside: Vec<String>,
    /// Take the address of this host while it is not there; `*` for each that does not answer
    #[arg(long, value_name = "HOST", value_delimiter = ',')]
    pub stand_in: Vec<String>,
    /// How many conversations to begin a second [default: 200]
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub rate: Option<u32>,
    /// Use this hardware address in all networks, not each interface's own
    #[arg(long, value_name = "MAC")]
    pub mac: Option<String>,
    /// Take an interface that this machine itself uses
    #[arg(long)]
    pub take: bool,
    /// Make the list, and no sweep
    #[arg(long)]
    pub no_sweep: bool,
    /// Write the results as JUnit XML to this file
    #[arg(long, value_name = "FILE.xml")]
    pub junit: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "junit")]
    pub force: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `listen`.
#[derive(Clone, Debug, Args)]
pub struct Listen {
    /// Ports to listen on: `tcp/443`, `udp/5000-5003`
    #[arg(required = true, value_name = "PORT")]
    pub ports: Vec<String>,
    /// Listen on this address only
    #[arg(long, value_name = "ADDRESS")]
    pub at: Option<IpAddr>,
    /// Stop after this time: `10m`
    #[arg(long = "for", value_name = "TIME")]
    pub lasting: Option<SignedDuration>,
}

impl From<SystemName> for System {
    fn from(name: SystemName) -> Self {
        match name {
            SystemName::Linux => Self::Linux,
            SystemName::Macos => Self::Macos,
            SystemName::Windows => Self::Windows,
        }
    }
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
