//! A rule set of the kernel's packet filter as types: only what was understood, in the terms of nft(8).

use super::super::cut::Flow;
use bastium_core::space::Family;
use std::collections::HashMap;
use std::net::IpAddr;

/// All that was read.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ruleset {
    /// The tables, in the order in which they were met.
    pub(crate) tables: Vec<Table>,
    /// Whether everything in the tables replaces what a gateway had in them before.
    pub(crate) replaces: bool,
    /// What the originators of the connections send that are being cut, where there is a table of them.
    pub(crate) cut: Option<Vec<Flow>>,
    /// What outside of rules was not understood.
    pub(crate) unread: Vec<Problem>,
}

/// Something that was not understood, or cannot be loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Problem {
    /// Where it stands.
    pub(crate) at: String,
    /// What it is.
    pub(crate) what: String,
}

/// A table.
#[derive(Clone, Debug, Default)]
pub(crate) struct Table {
    /// `inet`, `ip`, `ip6`, or another one.
    pub(crate) family: String,
    pub(crate) name: String,
    pub(crate) sets: HashMap<String, Set>,
    pub(crate) maps: HashMap<String, Map>,
    pub(crate) limits: HashMap<String, Limit>,
    pub(crate) chains: Vec<Chain>,
}

impl Table {
    /// The family of its packets, if they are of one only.
    pub(crate) fn only_family(&self) -> Option<Family> {
        match self.family.as_str() {
            "ip" => Some(Family::V4),
            "ip6" => Some(Family::V6),
            _ => None,
        }
    }

    /// The chain of that name.
    pub(crate) fn chain(&self, name: &str) -> Option<usize> {
        self.chains.iter().position(|chain| chain.name == name)
    }
}

/// A set with a name.
#[derive(Clone, Debug, Default)]
pub(crate) struct Set {
    /// What its values are looked at as.
    pub(crate) types: Vec<Key>,
    /// Its elements, one value for each of its types.
    pub(crate) elements: Vec<Vec<Value>>,
    /// Whether something fills it while the gateway runs.
    pub(crate) filled: bool,
    /// Why its elements are not known, if they are not.
    pub(crate) unread: Option<String>,
}

/// A map from values to verdicts.
#[derive(Clone, Debug, Default)]
pub(crate) struct Map {
    pub(crate) types: Vec<Key>,
    pub(crate) elements: Vec<(Vec<Value>, Verdict)>,
    pub(crate) unread: Option<String>,
}

/// A limit with a name: what is over it matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Limit {
    pub(crate) bytes_per_second: u64,
    pub(crate) burst_bytes: u64,
    pub(crate) over: bool,
}

/// A chain.
#[derive(Clone, Debug, Default)]
pub(crate) struct Chain {
    pub(crate) name: String,
    /// Where the kernel asks it by itself.
    pub(crate) hook: Option<Hook>,
    pub(crate) rules: Vec<Rule>,
}

/// Where the kernel asks a chain.
#[derive(Clone, Debug)]
pub(crate) struct Hook {
    /// `filter`, `nat` or `route`.
    pub(crate) kind: String,
    /// `prerouting`, `input`, `forward`, `output`, `postrouting`, or another one.
    pub(crate) hook: String,
    /// Lower ones are asked first.
    pub(crate) priority: i64,
    /// Whether what no rule decides is dropped.
    pub(crate) drops: bool,
}

/// A rule.
#[derive(Clone, Debug, Default)]
pub(crate) struct Rule {
    /// Where it stands, as a person finds it.
    pub(crate) at: String,
    /// As much of it as fits a line.
    pub(crate) says: String,
    pub(crate) parts: Vec<Part>,
    pub(crate) comment: Option<String>,
    /// How many packets its counter has seen.
    pub(crate) hits: Option<u64>,
}

