//! Arguments of `verify`.

use super::{Day, Target};
use clap::Args;
use std::path::PathBuf;

/// Arguments of `verify`.
#[derive(Clone, Debug, Args)]
pub struct Verify {
    /// The gateway, as `ssh` takes it: HOST or USER@HOST; or netconf://HOST; or simulated:DIR [default: `gateway.reach` of the plan]
    #[arg(conflicts_with = "running")]
    pub host: Option<Target>,
    /// Take this instead of asking a gateway: what `nft list ruleset` printed there after the walk
    #[arg(long, value_name = "FILE")]
    pub running: Option<PathBuf>,
    /// The results of the walk [default: beside the plan]
    #[arg(long, value_name = "FILE")]
    pub results: Option<PathBuf>,
    /// Results of other people
    #[arg(long, value_name = "FILE")]
    pub with: Vec<PathBuf>,
    /// The gateway's log of packets, as text or as JSON of the journal
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,
    /// Write a page to keep, in Markdown, to this file
    #[arg(long, value_name = "FILE.md")]
    pub page: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "page")]
    pub force: bool,
    /// Take this address of a leased uplink for its own (netconf): if it has changed since, the lists differ
    #[arg(long, value_name = "UPLINK=ADDRESS/LENGTH")]
    pub uplink_address: Vec<String>,
    /// Let ssh use this configuration instead of yours
    #[arg(long, value_name = "FILE")]
    pub ssh_config: Option<PathBuf>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}
