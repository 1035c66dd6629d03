//! The packet filter, through its own tool: loads a file, and lists what the kernel made of it.

mod parts;

use super::frame::Raw;
use super::netlink::{bare_message, socket};
use crate::child;
use serde_json::Value;
use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr};
use std::process::Command;

/// `NFNL_SUBSYS_CTNETLINK` and `IPCTNL_MSG_CT_DELETE`.
const FORGET: u16 = 1 << 8 | 2;
/// `NLM_F_REQUEST`.
const REQUEST: u16 = 1;

/// A table that makes the kernel tell what it does with whatever begins a conversation. It is loaded
/// beside the table that is tried, and changes nothing but that it takes away [`LAST`], and that what begins
/// at a further uplink is answered by that one: `further` are the names of these.
fn listening(further: &[String]) -> String {
    let (mut coming, mut going) = (String::new(), String::new());
    for (interface, mark) in further.iter().zip(FIRST_MARK..) {
        coming.push_str(&format!(
            "iifname \"{interface}\" ct state new ct label set {mark}\n\
             iifname != \"{interface}\" ct label {mark} meta mark set {mark}\n"
        ));
        going.push_str(&format!("ct label {mark} meta mark set {mark}\n"));
    }
    format!(
        "table inet {LISTENING_TABLE} {{\n\
         chain in {{ type filter hook prerouting priority -150\n\
         ct state new,invalid,untracked meta nftrace set 1\n\
         ip protocol 253 ip id 0 drop\n{coming}}}\n\
         chain out {{ type route hook output priority -150\n\
         ct state new,invalid,untracked meta nftrace set 1\n{going}}}\n}}\n"
    )
}

/// The mark of what the second uplink answers; the third one's is the next number, and so on. Routes of the
/// table of the same number are theirs.
pub const FIRST_MARK: u32 = 100;

/// Its name.
const LISTENING_TABLE: &str = "rehearsal";

/// The packet that is put on a cable after all others, so that it can be seen when all are through. Its
/// protocol is one for experiments (RFC 3692), and no other packet has its mark.
pub const LAST: Raw = Raw {
    source: IpAddr::V4(Ipv4Addr::new(192, 0, 2, 253)),
    destination: IpAddr::V4(Ipv4Addr::new(192, 0, 2, 254)),
    protocol: 253,
    detail: 0,
    mark: 0,
    source_port: 0,
};

/// Why the filter's tool did not do it.
#[derive(Debug, thiserror::Error)]
pub enum FilterError {
    /// It is not there.
    #[error("nft cannot be run: {0}")]
    NoTool(#[source] io::Error),
    /// It refused, and said why.
    #[error("nft refuses: {}", .0.trim())]
    Refused(String),
    /// What it printed is not what was asked for.
    #[error("nft prints something else than what was asked for")]
    Unreadable,
    /// Fewer rules, or more, than the file has are there once it is loaded.
    #[error("of {wanted} rules in the file {there} are there once it is loaded")]
    NotWhole {
        /// How many the file has.
        wanted: usize,
        /// How many are there.
        there: usize,
    },
}

impl From<FilterError> for io::Error {
    fn from(error: FilterError) -> Self {
        Self::other(error.to_string())
    }
}

/// Runs the filter's tool in the network that this thread is in, and gives what it prints.
fn nft(arguments: &[&str], input: &str) -> Result<String, FilterError> {
    let start = |program: &str| {
        let mut command = Command::new(program);
        // Hours in rules are those of UTC here.
        child::run(command.args(arguments).env("TZ", "UTC"), input)
    };
    // Where it lies is not on everyone's path.
    let done = start("nft").or_else(|error| match error.kind() {
        io::ErrorKind::NotFound => start("/usr/sbin/nft"),
        _ => Err(error),
    });
    let done = done.map_err(FilterError::NoTool)?;
    if !done.status.success() {
        return Err(FilterError::Refused(String::from_utf8_lossy(&done.err).into_owned()));
    }
    String::from_utf8(done.out).map_err(|_| FilterError::Unreadable)
}

/// Loads rules as they are, part by part, and counts that all of them are there. Hours in them are taken as
/// those of UTC.
///
/// # Errors
/// What the tool says against them, or that some are missing.
pub fn load(rules: &str) -> Result<(), FilterError> {
    for part in parts::parts(rules) {
        nft(&["-f", "-"], &part)?;
    }
    Ok(())
}

/// Compares how many rules a text has with how many are in the tables that it is about.
///
/// # Errors
/// When these are not as many.
pub fn is_whole(rules: &str) -> Result<(), FilterError> {
    let Some(wanted) = parts::rules(rules) else { return Ok(()) };
    let printed: Value = serde_json::from_str(&printed()?).map_err(|_| FilterError::Unreadable)?;
    let objects = printed["nftables"].as_array().ok_or(FilterError::Unreadable)?;
    let own = objects.iter().filter(|object| object["rule"]["table"] != LISTENING_TABLE);
    let there = own.filter(|object| object.get("rule").is_some()).count();
    if wanted == there { Ok(()) } else { Err(FilterError::NotWhole { wanted, there }) }
}

/// Looks whether rules could be loaded.
///
/// # Errors
/// What the tool says against them.
pub fn check(rules: &str) -> Result<(), FilterError> {
    nft(&["-c", "-f", "-"], rules).map(drop)
}

/// Makes the kernel tell what it does with packets from now on.
///
/// # Errors
/// When the kernel cannot.
pub fn listen(further: &[String]) -> Result<(), FilterError> {
    nft(&["-f", "-"], &listening(further)).map(drop)
}

/// Makes the kernel forget all conversations of the network that this thread is in.
///
/// # Errors
/// When that cannot be read.
pub fn forget_conversations() -> io::Result<()> {
    let socket = socket(0)?;
    rustix::net::send(&socket, &bare_message(FORGET, REQUEST), rustix::net::SendFlags::empty())?;
    Ok(())
}

/// A line of a table, as the kernel has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// The chain.
    pub chain: String,
    /// The comment; empty where it has none.
    pub comment: String,
    /// Whether it answers what it drops.
    pub rejects: bool,
    /// How many packets have hit it, where it counts.
    pub hits: Option<u64>,
}

/// All tables, as the tool prints them in JSON.
///
/// # Errors
/// When it does not print them.
pub fn printed() -> Result<String, FilterError> {
    nft(&["-j", "list", "ruleset"], "")
}

/// The lines of all tables but the one that listens, by table and handle.
///
/// # Errors
/// When the tool does not print them.
pub fn lines() -> Result<HashMap<(String, u64), Line>, FilterError> {
    let printed = nft(&["-j", "-a", "list", "ruleset"], "")?;
    let printed: Value = serde_json::from_str(&printed).map_err(|_| FilterError::Unreadable)?;
    let objects = printed["nftables"].as_array().ok_or(FilterError::Unreadable)?;
    let rules = objects.iter().filter_map(|object| object.get("rule"));
    let rules = rules.filter(|rule| rule["table"] != LISTENING_TABLE);
    let lines = rules.filter_map(|rule| {
        let says = rule["expr"].as_array()?;
        let counter = says.iter().find_map(|expression| expression.get("counter"));
        Some((
            (rule["table"].as_str()?.to_owned(), rule["handle"].as_u64()?),
            Line {
                chain: rule["chain"].as_str()?.to_owned(),
                comment: rule["comment"].as_str().unwrap_or_default().to_owned(),
                rejects: says.iter().any(|expression| expression.get("reject").is_some()),
                hits: counter.and_then(|counter| counter["packets"].as_u64()),
            },
        ))
    });
    Ok(lines.collect())
}
