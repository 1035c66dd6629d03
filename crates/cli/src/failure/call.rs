//! Usage errors: each a sentence, with what to do instead.

use super::{library, shown};
use bastium_core::asking::NoAnswer;
use bastium_core::plan::Form;
use bastium_gateway::clean;
use bastium_gateway::foreign::{NotAList, NotHeld};
use bastium_picture::PngProblem;
use bastium_planfile::edit::SheetProblem;
use bastium_report::sheets::RuleFileProblem;
use std::fmt;
use std::path::PathBuf;
use thiserror::Error;

/// Why a call cannot be answered. Its `Display` says it in a sentence; [`Self::help`] what to do.
#[derive(Debug, Error)]
pub(crate) enum CallProblem {
    /// A word that names nothing.
    #[error(transparent)]
    Unknown(#[from] Unknown),
    /// A network where a zone has to be named.
    #[error("no zone is called `{network}`")]
    NetworkForZone { network: String, zone: String },
    /// Something that works with a file, asked for with a plan from standard input.
    #[error(transparent)]
    FromStandardInput(#[from] NeedsFile),
    /// An option beside something that it has no meaning for.
    #[error(transparent)]
    Meaningless(#[from] Meaningless),
    /// A word or a file that is not written as it has to be.
    #[error(transparent)]
    Malformed(#[from] Malformed),
    /// An interface or a cable that cannot be taken.
    #[error(transparent)]
    Cable(#[from] CableProblem),
    /// A file that ends in something else than what can be written.
    #[error("{} ends neither in {} nor in {}", shown(.path), .endings[0], .endings[1])]
    Ending { path: PathBuf, endings: [&'static str; 2] },
    /// A file that is too large to be read.
    #[error("{} is larger than {most} bytes", shown(.path))]
    TooLarge { path: PathBuf, most: usize },
    /// Git does not have that version of the plan.
    #[error("git has no {} of the plan: {}", clean(.commit), clean(.reason))]
    NotInGit { commit: String, reason: String },
    /// `--plan` with nothing behind it.
    #[error("`--plan` names no file")]
    EmptyPlan,
    /// The demo shows a command that there is not.
    #[error("{0}")]
    Demo(clap::Error),
    /// A new entry without a name.
    #[error("the new {kind} has no name")]
    NoName { kind: String },
    /// A question without a service.
    #[error("no service is named")]
    NoService,
    /// A question that nothing can be said to.
    #[error("{}", library::unanswered(.reason, .from, .to).0)]
    Unanswered { reason: NoAnswer, from: String, to: String },
    /// A packet from one family to the other.
    #[error("source and destination are of different families")]
    MixedFamilies,
    /// Which gateway to reach is nowhere.
    #[error("no gateway is named")]
    NoGateway,
    /// A folder that is to hold a simulated gateway, and does not.
    #[error("there is no simulated gateway in {}", shown(.0))]
    NotSimulated(PathBuf),
    /// A form that no Linux gateway has a use for.
    #[error("a Linux gateway keeps state, and the form {} has no use there", .0.word())]
    FormWithoutState(Form),
    /// Several tables, and one file.
    #[error("CSV is one table a file, and there are several")]
    WhichTable,
    /// Several files, and no folder for them.
    #[error("these are several files")]
    NeedsFolder,
    /// A workbook, and no file for it.
    #[error("a workbook is nothing for a terminal")]
    WorkbookToTerminal,
    /// A plan and a list to be compared.
    #[error("one file is a plan, the other a rule list")]
    PlanAndList,
    /// What was previewed is of a file that somebody else has changed meanwhile.
    #[error("the file has been changed since")]
    ChangedSince { help: &'static str },
    /// A file of foreign rules that cannot be read as one.
    #[error("{} {}", shown(.path), library::not_a_list(.problem).0)]
    ForeignRules { path: PathBuf, problem: NotAList },
    /// Foreign rules that no change can begin with.
    #[error("{} {}", shown(.path), library::not_held(.problem).0)]
    NotHeld { path: PathBuf, problem: NotHeld },
    /// A rule list of this program that cannot be read back.
    #[error("{}{}", shown(.path), library::not_read_back(.problem))]
    RuleFile { path: PathBuf, problem: RuleFileProblem },
    /// A table that no entries can be made of.
    #[error("{}", library::unusable(.0).0)]
    Sheet(SheetProblem),
    /// A picture that cannot be made.
    #[error(transparent)]
    Picture(#[from] PngProblem),
    /// Rules that the kernel does not take.
    #[error("these rules cannot be loaded: {0}")]
    NotLoaded(Box<dyn std::error::Error + Send + Sync>),
    /// A file that holds nothing of a gateway's counters.
    #[error("{} holds no table of bastium", shown(.0))]
    NoCounters(PathBuf),
}

/// A word that names nothing of its kind.
#[derive(Debug)]
pub(crate) struct Unknown {
    /// What it was to name.
    pub(crate) what: Named,
    /// The word.
    pub(crate) word: String,
    /// A name that is close to it.
    pub(crate) near: Option<String>,
    /// All the names that there are.
    pub(crate) known: Vec<String>,
}

/// What a word can be the name of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Named {
    /// A finding of `check`.
    Finding,
    /// A zone.
    Zone,
    /// A step of a worksheet.
    Step,
    /// A test point of a checklist.
    TestPoint,
    /// A tag.
    Tag,
    /// A network, where `--interface` names one.
    NetworkOfInterface,
    /// An uplink, where `--outside` names one.
    UplinkOutside,
    /// A host, where `--stand-in` names one.
    StandIn,
    /// A column of a table of questions.
    Column,
}

impl fmt::Display for Unknown {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = clean(&self.word);
        match self.what {
            Named::Finding => write!(f, "`check` has no finding called `{word}`"),
            Named::Zone => write!(f, "no zone is called `{word}`"),
            Named::Step => write!(f, "no step of the worksheet is called `{word}`"),
            Named::TestPoint => write!(f, "no check runs at `{word}`"),
            Named::Tag => write!(f, "nothing has the tag `{word}`"),
            Named::NetworkOfInterface => {
                write!(f, "`--interface {word}` names no network of the plan")
            }
            Named::UplinkOutside => write!(f, "`--outside {word}` names no uplink of the plan"),
            Named::StandIn => write!(f, "`--stand-in {word}` names no host of the plan"),
            Named::Column => write!(f, "a table of questions has no column `{word}`"),
        }
    }
}

impl std::error::Error for Unknown {}

impl Unknown {
    fn help(&self) -> String {
        if let Some(near) = &self.near {
            return format!("did you mean `{near}`?");
        }
        let known = self.known.join(", ");
        match self.what {
            Named::Finding => "omit the name to list them all".to_owned(),
            Named::Zone => format!("the zones are {known}"),
            Named::Step => format!("the steps are: {known}"),
            Named::TestPoint => format!("the test points are {known}"),
            Named::Tag if known.is_empty() => {
                "write one into an entry, as in `tags = [\"audit\"]`".to_owned()
            }
            Named::Tag => format!("this plan has {known}"),
            Named::NetworkOfInterface => {
                format!("write NETWORK=IFACE; the networks are {known}")
            }
            Named::UplinkOutside if known.is_empty() => {
                "write IFACE, or UPLINK=IFACE; the uplinks are: there is none".to_owned()
            }
            Named::UplinkOutside => {
                format!("write IFACE, or UPLINK=IFACE; the uplinks are: {known}")
            }
            Named::StandIn => {
                "`bastium addresses` shows the hosts; `*` stands for all that do not answer"
                    .to_owned()
            }
            Named::Column => format!("its columns are {known}"),
        }
    }
}

/// What cannot be done with a plan that comes from standard input.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub(crate) enum NeedsFile {
    /// To look at an older version of it.
    #[error("standard input has no earlier version")]
    Older,
    /// To keep the results of a walk beside it.
    #[error("for a plan from standard input, the results need a file")]
    Results,
    /// To look at it on a screen.
    #[error("a plan from standard input cannot be viewed: the keys come from there")]
    View,
    /// To wait for its changes.
    #[error("standard input cannot be watched")]
    Watch,
}

impl NeedsFile {
    fn help(self) -> &'static str {
        match self {
            Self::Older => "name two files, or a plan that is committed in git",
            Self::Results => "name one: bastium walk --results FILE",
            Self::View | Self::Watch => "name a file with --plan FILE",
        }
    }
}

/// An option, or a part of a call, that means nothing beside the rest of it.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub(crate) enum Meaningless {
    /// `--format` for what has one format.
    #[error("`--format` has no effect here")]
    Format,
    /// `--width` for a drawing without pixels.
    #[error("`--width` has no effect on SVG, which has no pixels")]
    Width,
    /// `--space` for a plan that has its own.
    #[error("the addresses of a demo plan are its own")]
    Space,
    /// `--both-ways` for what is no cell.
    #[error("only a cell has two ways")]
    BothWays,
    /// An uplink's address for what does without.
    #[error("only access lists need the address of a leased uplink")]
    UplinkAddress {
        /// Whether it was for loading rules; otherwise for exporting a file.
        loading: bool,
    },
    /// The address of an uplink that has one.
    #[error("uplink {uplink} has a fixed address in the plan")]
    FixedAddress { uplink: String },
    /// `--cut` over NETCONF.
    #[error("NETCONF tells nothing of connections")]
    CutOverNetconf,
    /// `--status` over NETCONF.
    #[error("NETCONF does not tell who is loading")]
    StatusOverNetconf,
    /// `--interfaces` over NETCONF.
    #[error("files for interfaces are for a Linux gateway")]
    InterfacesOverNetconf,
    /// An option of the walk over one cable, without a cable.
    #[error("`{0}` has a meaning only with --trunk or --interface")]
    WithoutCable(&'static str),
}

impl Meaningless {
    fn help(&self) -> &'static str {
        match self {
            Self::Format => "this command has no other format; omit the option",
            Self::Width => "omit it, or write a PNG with `--to FILE.png`",
            Self::Space => "omit --space, or use `--from bare`",
            Self::BothWays => "write it like `bastium set cell guests any block --both-ways`",
            Self::UplinkAddress { loading: true } => {
                "leave out --uplink-address: the rules of a Linux gateway do without"
            }
            Self::UplinkAddress { loading: false } => {
                "leave out --uplink-address: what else is exported does without"
            }
            Self::FixedAddress { .. } => HOW_UPLINK_ADDRESS,
            Self::CutOverNetconf => {
                "leave out --cut: a gateway with these lists decides about every packet"
            }
            Self::StatusOverNetconf => "a load says so when the configuration is locked",
            Self::InterfacesOverNetconf => {
                "leave out --interfaces: the lists refer to interfaces that are there"
            }
            Self::WithoutCable(_) => {
                "name the interface that carries the networks: bastium walk --trunk IFACE"
            }
        }
    }
}

const HOW_UPLINK_ADDRESS: &str = "write it like --uplink-address fibre=198.51.100.7/24";

/// A word or a file that is not written as it has to be.
#[derive(Debug, Error)]
pub(crate) enum Malformed {
    /// A file of changes that is no text.
    #[error("{} is not UTF-8", shown(.0))]
    Changes(PathBuf),
    /// A file of changes without one.
    #[error("{} has no change in it", shown(.0))]
    NoChange(PathBuf),
    /// A table of questions that cannot be read.
    #[error("cannot read the questions in {}: {error}", shown(.path))]
    Questions { path: PathBuf, error: csv::Error },
    /// A table of questions without its headings.
    #[error("the table of questions has no headings `from` and `to`")]
    Headings,
    /// A table of questions that has a column twice.
    #[error("the table of questions has two columns `{0}`")]
    Twice(String),
    /// A cell without its two zones and an action.
    #[error("a cell is set by two zones and what happens")]
    Cell,
    /// Something where a key and its value have to be.
    #[error("`{0}` is not a key with its value")]
    Setting(String),
    /// Nothing that can be listened on.
    #[error("`{word}` is nothing to listen on: {why}")]
    Listening { word: String, why: &'static str },
    /// No minute of the week.
    #[error("`{0}` is not a time of the week")]
    Time(String),
    /// No length of time that a list can take.
    #[error("`--within` is no time that a list can take")]
    Within,
    /// No table.
    #[error("{} is no table: {}", shown(.path), clean(.reason))]
    Table { path: PathBuf, reason: String },
    /// No table that entries can be read from.
    #[error("cannot read {} as a table: {}", shown(.path), clean(.reason))]
    Entries { path: PathBuf, reason: String },
    /// No space of private addresses.
    #[error("`{0}` is not a private /16")]
    Space(String),
    /// A site whose name is empty.
    #[error("the name of the site is empty")]
    SiteName,
    /// No service that one packet can ask for.
    #[error("{} is no service of a packet", clean(.0))]
    PacketService(String),
    /// No uplink with an address.
    #[error("{} is no uplink with its address", clean(.0))]
    UplinkAddress(String),
    /// The address of an uplink that there is not.
    #[error("there is no uplink {}", clean(.0))]
    Uplink(String),
    /// No hardware address.
    #[error("`--mac {}` is no hardware address of a device", clean(.0))]
    Mac(String),
}

impl Malformed {
    fn help(&self) -> &'static str {
        match self {
            Self::Changes(_) => "write one change a line, as on the command line",
            Self::NoChange(_) => "write one a line, like `set network desks hosts=20`",
            Self::Questions { .. } => "they must be CSV in UTF-8, with a line of headings",
            Self::Twice(_) => "keep the one that is meant",
            Self::Headings => "let its first line be: from,to,service",
            Self::Cell => "write it like `bastium set cell staff guests block`",
            Self::Setting(_) => {
                "write it like vlan=24; a list like service=ssh,https; `key=` removes a key"
            }
            Self::Listening { .. } => "write tcp/443 or udp/5000-5003",
            Self::Time(_) => {
                "write it like \"tue 21:30\", 21:30 for the day that is asked about, or 2026-11-25T18:00"
            }
            Self::Within => "write a time as `30m` or `1h 15m`",
            Self::Table { .. } => "give it CSV (RFC 4180), or a workbook (xlsx)",
            Self::Entries { .. } => {
                "save it as CSV (UTF-8) or XLSX, with headings in the first row and nothing beside the table"
            }
            Self::Space(_) => "write one like 10.61.0.0/16, 172.20.0.0/16 or 192.168.0.0/16",
            Self::SiteName => "give it one, or leave it out",
            Self::PacketService(_) => "write it like tcp/443, udp/53 or icmp/echo",
            Self::UplinkAddress(_) | Self::Uplink(_) => HOW_UPLINK_ADDRESS,
            Self::Mac(_) => "write six pairs of digits, the first of them even: 02:00:5e:00:00:01",
        }
    }
}

/// An interface or a cable that cannot be taken for a walk.
#[derive(Debug, Error)]
pub(crate) enum CableProblem {
    /// The same interface or network twice.
    #[error("`--interface {}` names an interface or a network a second time", clean(.0))]
    InterfaceTwice(String),
    /// An interface for the outside that carries something else.
    #[error("`--outside {}` names an interface that is used already", clean(.0))]
    OutsideTwice(String),
    /// A cable to the outside alone.
    #[error("`--outside` alone reaches no network")]
    OutsideAlone,
    /// This machine needs it itself.
    #[error("the interface {} {how}", clean(.name))]
    InUse { name: String, how: &'static str },
}

impl CableProblem {
    fn help(&self) -> &'static str {
        match self {
            Self::InterfaceTwice(_) => "each network needs an interface of its own",
            Self::OutsideTwice(_) => "the uplink needs a cable of its own",
            Self::OutsideAlone => {
                "name the interface that carries all networks, too: `--trunk IFACE`"
            }
            Self::InUse { .. } => {
                "take another one, or add --take if this machine need not be reached meanwhile"
            }
        }
    }
}

impl CallProblem {
    /// What to do about it.
    pub(crate) fn help(&self) -> String {
        let fixed = match self {
            Self::Unknown(unknown) => return unknown.help(),
            Self::NetworkForZone { network, zone } => {
                return format!("`{network}` is a network; its zone is `{zone}`");
            }
            Self::NoName { kind } => {
                return format!(
                    "write it behind the kind, as in `bastium add {kind} NAME key=value`"
                );
            }
            Self::Sheet(problem) => return library::unusable(problem).1,
            Self::FromStandardInput(what) => what.help(),
            Self::Meaningless(what) => what.help(),
            Self::Malformed(what) => what.help(),
            Self::Cable(what) => what.help(),
            Self::Ending { .. } => "name the file so that its ending says how to write it",
            Self::TooLarge { .. } => "is it the right file? Otherwise leave out what is not needed",
            Self::NotInGit { .. } => {
                "commit the plan first, name another commit with --since, or name both plans"
            }
            Self::EmptyPlan => "name one, or omit `--plan`",
            Self::Demo(_) => "this is a fault of the demo; please report it",
            Self::NoService => "name one, like https or tcp/443, or omit it for any",
            Self::Unanswered { reason, from, to } => library::unanswered(reason, from, to).1,
            Self::MixedFamilies => "name two addresses of IPv4 or two of IPv6",
            Self::NoGateway => {
                "write `bastium load HOST`, or `reach = \"HOST\"` under `[gateway]` in the plan"
            }
            Self::NotSimulated(_) => "it begins with `bastium simulate gateway --state DIR`",
            Self::FormWithoutState(_) => "take --form per-pair or --form one-list",
            Self::WhichTable => "choose one with --sheet, or name a folder for all with --to",
            Self::NeedsFolder => "name a folder with --to FOLDER",
            Self::WorkbookToTerminal => "name a file with --to FILE.xlsx",
            Self::PlanAndList => {
                "write the plan's rules with `bastium rules --format json`, and compare the lists"
            }
            Self::ChangedSince { help } => help,
            Self::ForeignRules { problem, .. } => library::not_a_list(problem).1,
            Self::NotHeld { problem, .. } => library::not_held(problem).1,
            Self::RuleFile { .. } => {
                "write it with `bastium rules --format json`, without FROM, TO or --find"
            }
            Self::Picture(problem) => library::not_drawn(problem),
            Self::NotLoaded(_) => "look at the file with `nft -c -f FILE`",
            Self::NoCounters(_) => {
                "write what `nft list ruleset` prints on the gateway into a file"
            }
        };
        fixed.to_owned()
    }
}
