//! What can be typed. The doc comments are the help texts.

mod checklist;
mod gateway;

pub use checklist::{Answer, Checklist, SystemName, Walk};
pub use gateway::{Audit, Blocked, Export, ExportFormat, Rehearse, SheetName};

use bastium_core::plan::Form;
use clap::builder::{OsStringValueParser, TypedValueParser};
use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::Shell;
use jiff::civil::Date;
use std::path::PathBuf;

/// Plan the networks of a small site, decide who may talk to whom, and prove it
///
/// One plan file holds the site: networks, zones, the matrix and its exceptions. From it come the
/// addressing sheet, the ordered rules for the gateway, and the checklist to test them with.
///
/// Exit codes: 0 fine; 1 the answer is no, or something was found; 2 the call is wrong, or the plan
/// has no single meaning; 3 this machine cannot do it.
#[derive(Clone, Debug, Parser)]
#[command(name = "bastium", version, max_term_width = 100, disable_help_subcommand = true)]
pub struct Cli {
    /// What to do
    #[command(subcommand)]
    pub command: Command,
    /// What holds for every command
    #[command(flatten)]
    pub options: Options,
}

/// Options of every command.
#[derive(Clone, Debug, Default, Args)]
pub struct Options {
    /// Read this plan, or `-` for standard input [default: bastium.toml here or in a folder above]
    #[arg(long, global = true, value_name = "FILE", env = "BASTIUM_PLAN", value_parser = any_path())]
    pub plan: Option<PathBuf>,
    /// Print text for people, or data for programs
    #[arg(long, global = true, value_enum, default_value_t)]
    pub format: Format,
    /// Use colour
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN")]
    pub color: Color,
    /// Print nothing but the result and errors
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Tell which plan is read, and how much is in it
    #[arg(long, short, global = true, conflicts_with = "quiet")]
    pub verbose: bool,
}

/// Takes an empty path, too: a variable of the environment that is empty counts as none.
fn any_path() -> impl TypedValueParser<Value = PathBuf> {
    OsStringValueParser::new().map(PathBuf::from)
}

/// How a result is printed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people
    #[default]
    Text,
    /// One JSON object
    Json,
    /// Comma-separated values (RFC 4180)
    Csv,
    /// Markdown tables
    Md,
}

/// When to use colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set
    #[default]
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// The day that a plan is compiled for.
#[derive(Clone, Copy, Debug, Default, Args)]
pub struct Day {
    /// Take the plan as it is on this day [default: today, in the site's time zone]
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub day: Option<Date>,
}

/// The commands.
#[derive(Clone, Debug, Subcommand)]
pub enum Command {
    /// Write a first plan, with remarks
    New(New),
    /// Find mistakes and risks, each with its line, its reason and its cure
    Check(Check),
    /// Add an entry to the plan, or many from a table
    Add(Add),
    /// Set keys of an entry, or a cell of the matrix
    Set(Set),
    /// Remove an entry that nothing names any more
    Remove(Remove),
    /// Rename an entry, here and wherever it is named
    Rename(Rename),
    /// Tell more about an error or a finding, by the name in square brackets
    Explain(Explain),
    /// Show the addressing sheet: VLANs, subnets, gateways, pools, room left
    Addresses(Addresses),
    /// Show what to set on each gateway port, switch port and Wi-Fi name
    Ports,
    /// Show who may talk to whom: the whole matrix, or what decides one cell
    Matrix(Matrix),
    /// Show the ordered rules for the gateway
    Rules(Rules),
    /// Prove that the rules do what the plan means, with every packet there can be
    Prove(Prove),
    /// Show what a change does: rules that come, go, move or change, and traffic that opens or closes
    Compare(Compare),
    /// Ask whether something gets through, and what decides it
    Ask(Ask),
    /// List the tests to make: where to stand, what to type, what to expect
    Checklist(Checklist),
    /// Go through the checklist: with a person, or by itself from where this machine stands
    Walk(Walk),
    /// Listen on ports at the other end of a check, and tell who gets through
    Answer(Answer),
    /// Build the site in the Linux kernel, load the rules, and make the whole checklist with real packets
    Rehearse(Rehearse),
    /// Write the plan out for a gateway or for people: nftables, dnsmasq, acl-json, csv, md, xlsx, json
    Export(Export),
    /// Look at a gateway's rule list as it is, and hold it against the plan
    Audit(Audit),
    /// Tell what a gateway's log says was blocked, by which rule, and what would let it through
    Blocked(Blocked),
    /// Find services by word, port or range: what they are, what they are for
    Services(Services),
    /// Print the JSON Schema of the plan file, for editors
    Schema,
    /// Walk through the whole job on a demo plan
    Demo(Demo),
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: Shell,
    },
}

