//! A rule as data. Words are made from it only where it is shown.

use super::RuleId;
use crate::plan::Action;
use crate::space::{Match, ServiceSet};
use crate::verdict::{Cause, Spoofing};
use std::fmt;

/// One rule of a rule list.
///
/// The packets that it decides are in [`matches`](Self::matches), exactly. The two endpoints and the service beside
/// them are what the plan calls these packets, for the reader of the rule.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Rule {
    /// Its number; numbers go up by tens, through all lists. 0 for what the gateway does by itself.
    pub number: u32,
    /// Its id, which stays the same when other rules are added or removed.
    pub id: RuleId,
    /// What it does, in a few words.
    pub name: String,
    /// Why it is there.
    pub reason: String,
    /// The zones that its packets come from.
    pub from: Endpoint,
    /// Their source addresses.
    pub source: Endpoint,
    /// The zones that they go to.
    pub to: Endpoint,
    /// Their destination addresses.
    pub destination: Endpoint,
    /// The service, in the plan's words.
    pub service: String,
    /// The service in protocols and ports.
    pub ports: Vec<String>,
    /// What happens to them.
    pub action: Action,
    /// Whether that is logged.
    pub log: bool,
    /// The name of the hours in which it applies, if not always.
    pub hours: Option<String>,
    /// The rate limit, in megabits per second.
    pub limit_mbps: Option<f64>,
    /// The plan entry behind it.
    pub cause: Cause,
    /// The other entries behind it, where rules of several have been joined.
    pub also: Vec<Cause>,
    /// The packets that it decides.
    pub matches: Matches,
}

/// The packets that a rule decides.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Matches {
    /// Every packet of a connection that is already open: the gateway keeps state.
    Established,
    /// The first packets of connections.
    First(Match),
    /// Replies written out, for a gateway that keeps no state. Of TCP only segments with ACK or RST set are taken. Such
    /// a rule is not meant for first packets, though some of UDP and ICMP look the same as replies.
    Replies {
        /// The packets, by the service that they would open if they were first packets.
        packets: Match,
        /// The ports that they come from.
        from: ServiceSet,
    },
    /// A row that somebody else wrote, which no single product describes: any of these packets, each with the ports that
    /// they come from where the row is for replies. No plan has such a rule; a changeover can begin with one.
    Written(Vec<(Match, Option<ServiceSet>)>),
}

/// What a rule says about one end of a connection.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Endpoint {
    /// Everything.
    Any,
    /// The gateway itself.
    Gateway,
    /// Zones or interfaces, by name. Empty where the addresses belong to none.
    Named(Vec<String>),
    /// Addresses, as an expression of the plan.
    Expression(String),
}

impl Endpoint {
    /// A single zone or interface.
    pub(super) fn named(name: impl Into<String>) -> Self {
        Self::Named(vec![name.into()])
    }

    /// An expression that is as it stands in the plan, or could stand there.
    pub(crate) fn expression(text: impl Into<String>) -> Self {
        let text = text.into();
        if text == "any" { Self::Any } else { Self::Expression(text) }
    }
}

impl Endpoint {
    /// How many names it has; none for everything.
    pub fn values(&self) -> usize {
        match self {
            Self::Any => 0,
            Self::Gateway => 1,
            Self::Named(names) => names.len(),
            Self::Expression(text) => text.split(", ").count(),
        }
    }
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Any => f.pad("any"),
            Self::Gateway => f.pad("gateway"),
            Self::Named(names) => f.pad(&names.join(" + ")),
            Self::Expression(text) => f.pad(text),
        }
    }
}

impl Matches {
    /// The packets, whether first packets or replies; `None` for those of established connections, which no set of
    /// first packets describes, and for a row that somebody else wrote.
    pub fn packets(&self) -> Option<&Match> {
        match self {
            Self::Established | Self::Written(_) => None,
            Self::First(packets) | Self::Replies { packets, .. } => Some(packets),
        }
    }

    /// All products of it, each with the ports that it comes from where it is for replies.
    pub fn products(&self) -> Vec<(&Match, Option<&ServiceSet>)> {
        match self {
            Self::Established => Vec::new(),
            Self::First(packets) => vec![(packets, None)],
            Self::Replies { packets, from } => vec![(packets, Some(from))],
            Self::Written(products) => {
                products.iter().map(|(packets, from)| (packets, from.as_ref())).collect()
            }
        }
    }
}

impl From<Match> for Matches {
    fn from(packets: Match) -> Self {
        Self::First(packets)
    }
}

impl Rule {
    /// A rule as somebody has typed it: of a plan's entries it knows nothing. `like` is the plan's rule of that name, if
    /// there is one.
    pub fn typed(
        id: RuleId,
        matches: Matches,
        (action, log, limit_mbps): (Action, bool, Option<f64>),
        hours: Option<String>,
        like: Option<&Self>,
    ) -> Self {
        let (cause, also) =
            like.map_or((Cause::Unmatched, Vec::new()), |like| (like.cause, like.also.clone()));
        Self {
            number: 0,
            name: id.to_string(),
            reason: String::new(),
            from: Endpoint::Any,
            source: Endpoint::Any,
            to: Endpoint::Any,
            destination: Endpoint::Any,
            service: String::new(),
            ports: Vec::new(),
            id,
            action,
            log,
            hours,
            limit_mbps,
            cause,
            also,
            matches,
        }
    }

    /// The packets that it decides, as [`Matches::packets`].
    pub fn packets(&self) -> Option<&Match> {
        self.matches.packets()
    }

    /// The first packets that it decides; `None` for a rule for replies.
    pub fn first_packets(&self) -> Option<&Match> {
        match &self.matches {
            Matches::First(packets) => Some(packets),
            Matches::Established | Matches::Replies { .. } | Matches::Written(_) => None,
        }
    }

    /// The ports that replies come from, for a rule that lets replies back without state.
    pub fn replies_from(&self) -> Option<&ServiceSet> {
        match &self.matches {
            Matches::Replies { from, .. } => Some(from),
            Matches::Established | Matches::First(_) | Matches::Written(_) => None,
        }
    }

    /// The entries behind it.
    pub fn causes(&self) -> impl Iterator<Item = Cause> {
        [self.cause].into_iter().chain(self.also.iter().copied())
    }

    /// How many values it has, by name.
    pub fn values(&self) -> usize {
        let ends = [&self.from, &self.source, &self.to, &self.destination];
        let service = self.service.split(", ").filter(|service| *service != "any").count();
        ends.map(Endpoint::values).into_iter().sum::<usize>()
            + service
            + usize::from(self.hours.is_some())
            + usize::from(self.limit_mbps.is_some())
    }

    /// Whether it holds one interface to the sources that belong there. Where the fewest rules are wanted, neighbours of
    /// that kind share a number.
    pub fn is_of_interface(&self) -> bool {
        matches!(self.cause, Cause::Spoofed(Spoofing::Source, _))
    }

    /// Whether it lets replies back without state.
    pub fn is_for_replies(&self) -> bool {
        self.replies_from().is_some()
    }

    pub(super) fn packets_mut(&mut self) -> Option<&mut Match> {
        match &mut self.matches {
            Matches::Established | Matches::Written(_) => None,
            Matches::First(packets) | Matches::Replies { packets, .. } => Some(packets),
        }
    }
}
