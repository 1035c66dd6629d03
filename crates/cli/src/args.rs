//! The command line: arguments of every command. The doc comments are the help texts.

mod candidates;
mod checklist;
mod draw;
mod examples;
mod gateway;
mod load;
mod program;
mod report;
mod rules;
mod simulate;
mod verify;
mod view;

pub use examples::examples;
pub use program::{OPTIONS_OF_EVERY_COMMAND, program};

pub use checklist::{Checklist, Listen, SystemName, Walk};
pub use draw::{Draw, PictureName, ThemeName};
pub use gateway::{Audit, Blocked, Export, ExportFormat, Rehearse, SheetName, Worksheet};
pub use load::{InterfaceFilesFor, Load, Target};
pub use report::{Report, Whom};
pub use rules::Rules;
pub use simulate::{FaultName, Simulate, Simulated};
pub use verify::Verify;
pub use view::{View, Watch};

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
/// Exit codes: 0 fine; 1 the answer is no, or something was found; 2 usage error, or the plan
/// has no single meaning; 3 this machine cannot do it.
#[derive(Clone, Debug, Parser)]
#[command(name = "bastium", version, max_term_width = 100)]
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
    #[arg(long, short, global = true, value_name = "FILE", env = "BASTIUM_PLAN", value_parser = any_path())]
    pub plan: Option<PathBuf>,
    /// Print text for people, or data for programs
    #[arg(long, short, global = true, value_enum, default_value_t)]
    pub format: Format,
    /// Use colour
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN")]
    pub color: Color,
    /// Print nothing but the result and errors
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say which plan is read, and how much is in it
    #[arg(long, short, global = true, conflicts_with = "quiet")]
    pub verbose: bool,
    /// Do not send long output through a pager (`$PAGER`)
    #[arg(long, global = true)]
    pub no_pager: bool,
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
    /// Use the plan as it is on this day [default: today, in the site's time zone]
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub day: Option<Date>,
}

/// The commands.
#[derive(Clone, Debug, Subcommand)]
pub enum Command {
    /// Write a first plan, with comments
    New(New),
    /// Find mistakes and risks, each with its line, the reason and what to do
    Check(Check),
    /// Add an entry to the plan, or many from a table
    Add(Add),
    /// Set keys of an entry, or a cell of the matrix
    Set(Set),
    /// Remove an entry that no other entry refers to
    Remove(Remove),
    /// Rename an entry and every reference to it
    Rename(Rename),
    /// Make several changes as one, from a file with a change a line
    Change(Change),
    /// Explain an error or a finding, by its name in square brackets
    Explain(Explain),
    /// Show the addressing sheet: VLANs, subnets, gateways, pools, free addresses
    Addresses(Addresses),
    /// Show what to set on each gateway port, switch port and Wi-Fi name
    Ports,
    /// Show who may talk to whom: the whole matrix, or what decides one cell
    Matrix(Matrix),
    /// Draw the site, its zones or its matrix, as SVG or PNG
    Draw(Draw),
    /// Show the plan on the whole screen: the matrix with what decides each cell, questions, changes before they are kept
    View(View),
    /// Show what each save of the plan changes: findings, and traffic that it opens or closes
    Watch(Watch),
    /// Show the ordered rules for the gateway
    Rules(Rules),
    /// Show everything to type into the gateway, step by step, with values
    Worksheet(Worksheet),
    /// Prove that the rules match the plan for every possible packet
    Prove(Prove),
    /// Show what a change does: traffic that is opened or closed, rules that are added, removed or moved
    Compare(Compare),
    /// Ask whether traffic can pass, and which entry decides it
    Ask(Ask),
    /// List the connectivity tests: where to test, what to type, what to expect
    Checklist(Checklist),
    /// Work through the checklist: step by step with you, or automatically from this machine
    Walk(Walk),
    /// Listen on ports at the far end of a check, and show who connects
    Listen(Listen),
    /// Build the site in the Linux kernel, load the rules, and run the checklist with real packets
    Rehearse(Rehearse),
    /// Export rules for a gateway, or sheets for people: nftables, dnsmasq, acl-json, csv, md, xlsx, json
    Export(Export),
    /// Load the rules onto a Linux gateway over ssh, with a way back that needs nobody
    Load(Load),
    /// Review an existing rule list, and compare it with the plan
    Audit(Audit),
    /// Hold what a gateway runs, counts and logs against the plan and the results of a walk
    Verify(Verify),
    /// Write the report to hand over: for the client in plain words, for the engineer with everything
    Report(Report),
    /// Be a simulated gateway that takes access lists by NETCONF, to try things with
    Simulate(Simulate),
    /// Summarise what a gateway's log says was blocked, by which rule, and how to allow it
    Blocked(Blocked),
    /// Search the services by name, purpose, port or range
    Services(Services),
    /// Print the JSON Schema of the plan file, for editors
    Schema,
    /// Show the whole job on a demo plan
    Demo(Demo),
    /// Print the completion script for a shell; it completes the names of the plan, too
    Completions {
        /// The shell
        shell: Shell,
    },
    /// Write the manual pages
    Man(Man),
}

