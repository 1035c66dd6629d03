//! Arguments of commands about a gateway: writing files for it, trying them, examining what it does.

use super::{Day, FormName};
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Arguments of `rehearse`.
#[derive(Clone, Debug, Args)]
pub struct Rehearse {
    /// Send no packets: evaluate the compiled rules in memory instead
    #[arg(long)]
    pub on_paper: bool,
    /// Load this file for nft instead of the exported one
    #[arg(long, value_name = "FILE.nft", conflicts_with = "on_paper")]
    pub rules: Option<PathBuf>,
    /// Show every check, not only failures
    #[arg(long)]
    pub all: bool,
    /// Sweep as well: every pair of networks and the gateway, by everything that anyone could have left open
    #[arg(long, conflicts_with = "on_paper")]
    pub sweep: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `worksheet`.
#[derive(Clone, Debug, Args)]
pub struct Worksheet {
    /// Show only this step, by its number or a word of its title
    pub step: Option<String>,
    /// Show what to type into a gateway that has the rules of this plan: a file, or a commit of git
    #[arg(long, value_name = "OLD")]
    pub since: Option<PathBuf>,
    /// Show what to type into a gateway that has the rules of this file: a worksheet or table of rules that Bastium wrote, or
    /// rules that somebody else wrote, as `bastium audit` reads them
    #[arg(long, value_name = "RULES", conflicts_with = "since")]
    pub since_gateway: Option<PathBuf>,
    /// Write a page to tick off, which works offline, to this file
    #[arg(long, value_name = "FILE.html")]
    pub page: Option<PathBuf>,
    /// Overwrite that file
    #[arg(long, requires = "page")]
    pub force: bool,
    /// Compile the rules for this form [default: the plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `audit`.
#[derive(Clone, Debug, Args)]
pub struct Audit {
    /// The output of `nft list ruleset`, as text or JSON (`-j`), lists of RFC 8519 in JSON, a table (.csv, .xlsx), or the
    /// worksheet or rules that `bastium` wrote (.csv, .xlsx); `-` for standard input
    #[arg(value_name = "RULES")]
    pub rules: PathBuf,
    /// Review the list alone, without a plan
    #[arg(long)]
    pub alone: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `blocked`.
#[derive(Clone, Debug, Args)]
pub struct Blocked {
    /// The kernel's packet log: plain, syslog or the journal's JSON; `-` for standard input
    #[arg(value_name = "LOG")]
    pub log: PathBuf,
    /// Show noise as well
    #[arg(long)]
    pub all: bool,
    /// Show what this many of the suggested exceptions would open
    #[arg(long, value_name = "NUMBER", default_value_t = 10)]
    pub offers: usize,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `export`.
#[derive(Clone, Debug, Args)]
pub struct Export {
    /// What to export
    #[arg(value_enum, value_name = "FORMAT")]
    pub what: ExportFormat,
    /// Write to this file, or for csv to this folder [default: standard output]
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Overwrite existing files
    #[arg(long, requires = "to")]
    pub force: bool,
    /// Only this sheet (csv, md, xlsx, json)
    #[arg(long, value_enum)]
    pub sheet: Option<SheetName>,
    /// Take this address of a leased uplink for its own, as it is at the moment; the lists hold only as long as it does
    #[arg(long, value_name = "UPLINK=ADDRESS/LENGTH")]
    pub uplink_address: Vec<String>,
    /// Compile for this form [default: per-pair for nftables and boot, else the plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// What a plan can be exported as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ExportFormat {
    /// The rules, as a file for `nft -f` on a Linux gateway
    Nftables,
    /// A folder with which a Linux gateway starts: the rules, closed until they are loaded, and the unit that loads them
    Boot,
    /// Leases, fixed addresses, local names and domain sets, as a file for dnsmasq
    Dnsmasq,
    /// Interfaces, addresses and routes of a Linux gateway, as a folder of files for systemd-networkd
    Networkd,
    /// The same, as a file for ifupdown
    Ifupdown,
    /// The rules as access control lists (RFC 8519) in JSON (RFC 7951)
    AclJson,
    /// Comma-separated values (RFC 4180): one sheet, or a folder with all
    Csv,
    /// One Markdown document
    Md,
    /// One workbook with a table for each sheet (Office Open XML)
    Xlsx,
    /// One JSON object with all sheets
    Json,
}

/// The sheets that can be exported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SheetName {
    /// Networks, subnets, pools and fixed addresses
    Addresses,
    /// Groups with their members, domains, hours
    Groups,
    /// The services that the plan names
    Services,
    /// Settings of each port and Wi-Fi name
    Ports,
    /// Who may talk to whom
    Matrix,
    /// The ordered rules
    Rules,
    /// Everything to type, step by step
    Worksheet,
    /// The tests to make
    Checklist,
}
