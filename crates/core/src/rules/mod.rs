//! From a plan to ordered rules, first match wins.
//!
//! Nothing here asks the meaning what should happen: this is the second way to a verdict, and it is
//! compared with the first. [`compile`] takes a [`Meaning`] only as a token that the plan has one.

mod compile;
mod frame;
mod order;

use crate::meaning::Meaning;
use crate::plan::{Action, Form, Plan};
use crate::space::{Leg, Match, Packet, PacketSet};
use crate::verdict::Cause;
use jiff::civil::Date;

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
    /// The lists, in the order in which they are asked.
    pub lists: Vec<RuleList>,
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

    /// What the lists do with a packet: the first rule that matches.
    pub fn first_match(&self, packet: &Packet) -> Outcome<'_> {
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