/// Arguments of `man`.
#[derive(Clone, Debug, Args)]
pub struct Man {
    /// Write them into this folder
    #[arg(long, value_name = "DIR")]
    pub to: PathBuf,
    /// Overwrite pages that are there
    #[arg(long)]
    pub force: bool,
}

/// Arguments of `new`.
#[derive(Clone, Debug, Args)]
pub struct New {
    /// Name of the site
    pub name: Option<String>,
    /// Start from this plan [default: bare]
    #[arg(long, value_enum)]
    pub from: Option<Example>,
    /// Use this private /16 for the subnets of the bare plan
    #[arg(long, value_name = "PREFIX")]
    pub space: Option<String>,
    /// Overwrite an existing plan
    #[arg(long)]
    pub force: bool,
}

/// The plans that come with the program.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum Example {
    /// Two networks: the smallest complete plan
    #[default]
    Bare,
    /// A veterinary clinic: eleven networks, using every feature
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
    /// Exit with 1 for findings of this severity or worse
    #[arg(long, value_enum, value_name = "SEVERITY", default_value_t)]
    pub fail_on: FailOn,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// From which severity on a finding makes `check` fail.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum FailOn {
    /// Errors alone: the plan cannot be used
    Error,
    /// Warnings and errors
    Warning,
    /// Everything that is found
    #[default]
    Advice,
}

/// How a plan that is changed is written.
#[derive(Clone, Copy, Debug, Default, Args)]
pub struct Writing {
    /// Show what would change, and write nothing
    #[arg(long, short = 'n')]
    pub dry_run: bool,
    /// Write even if the file is write-protected
    #[arg(long)]
    pub force: bool,
}