/// A part of a rule: a condition, or something that is done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Part {
    Test(Test),
    /// What happens is looked up.
    Look {
        keys: Vec<Key>,
        map: Looked,
    },
    Verdict(Verdict),
    /// It is refused with an answer.
    Reject(Refusal),
    /// It is written to the log.
    Log {
        prefix: Option<String>,
    },
    /// The conversation is marked.
    Mark(u32),
    /// What is over a limit that has a name.
    OverLimit(String),
    /// No more than so many packets in a time: what is above that does not go on in the rule.
    Rate {
        /// Whether that is enough for a log.
        enough: bool,
        /// As it is written.
        says: String,
    },
    /// The destination is translated.
    SendOn {
        to: IpAddr,
        ports: Ports,
    },
    /// The source is translated; `None` for the gateway's own address on the way out.
    Disguise(Option<IpAddr>),
    /// A condition that is not understood.
    UnreadTest(String),
    /// Something that is done and not understood.
    UnreadDeed(String),
}

/// How a packet is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Refusal {
    /// By a reset, which only TCP has.
    Reset,
    /// By an error of ICMP: administratively prohibited.
    Prohibited,
    /// By another error.
    Other,
}

/// What becomes of the port when a destination is translated.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Ports {
    Same,
    To(u16),
    /// One by one.
    Each(Vec<(u16, u16)>),
}

/// A condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Test {
    pub(crate) keys: Vec<Key>,
    pub(crate) not: bool,
    pub(crate) values: Values,
}

/// What a condition compares with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Values {
    Given(Vec<Vec<Value>>),
    Set(String),
}

/// What a verdict is looked up in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Looked {
    Given(Vec<(Vec<Value>, Verdict)>),
    Map(String),
}

/// What a condition looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Key {
    /// The name of the interface by which a packet comes, or leaves.
    Interface(Side),
    /// The address family.
    Family,
    /// The protocol; of one family, if one is named.
    Protocol(Option<Family>),
    Address(Family, End),
    /// The destination port, of one protocol or of any that has ports.
    Port(Option<u8>),
    IcmpType(Family),
    IcmpCode(Family),
    Day,
    Hour,
    State,
    Status,
    Mark,
    /// Whether an address is one of the gateway's own.
    Local(End),
}

/// Where a packet comes by, or leaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Side {
    In,
    Out,
}

/// An end of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum End {
    Source,
    Destination,
}

/// A value, or a range of them, of the kind that its key has.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Value {
    /// The name of an interface; `*` at its end stands for any rest.
    Name(String),
    Family(Family),
    /// Protocols, ports, types or codes, from and to.
    Numbers(u16, u16),
    Addresses(IpAddr, IpAddr),
    /// A day, from Monday.
    Day(u16),
    /// Minutes of the day, both included.
    Minutes(u16, u16),
    State(State),
    /// The conversation's destination was translated.
    Translated,
    Mark(u32),
    Local,
}

/// What the connection tracking says of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum State {
    New,
    Established,
    Related,
    Invalid,
    Untracked,
}

/// What happens to a packet.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Verdict {
    Accept,
    Drop,
    Return,
    Jump(String),
    Goto(String),
}

/// What a rule speaks of that has to be in its table: kind and name.
pub(crate) fn references(rule: &Rule) -> Vec<(&'static str, &str)> {
    fn target(verdict: &Verdict) -> Option<(&'static str, &str)> {
        match verdict {
            Verdict::Jump(name) | Verdict::Goto(name) => Some(("chain", name)),
            Verdict::Accept | Verdict::Drop | Verdict::Return => None,
        }
    }
    let mut found = Vec::new();
    for part in &rule.parts {
        match part {
            Part::Verdict(verdict) => found.extend(target(verdict)),
            Part::Look { map: Looked::Given(elements), .. } => {
                found.extend(elements.iter().filter_map(|(_, verdict)| target(verdict)));
            }
            Part::Test(Test { values: Values::Set(name), .. }) => found.push(("set", name)),
            Part::Look { map: Looked::Map(name), .. } => found.push(("map", name)),
            Part::OverLimit(name) => found.push(("limit", name)),
            _ => {}
        }
    }
    found
}

/// Hands out the keys and values that a look-up of a rule compares.
pub(crate) fn interfaces_of(part: &Part, see: &mut impl FnMut(&[Key], &[Value])) {
    if let Part::Look { keys, map: Looked::Given(elements) } = part {
        elements.iter().for_each(|(values, _)| see(keys, values));
    }
}
