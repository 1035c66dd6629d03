//! The rehearsal: the whole checklist of a plan, made in the kernel or on paper before anybody is in the building.

#[cfg(target_os = "linux")]
mod attempts;
#[cfg(target_os = "linux")]
mod kernel;
mod paper;

#[cfg(target_os = "linux")]
pub use kernel::{Inputs, Unrehearsed, in_kernel};
pub use paper::on_paper;

use crate::probe::Seen;
use bastium_core::checklist::{Check, Expect};
use bastium_core::meaning::Meaning;
use bastium_core::rules::{Rule, RuleSet, Stage};
use bastium_core::space::Packet;
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use std::time::Duration;

/// What came of a rehearsal.
#[derive(Clone, Debug, Default)]
pub struct Report {
    /// What was tried, in the order of the checklist.
    pub tried: Vec<Tried>,
    /// Every rule that has to be entered, in order, with how often it was hit.
    pub rules: Vec<Hit>,
    /// How long it took to build the site.
    pub set_up: Duration,
    /// How long the rest took.
    pub took: Duration,
}

/// A check, and what came of it.
#[derive(Clone, Debug)]
pub struct Tried {
    /// The check's id; of a lease or a packet made by hand, what it is.
    pub id: String,
    /// Where it came from, in the plan's words.
    pub from: String,
    /// Where it went.
    pub to: String,
    /// What was asked for.
    pub service: String,
    /// What should come back; `None` where only the rule matters.
    pub expect: Option<Expect>,
    /// What came back.
    pub seen: Seen,
    /// The rule that should decide, by its id.
    pub proves: Option<String>,
    /// The rule that did.
    pub rule: Option<String>,
    /// Why the two do not agree.
    pub wrong: Option<Wrong>,
    /// Why it was not tried, or something more about it.
    pub detail: Option<String>,
}

/// What is wrong with what came of a check.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wrong {
    /// Something else came back.
    Seen,
    /// Another rule decided.
    Rule,
    /// It was heard under another address at the other end than the one it should have there.
    HeardAs {
        /// The address it was heard under.
        heard: IpAddr,
        /// The one that it should have.
        wanted: IpAddr,
    },
    /// Another address was leased.
    Leased {
        /// The one that it should be.
        wanted: IpAddr,
    },
}

/// A rule, and how often it was hit.
#[derive(Clone, Debug)]
pub struct Hit {
    /// Its id.
    pub id: String,
    /// How many packets it decided.
    pub hits: u64,
    /// Whether a packet exists that it decides.
    pub can_match: bool,
    /// Whether none of these can be sent here: no ordinary machine begins one.
    pub beyond: bool,
}

impl Report {
    /// Whether all agrees, and every rule that can match was hit.
    pub fn agrees(&self) -> bool {
        self.tried.iter().all(|tried| tried.wrong.is_none()) && self.unhit().next().is_none()
    }

    /// The rules that could match and were never hit.
    pub fn unhit(&self) -> impl Iterator<Item = &Hit> {
        self.rules.iter().filter(|rule| rule.can_match && !rule.beyond && rule.hits == 0)
    }
}

/// A check before anything has come of it.
fn untried(check: &Check, from: String) -> Tried {
    Tried {
        id: check.id.clone(),
        from,
        to: check.to.clone(),
        service: check.probe.words(),
        expect: Some(check.expect),
        seen: Seen::NotTried,
        proves: check.proves.as_ref().map(|(_, id, _)| id.clone()),
        rule: None,
        wrong: None,
        detail: None,
    }
}

/// A packet for each rule that decides anything.
fn witnesses(meaning: &Meaning<'_>, rules: &RuleSet) -> HashMap<String, Packet> {
    let singles = bastium_core::proof::singles(meaning, rules);
    singles.witnesses.into_iter().map(|(rule, packet)| (rule.id.to_string(), packet)).collect()
}

/// How often each rule was hit, in the order of the lists.
fn hits(
    rules: &RuleSet,
    counts: &HashMap<String, u64>,
    alive: &HashSet<String>,
    beyond: &HashSet<String>,
) -> Vec<Hit> {
    let lists = rules.lists.iter().filter(|list| !list.implied);
    let all = lists.flat_map(|list| list.rules.iter().map(move |rule| (list.stage, rule)));
    let hit = |(stage, rule): (Stage, &Rule)| {
        let id = rule.id.to_string();
        Hit {
            hits: counts.get(&id).copied().unwrap_or(0),
            beyond: beyond.contains(&id),
            can_match: alive.contains(&id) || (stage == Stage::Opening && rule.packets().is_none()),
            id,
        }
    };
    all.map(hit).collect()
}

/// Whether what came back is what should.
fn is_expected(expect: Expect, seen: Seen) -> bool {
    matches!(
        (expect, seen),
        (Expect::Reply, Seen::Reply)
            | (Expect::Refused, Seen::Refused)
            | (Expect::Unreachable, Seen::Unreachable)
            | (Expect::Silence, Seen::Silence)
    )
}
