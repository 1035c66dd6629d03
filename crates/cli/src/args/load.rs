//! Arguments of `load`.

use super::Day;
use bastium_core::plan::{NotAnSshHost, Reach};
use bastium_wire::LoadId;
use clap::{ArgGroup, Args, ValueEnum};
use jiff::SignedDuration;
use std::path::PathBuf;
use std::str::FromStr;

/// Arguments of `load`.
#[derive(Clone, Debug, Args)]
#[command(group = ArgGroup::new("instead").args(["confirm", "back", "status", "dry_run"]))]
pub struct Load {
    /// The gateway, as `ssh` takes it: HOST or USER@HOST; or netconf://HOST; or simulated:DIR [default: `gateway.reach` of the plan]
    pub host: Option<Target>,
    /// Try everything on the gateway, and load nothing
    #[arg(long, short = 'n')]
    pub dry_run: bool,
    /// Bring the old rules back after this time, unless the load is confirmed: from 30s to 1h
    #[arg(long, value_name = "TIME", default_value = "5m", value_parser = return_after)]
    pub return_after: u32,
    /// Confirm without asking if the gateway can still be reached, and its rules, read back, do what the plan says
    #[arg(long, conflicts_with = "instead")]
    pub yes_if_verified: bool,
    /// Do not ask: leave the load to wait for --confirm
    #[arg(long, conflicts_with_all = ["instead", "yes_if_verified"])]
    pub later: bool,
    /// Keep the rules of a load that waits for it
    #[arg(long, value_name = "ID")]
    pub confirm: Option<LoadId>,
    /// Bring the old rules back now, or give up a load that has not loaded anything
    #[arg(long = "return", value_name = "ID")]
    pub back: Option<LoadId>,
    /// Show who is loading, how far it is, and which states the gateway keeps
    #[arg(long)]
    pub status: bool,
    /// Once the load is confirmed, cut the connections of TCP and UDP that the plan lets begin at no time
    #[arg(long)]
    pub cut: bool,
    /// Write the files for the interfaces, too, once the load is confirmed; nothing reads them before the next start
    #[arg(long, value_enum, value_name = "KIND")]
    pub interfaces: Option<InterfaceFilesFor>,
    /// Take this address of a leased uplink for its own, as it is at the moment (netconf)
    #[arg(long, value_name = "UPLINK=ADDRESS/LENGTH")]
    pub uplink_address: Vec<String>,
    /// Load even if the plan does not let you manage the gateway from where you are
    #[arg(long)]
    pub although_shut_out: bool,
    /// Let ssh use this configuration instead of yours
    #[arg(long, value_name = "FILE")]
    pub ssh_config: Option<PathBuf>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Which program sets up the interfaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum InterfaceFilesFor {
    /// systemd-networkd
    Networkd,
    /// ifupdown
    Ifupdown,
}

/// Where rules are loaded.
#[derive(Clone, Debug)]
pub enum Target {
    /// A gateway by wire.
    Wire(Reach),
    /// A simulated one, in a folder of this machine.
    Simulated(PathBuf),
}

impl FromStr for Target {
    type Err = NotAnSshHost;

    fn from_str(text: &str) -> Result<Self, NotAnSshHost> {
        match text.strip_prefix("simulated:") {
            Some(folder) => Ok(Self::Simulated(PathBuf::from(folder))),
            None => text.parse().map(Self::Wire),
        }
    }
}

/// A time in whole seconds, such as `90s` or `5m`.
pub(super) fn seconds(text: &str) -> Result<u32, String> {
    let time: SignedDuration =
        text.parse().map_err(|_| "write a time like 90s or 5m".to_owned())?;
    u32::try_from(time.as_secs()).map_err(|_| "write a time like 90s or 5m".to_owned())
}

fn return_after(text: &str) -> Result<u32, String> {
    match seconds(text)? {
        seconds @ 30..=3600 => Ok(seconds),
        _ => Err("the time is from 30s to 1h".to_owned()),
    }
}
