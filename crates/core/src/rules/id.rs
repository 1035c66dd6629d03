//! The id of a rule. It stays the same from day to day and does not depend on which other rules exist.

use std::fmt;

/// The stable name of a rule: the entry that it is for, the list and part in which it stands, and which of several rules
/// of one entry it is. It is built of these, and written only where it is shown.
///
/// ```
/// use bastium_core::rules::RuleId;
/// let id = RuleId::new("exception.desks-print");
/// assert_eq!(id.to_string(), "exception.desks-print");
/// let id = id.in_list("staff>equipment").of_log();
/// assert_eq!(id.to_string(), "exception.desks-print@staff>equipment@log");
/// assert_eq!(id.for_replies("desks").to_string(), "reply.exception.desks-print@desks");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RuleId {
    /// Whether it lets replies back.
    replies: bool,
    /// The entry of the plan, or the law of the wire: `exception.desks-print`, `spoofed.desks`.
    entry: String,
    /// The list or part of one, where the entry has rules in several.
    list: Option<String>,
    /// What else tells it from others there.
    beside: Option<String>,
    /// Whether it is the part that is there for the log.
    log: bool,
    /// Whether other entries have been joined to it.
    joined: bool,
    /// Which one of several, from 2 on.
    number: Option<u32>,
}

impl RuleId {
    /// The rule of an entry that has one alone.
    pub fn new(entry: impl Into<String>) -> Self {
        let entry = entry.into();
        Self {
            replies: false,
            entry,
            list: None,
            beside: None,
            log: false,
            joined: false,
            number: None,
        }
    }

    /// The same entry's rule in a list.
    #[must_use]
    pub fn in_list(&self, list: impl Into<String>) -> Self {
        Self { list: Some(list.into()), beside: None, ..self.clone() }
    }

    /// The rule that stands in a list for what another entry is about, too.
    #[must_use]
    pub fn beside(&self, other: impl Into<String>) -> Self {
        Self { beside: Some(other.into()), ..self.clone() }
    }

    /// The part of a rule for one interface, or for one end.
    #[must_use]
    pub fn narrowed(&self, by: &str) -> Self {
        let mut id = self.clone();
        id.list.as_mut().unwrap_or(&mut id.entry).push_str(by);
        id
    }

    /// The part that is there for the log.
    #[must_use]
    pub fn of_log(&self) -> Self {
        Self { log: true, ..self.clone() }
    }

    /// The rule of this entry and others.
    #[must_use]
    pub fn joined(&self) -> Self {
        Self { joined: true, ..self.clone() }
    }

    /// Which one of several.
    #[must_use]
    pub fn numbered(&self, number: u32) -> Self {
        Self { number: Some(number), ..self.clone() }
    }

    /// The rule that lets replies to this entry back, in a list.
    #[must_use]
    pub fn for_replies(&self, list: impl Into<String>) -> Self {
        Self { replies: true, list: Some(list.into()), ..Self::new(self.entry.clone()) }
    }

    /// Whether it lets replies back.
    pub fn is_for_replies(&self) -> bool {
        self.replies
    }
}

impl fmt::Display for RuleId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.replies {
            f.write_str("reply.")?;
        }
        f.write_str(&self.entry)?;
        for part in [&self.list, &self.beside].into_iter().flatten() {
            write!(f, "@{part}")?;
        }
        if self.log {
            f.write_str("@log")?;
        }
        if self.joined {
            f.write_str("+")?;
        }
        self.number.map_or(Ok(()), |number| write!(f, "@{number}"))
    }
}

impl PartialEq<str> for RuleId {
    fn eq(&self, other: &str) -> bool {
        let shown = self.to_string();
        shown == other
    }
}

impl PartialEq<String> for RuleId {
    fn eq(&self, other: &String) -> bool {
        self == other.as_str()
    }
}

impl PartialEq<&str> for RuleId {
    fn eq(&self, other: &&str) -> bool {
        self == *other
    }
}