/// Arguments of `change`.
#[derive(Clone, Debug, Args)]
pub struct Change {
    /// File with an add, set, remove or rename a line, as on the command line; `-` for standard input
    pub file: PathBuf,
    /// How the plan is written.
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `add`.
#[derive(Clone, Debug, Args)]
pub struct Add {
    /// Kind of entry: network, zone, host, group, service, exception, ...
    pub kind: String,
    /// Name of the entry
    #[arg(conflicts_with = "table")]
    pub name: Option<String>,
    /// Keys, like vlan=24 or service=ssh,https
    #[arg(value_name = "KEY=VALUE")]
    pub settings: Vec<String>,
    /// Begin with the keys of this entry of the same kind, its address, VLAN and ticket apart
    #[arg(long, value_name = "OLD", conflicts_with = "table")]
    pub like: Option<String>,
    /// Open the matrix for a new zone by its trust level; by default it is blocked everywhere
    #[arg(long)]
    pub open_by_trust: bool,
    /// Add an entry for each row of this table (.csv or .xlsx); headings name the keys
    #[arg(long, value_name = "FILE")]
    pub table: Option<PathBuf>,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `set`.
#[derive(Clone, Debug, Args)]
pub struct Set {
    /// Kind of entry: network, host, ..., or site, gateway, gateway.manage, matrix, or cell
    pub kind: String,
    /// Name and keys, like `desks vlan=24`; for a cell, FROM TO ACTION, where `any` is every zone; `key=` removes a key
    #[arg(required = true, value_name = "NAME KEY=VALUE")]
    pub words: Vec<String>,
    /// Of a cell: set the way back, too
    #[arg(long)]
    pub both_ways: bool,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `remove`.
#[derive(Clone, Debug, Args)]
pub struct Remove {
    /// Kind of entry: network, host, exception, ...
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
    /// Current name
    pub old: String,
    /// New name
    pub new: String,
    /// Kind of entry, if several entries have that name
    #[arg(long)]
    pub kind: Option<String>,
    /// How the plan is written
    #[command(flatten)]
    pub writing: Writing,
}

/// Arguments of `addresses`.
#[derive(Clone, Debug, Args)]
pub struct Addresses {
    /// Show the free parts of the site's address space, too
    #[arg(long)]
    pub free: bool,
    /// Write automatically assigned subnets into the plan
    #[arg(long)]
    pub pin: bool,
    /// With --pin: show what would change, and write nothing
    #[arg(long, requires = "pin")]
    pub dry_run: bool,
    /// With --pin: write even if the file is write-protected
    #[arg(long, requires = "pin")]
    pub force: bool,
}

/// Arguments of `services`.
#[derive(Clone, Debug, Args)]
pub struct Services {
    /// Part of the name or purpose, or a port like tcp/443, 5060 or 5000-5010
    pub word: Option<String>,
}

/// Arguments of `explain`.
#[derive(Clone, Debug, Args)]
pub struct Explain {
    /// Name of an error or finding [default: all]
    pub name: Option<String>,
}

/// Arguments of `matrix`.
#[derive(Clone, Debug, Args)]
pub struct Matrix {
    /// Explain one cell: from this zone ...
    #[arg(requires = "to")]
    pub from: Option<String>,
    /// ... to this zone
    pub to: Option<String>,
    /// Propose a matrix from the trust levels
    #[arg(long, conflicts_with = "from")]
    pub draft: bool,
    /// With --draft: write it into the plan
    #[arg(long, requires = "draft")]
    pub write: bool,
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
    /// Prove the rules in this form [default: the plan's own]
    #[arg(long, value_enum)]
    pub form: Option<FormName>,
    /// Prove the rules in every form
    #[arg(long, conflicts_with = "form")]
    pub all_forms: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}

/// Arguments of `compare`.
#[derive(Clone, Debug, Args)]
pub struct Compare {
    /// Old plan or rule list [default: the plan in the last git commit]
    #[arg(requires = "new")]
    pub old: Option<PathBuf>,
    /// New plan or rule list [default: the plan]
    pub new: Option<PathBuf>,
    /// Compare with the plan in this commit
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
    /// Source: a name, an address, or an expression like "any - printers"
    #[arg(required_unless_present = "batch")]
    pub from: Option<String>,
    /// Destination
    #[arg(required_unless_present = "batch")]
    pub to: Option<String>,
    /// Services: names, or literals like tcp/443 and icmp/echo
    #[arg(default_value = "any")]
    pub service: Vec<String>,
    /// Answer every question of this table (- for standard input): columns from, to, service, at, expect
    #[arg(long, value_name = "FILE.csv", conflicts_with_all = ["from", "to", "at"])]
    pub batch: Option<PathBuf>,
    /// At this time of the week, like "tue 21:30", or 21:30 for the day [default: all week]
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
    /// Overwrite a plan that was changed
    #[arg(long)]
    pub force: bool,
    /// The day
    #[command(flatten)]
    pub day: Day,
}