/// Arguments of `new`.
#[derive(Clone, Debug, Args)]
pub struct New {
    /// The name of the site
    pub name: Option<String>,
    /// Begin with this plan [default: bare]
    #[arg(long, value_enum)]
    pub from: Option<Example>,
    /// Let the subnets of the bare plan lie in this private /16
    #[arg(long, value_name = "PREFIX")]
    pub space: Option<String>,
    /// Write over a plan that is there
    #[arg(long)]
    pub force: bool,
}

/// The plans that come with the program.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Example {
    /// Two networks: the smallest plan that is whole
    #[default]
    Bare,
    /// A veterinary clinic: eleven networks, with everything in use
    Clinic,
    /// A farm: a home and a business under one roof
    Farm,
}

/// Arguments of `check`.
#[derive(Clone, Debug, Args)]
pub struct Check {
    /// Print the findings for code-review tools, as SARIF 2.1.0
    #[arg(long, conflicts_with = "format")]
    pub sarif: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// How a plan that is changed is written.
#[derive(Clone, Copy, Debug, Default, Args)]
pub struct Writing {
    /// Show what would change, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Write even where the file is protected from it
    #[arg(long)]
    pub force: bool,
}

/// Arguments of `add`.
#[derive(Clone, Debug, Args)]
pub struct Add {
    /// What it is: network, zone, host, group, service, exception, ...
    pub kind: String,
    /// Its name
    #[arg(conflicts_with = "table")]
    pub name: Option<String>,
    /// Its keys, like vlan=24 or service=ssh,https
    #[arg(value_name = "KEY=VALUE")]
    pub settings: Vec<String>,
    /// Open the matrix for a new zone as trust says; without this it is blocked everywhere
    #[arg(long)]
    pub open_by_trust: bool,
    /// Add one for each row of this table (.csv or .xlsx), by the headings of its columns
    #[arg(long, value_name = "FILE")]
    pub table: Option<PathBuf>,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `set`.
#[derive(Clone, Debug, Args)]
pub struct Set {
    /// What it is: network, host, ..., or site, gateway, gateway.manage, matrix, or cell
    pub kind: String,
    /// Its name and keys, like `desks vlan=24`; for a cell, FROM TO ACTION; `key=` takes a key out
    #[arg(required = true, value_name = "NAME KEY=VALUE")]
    pub words: Vec<String>,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `remove`.
#[derive(Clone, Debug, Args)]
pub struct Remove {
    /// What it is: network, host, exception, ...
    pub kind: String,
    /// Its name
    pub name: String,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `rename`.
#[derive(Clone, Debug, Args)]
pub struct Rename {
    /// The name that it has
    pub old: String,
    /// The name that it gets
    pub new: String,
    /// What it is, where several things have that name
    #[arg(long)]
    pub kind: Option<String>,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `addresses`.
#[derive(Clone, Debug, Args)]
pub struct Addresses {
    /// Show what is free of the site's space as well
    #[arg(long)]
    pub free: bool,
    /// Write the subnets that were carved into the plan
    #[arg(long)]
    pub pin: bool,
    /// With --pin: show what would change, and write nothing
    #[arg(long, requires = "pin")]
    pub dry_run: bool,
    /// With --pin: write even where the file is protected from it
    #[arg(long, requires = "pin")]
    pub force: bool,
}

/// Arguments of `services`.
#[derive(Clone, Debug, Args)]
pub struct Services {
    /// A word of the name or of what it is for, or a port like tcp/443, 5060 or 5000-5010
    pub word: Option<String>,
}

/// Arguments of `explain`.
#[derive(Clone, Debug, Args)]
pub struct Explain {
    /// The name of an error or finding [default: all of them]
    pub name: Option<String>,
}

/// Arguments of `matrix`.
#[derive(Clone, Debug, Args)]
pub struct Matrix {
    /// Show one cell: from this zone ...
    #[arg(requires = "to")]
    pub from: Option<String>,
    /// ... to this zone
    pub to: Option<String>,
    /// Show the matrix that would follow from trust alone
    #[arg(long, conflicts_with = "from")]
    pub draft: bool,
    /// With --draft: write it into the plan
    #[arg(long, requires = "draft")]
    pub write: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `rules`.
#[derive(Clone, Debug, Args)]
pub struct Rules {
    /// Show only rules for packets from this place ...
    #[arg(requires = "to")]
    pub from: Option<String>,
    /// ... to this place
    pub to: Option<String>,
    /// Show only rules that have this word in them
    #[arg(long, value_name = "WORD")]
    pub find: Option<String>,
    /// Compile for this form [default: the plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// The forms in which gateways take rules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum FormName {
    /// One list for all routed traffic, one for traffic to the gateway
    OneList,
    /// A list for every pair of zones
    PerPair,
    /// A stateless list for each interface and direction
    PerInterface,
    /// Ranks by trust, and rules for what differs
    Ranked,
}

impl From<FormName> for Form {
    fn from(name: FormName) -> Self {
        match name {
            FormName::OneList => Self::OneList,
            FormName::PerPair => Self::PerPair,
            FormName::PerInterface => Self::PerInterface,
            FormName::Ranked => Self::Ranked,
        }
    }
}

/// Arguments of `prove`.
#[derive(Clone, Debug, Args)]
pub struct Prove {
    /// Prove the rules of this form [default: the plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// Prove the rules of every form
    #[arg(long, conflicts_with = "form")]
    pub all_forms: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `compare`.
#[derive(Clone, Debug, Args)]
pub struct Compare {
    /// The plan or rule list as it was [default: the plan as it was last committed in git]
    #[arg(requires = "new")]
    pub old: Option<PathBuf>,
    /// The plan or rule list as it is now [default: the plan]
    pub new: Option<PathBuf>,
    /// Compare with the plan as it was in this commit
    #[arg(long, value_name = "COMMIT", conflicts_with = "old", default_value = "HEAD")]
    pub since: String,
    /// Compile the rules of both for this form [default: the new plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `ask`.
#[derive(Clone, Debug, Args)]
pub struct Ask {
    /// From where: a name, an address, or an expression like "any - printers"
    #[arg(required_unless_present = "batch")]
    pub from: Option<String>,
    /// To where
    #[arg(required_unless_present = "batch")]
    pub to: Option<String>,
    /// Which services: names, or literals like tcp/443 and icmp/echo
    #[arg(default_value = "any")]
    pub service: Vec<String>,
    /// Answer every question of this table (- for standard input): columns from, to, service, at, expect
    #[arg(long, value_name = "FILE.csv", conflicts_with_all = ["from", "to", "at"])]
    pub batch: Option<PathBuf>,
    /// At that time of the week, like "tue 21:30", or 21:30 for the day [default: at any time]
    #[arg(long, value_name = "WHEN")]
    pub at: Option<String>,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `demo`.
#[derive(Clone, Debug, Args)]
pub struct Demo {
    /// Write the plan into this folder
    #[arg(long, value_name = "DIR", default_value = "bastium-demo")]
    pub dir: PathBuf,
    /// Write over a changed plan that is there
    #[arg(long)]
    pub force: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}
