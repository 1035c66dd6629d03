//! A line of a chain as data: what it tests, and what it then does.

use bastium_core::space::Family;

/// Which end of a packet is asked about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum End {
    Source,
    Destination,
}

/// One condition of a line.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Test {
    /// It comes by one of these interfaces.
    In(Vec<String>),
    /// It leaves by one of these.
    Out(Vec<String>),
    /// It is of that family.
    Family(Family),
    /// An address is in that set, or is not.
    Address { end: End, family: Family, elements: Vec<String>, not: bool },
    /// An address is in the named set, or is not.
    Named { end: End, family: Family, set: String, not: bool },
    /// An address is one of the gateway's that the plan does not know: a leased one.
    Leased { end: End, family: Family },
    /// The source is one of the gateway's own addresses, known to the plan or not.
    FromGateway,
    /// It is of one of these protocols, or of none of them.
    Protocols { numbers: Vec<u8>, not: bool },
    /// It asks for one of these ports, by the protocol's keyword.
    Ports { protocol: &'static str, elements: Vec<String> },
    /// It asks for a port of one of several protocols, as `tcp . 53`.
    AnyPorts(Vec<String>),
    /// It is an ICMP message of one of these types; or of one of these types and codes, as `3 . 4`.
    Icmp { family: Family, elements: Vec<String>, codes: bool },
    /// It is for the broadcast address of a network that it did not come from.
    OthersBroadcast,
    /// The kernel's word for how it belongs to a conversation.
    State(&'static str),
    /// Its conversation has that mark.
    Mark(u32),
    /// Something has translated its destination, or has not.
    Translated(bool),
    /// It comes on one of these days.
    Days(Vec<&'static str>),
    /// It comes at that time of the day, both ends included.
    Hours(String),
}

impl Test {
    /// The family that the test alone tells.
    pub(super) fn family(&self) -> Option<Family> {
        match self {
            Self::Family(family) | Self::Leased { family, .. } => Some(*family),
            Self::Address { family, .. }
            | Self::Named { family, .. }
            | Self::Icmp { family, .. } => Some(*family),
            Self::OthersBroadcast => Some(Family::V4),
            _ => None,
        }
    }
}

/// What happens to a packet that passes all tests of a line.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Then {
    Accept,
    Drop,
    /// Answers with a TCP reset.
    Reset,
    /// Answers that it is administratively prohibited.
    Refuse,
    Jump(String),
    Goto(String),
    /// Sends it on to another destination; what follows `dnat ip to`.
    SendOn(String),
    /// Gives it that source, or the gateway's own there.
    Disguise(Option<String>),
    /// Drops it where that named limit is reached.
    Limit(String),
    /// Looks an interface up in a map of verdicts.
    Look {
        key: &'static str,
        map: String,
    },
}

/// A line of a chain.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub(super) tests: Vec<Test>,
    /// Whether hits are counted.
    pub(super) counts: bool,
    /// Whether it is logged, under the tag.
    pub(super) log: bool,
    /// The mark that the conversation gets.
    pub(super) mark: Option<u32>,
    pub(super) then: Then,
    /// The tag of the rule that it belongs to, or what it is.
    pub(super) tag: String,
    /// The plan's words for what it is about, to name sets after.
    pub(super) service: String,
}

impl Line {
    /// A line that belongs to no rule of the plan.
    pub(super) fn own(tests: Vec<Test>, then: Then, tag: &str) -> Self {
        Self {
            tests,
            counts: true,
            log: false,
            mark: None,
            then,
            tag: tag.to_owned(),
            service: String::new(),
        }
    }

    /// A line that only leads on.
    pub(super) fn lead(tests: Vec<Test>, then: Then) -> Self {
        Self { counts: false, ..Self::own(tests, then, "") }
    }
}

/// What stands in a chain, in order.
#[derive(Clone, Debug)]
pub(super) enum Entry {
    /// A remark above the lines that follow.
    Remark(String),
    Line(Line),
}

/// A chain.
#[derive(Clone, Debug)]
pub(super) struct Chain {
    pub(super) name: String,
    /// What it is for, in a few words.
    pub(super) about: String,
    /// What hooks it in, for one that the kernel asks by itself.
    pub(super) hook: Option<&'static str>,
    pub(super) entries: Vec<Entry>,
}
