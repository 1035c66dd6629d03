//! From a plan to ordered rules, first match wins.
//!
//! Nothing here asks the meaning what should happen: this is the second way to a verdict, and it is
//! compared with the first. [`compile`] takes a [`Meaning`] only as a token that the plan has one.

mod compile;
mod frame;
mod order;
mod ways;

use crate::meaning::Meaning;
use crate::plan::{Action, Form, Inbound, Plan};
use crate::space::{Ends, IntervalSet, Leg, Match, Packet, PacketSet, ServicePoint, ServiceSet};
use crate::verdict::Cause;
use jiff::civil::Date;
use std::net::IpAddr;

/// One line of a rule list.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Rule {
    /// Its number; numbers go up by tens, through all lists.
    pub number: u32,
    /// Its id, which stays the same when other rules come and go.
    pub id: String,
    /// What it does, in a few words.
    pub name: String,
    /// Why it is there.
    pub reason: String,
    /// Where its packets come from, by zone.
    pub from: String,
    /// Their source.
    pub source: String,
    /// Where they go, by zone.
    pub to: String,
    /// Their destination.
    pub destination: String,
    /// What they ask for, in the plan's words.
    pub service: String,
    /// The same in protocols and ports.
    pub ports: Vec<String>,
    /// What happens to them.
    pub action: Action,
    /// Whether that is logged.
    pub log: bool,
    /// The hours at which it counts, if not always.
    pub hours: Option<String>,
    /// How much it lets through, in megabits a second.
    pub limit_mbps: Option<f64>,
    /// The plan entry behind it.
    pub cause: Cause,
    /// The first packets that it matches; `None` for the rule that matches replies.
    pub matches: Option<Match>,
}

/// Which traffic a list is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stage {
    /// Before all others: replies and forged sources.
    Opening,
    /// What is for the gateway itself.
    ToGateway,
    /// What the gateway passes on.
    Through,
    /// What the gateway itself begins.
    FromGateway,
}

impl Stage {
    /// The list's name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Opening => "opening",
            Self::ToGateway => "to-gateway",
            Self::Through => "through",
            Self::FromGateway => "from-gateway",
        }
    }

    /// What the list is for, in a clause.
    pub fn about(self) -> &'static str {
        match self {
            Self::Opening => "for all traffic, before the lists below",
            Self::ToGateway => "for traffic to the gateway itself",
            Self::Through => "for traffic that the gateway passes on",
            Self::FromGateway => "for what the gateway itself begins",
        }
    }
}

/// What happens to what no rule of a list matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Otherwise {
    /// The next list decides.
    GoOn,
    /// It passes.
    Allow,
    /// It is blocked. A list that ends so has a last rule that says it, so this is never reached.
    Block,
}

impl Otherwise {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::GoOn => "go on",
            Self::Allow => "allow",
            Self::Block => "block",
        }
    }
}

/// An ordered list of rules.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RuleList {
    /// Which traffic it is for.
    pub stage: Stage,
    /// The rules, first match wins.
    pub rules: Vec<Rule>,
    /// What happens to the rest.
    pub otherwise: Otherwise,
    covers: PacketSet,
}

/// All the lists of a gateway.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RuleSet {
    /// The form they are in.
    pub form: Form,
    /// The day they are for.
    pub day: Date,
    /// The next day on which they would be others.
    pub changes_on: Option<Date>,
    /// What is translated before any list is asked.
    pub translations: Vec<Translation>,
    /// The lists, in the order in which they are asked.
    pub lists: Vec<RuleList>,
}

/// A translation of destinations: what asks at the outside goes on to a host.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Translation {
    /// Its id, as those of rules.
    pub id: String,
    /// The packets that it takes, before they are translated.
    pub takes: Match,
    /// The host's address that they go to.
    pub target: IpAddr,
    /// Added to a point of the service line.
    shift: i32,
    /// Added to the leg, for a translated packet.
    leg: u16,
}

/// What a rule list does with a packet.
#[derive(Clone, Copy, Debug)]
pub struct Outcome<'r> {
    /// What happens.
    pub action: Action,
    /// Whether it is logged.
    pub logged: bool,
    /// The rule that decided; `None` where a list's end did.
    pub rule: Option<&'r Rule>,
}

/// The offered services of a day that are translated, with their places in the plan's list.
fn translations(plan: &Plan, day: Date) -> impl Iterator<Item = (usize, &Inbound)> {
    plan.inbounds().iter().enumerate().filter(move |(_, inbound)| {
        inbound.target.is_some() && plan.exception(inbound.exception).counts_on(day)
    })
}

impl Translation {
    /// What its packets ask for once they are translated.
    pub fn inside(&self) -> ServiceSet {
        let (line, shift) = (self.takes.service.v4.spans().iter(), self.shift);
        let moved = line.filter_map(|(low, high)| {
            Some((low.checked_add_signed(shift)?, high.checked_add_signed(shift)?))
        });
        ServiceSet { v4: IntervalSet::from_spans(moved), ..ServiceSet::empty() }
    }

    /// What becomes of a packet that it takes.
    fn apply(&self, packet: &Packet) -> Option<Packet> {
        let service = packet.service.coordinate().checked_add_signed(self.shift)?;
        Some(Packet {
            enters: Leg(packet.enters.0 + self.leg),
            ends: Ends::new(packet.source(), self.target)?,
            service: ServicePoint::from_coordinate(service)?,
            at: packet.at,
        })
    }

    /// What becomes of all the packets of a set that it takes.
    fn apply_to(&self, set: &PacketSet) -> PacketSet {
        let moved = |line: &IntervalSet<u32>| {
            IntervalSet::from_spans(line.spans().iter().filter_map(|(low, high)| {
                Some((low.checked_add_signed(self.shift)?, high.checked_add_signed(self.shift)?))
            }))
        };
        let legs = |legs: &IntervalSet<Leg>| {
            let moved = |leg: Leg| Leg(leg.0 + self.leg);
            let spans = legs.spans().iter().map(|(low, high)| (moved(*low), moved(*high)));
            IntervalSet::from_spans(spans)
        };
        let taken = set.intersection(&PacketSet::from(&self.takes));
        let products = taken.products().map(|product| Match {
            enters: legs(&product.enters),
            destination: self.target.into(),
            service: ServiceSet { v4: moved(&product.service.v4), ..ServiceSet::empty() },
            ..product
        });
        products.collect()
    }
}

/// Compiles the rules of a plan in the form `one-list`: one list for what is passed on, one for what
/// is for the gateway, and before both the few rules that hold for everything.
pub fn compile(meaning: &Meaning<'_>) -> RuleSet {
    compile::one_list(meaning.plan(), meaning.day(), meaning.changes_on())
}

impl RuleSet {
    /// All rules, in order.
    pub fn rules(&self) -> impl Iterator<Item = &Rule> {
        self.lists.iter().flat_map(|list| &list.rules)
    }

    /// A packet as the lists see it: translated, where something translates it.
    pub fn as_filtered(&self, packet: &Packet) -> Packet {
        let translated = self.translations.iter().find(|t| t.takes.contains(packet));
        translated.and_then(|translation| translation.apply(packet)).unwrap_or(*packet)
    }

    /// The same for a whole set.
    pub fn set_as_filtered(&self, set: &PacketSet) -> PacketSet {
        let mut rest = set.clone();
        let mut seen = PacketSet::empty();
        for translation in &self.translations {
            let takes = PacketSet::from(&translation.takes);
            if !rest.is_disjoint(&takes) {
                seen = seen.union(&translation.apply_to(&rest));
                rest = rest.difference(&takes);
            }
        }
        rest.union(&seen)
    }

    /// What the lists do with a packet: the first rule that matches.
    pub fn first_match(&self, packet: &Packet) -> Outcome<'_> {
        let packet = &self.as_filtered(packet);
        for list in self.lists.iter().filter(|list| list.covers.contains(packet)) {
            let matches = |rule: &&Rule| rule.matches.as_ref().is_some_and(|m| m.contains(packet));
            if let Some(rule) = list.rules.iter().find(matches) {
                return Outcome::of(rule);
            }
            match list.otherwise {
                Otherwise::GoOn => {}
                Otherwise::Allow => return Outcome::end(Action::Allow),
                Otherwise::Block => return Outcome::end(Action::Block),
            }
        }
        Outcome::end(Action::Block)
    }

    /// Cuts a set of packets by what the lists do with them.
    pub fn parts(&self, set: &PacketSet) -> Vec<(PacketSet, Outcome<'_>)> {
        let mut parts = Vec::new();
        let mut rest = set.clone();
        for list in &self.lists {
            let mut here = rest.intersection(&list.covers);
            let before = here.clone();
            for rule in &list.rules {
                let Some(product) = &rule.matches else { continue };
                let own = PacketSet::from(product);
                if here.is_disjoint(&own) {
                    continue;
                }
                parts.push((here.intersection(&own), Outcome::of(rule)));
                here = here.difference(&own);
            }
            let end = match list.otherwise {
                Otherwise::GoOn => {
                    rest = rest.difference(&before).union(&here);
                    continue;
                }
                Otherwise::Allow => Action::Allow,
                Otherwise::Block => Action::Block,
            };
            rest = rest.difference(&before);
            if !here.is_empty() {
                parts.push((here, Outcome::end(end)));
            }
        }
        if !rest.is_empty() {
            parts.push((rest, Outcome::end(Action::Block)));
        }
        parts
    }

    /// The list that decides about packets entering at `enters`, other than the opening one.
    pub fn list(&self, stage: Stage) -> Option<&RuleList> {
        self.lists.iter().find(|list| list.stage == stage)
    }
}

impl<'r> Outcome<'r> {
    fn of(rule: &'r Rule) -> Self {
        Self { action: rule.action, logged: rule.log, rule: Some(rule) }
    }

    fn end(action: Action) -> Self {
        Self { action, logged: false, rule: None }
    }
}

/// The legs of a plan other than the gateway's own.
fn outer_legs(plan: &Plan) -> impl Iterator<Item = Leg> + use<> {
    (0..plan.gateway_leg().0).map(Leg)
}
