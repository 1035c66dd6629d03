//! The rehearsal on paper: the same list, evaluated on the compiled rules in memory.

use super::{Report, Tried, Wrong, hits, is_expected, untried, witnesses};
use crate::probe::Seen;
use bastium_core::checklist::{Checklist, Expect};
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_core::verdict::Verdict;
use std::collections::{HashMap, HashSet};
use std::time::{Duration, Instant};

/// Goes through a checklist without any packet: what the first matching rule says is what comes back.
pub fn on_paper(meaning: &Meaning<'_>, rules: &RuleSet, list: &Checklist) -> Report {
    let begun = Instant::now();
    let mut counts: HashMap<String, u64> = HashMap::new();
    let mut tried = Vec::new();
    for stand in &list.stands {
        for check in &stand.checks {
            let mut one = untried(check, stand.standpoint.name(meaning));
            if !meaning.decide(&check.packet).verdict.is_filtered() {
                one.detail = Some(NOT_FILTERED.to_owned());
                tried.push(one);
                continue;
            }
            let outcome = rules.first_match(&check.packet);
            one.rule = outcome.rule.map(|rule| rule.id.to_string());
            let protocol = check.packet.service.protocol();
            one.seen =
                Expect::of(Verdict::from(outcome.action), protocol).map_or(Seen::NotTried, seen);
            judge(&mut one);
            count(&mut counts, &one, check.expect == Expect::Reply);
            tried.push(one);
        }
    }
    let alive = witnesses(meaning, rules);
    for packet in alive.values() {
        if let Some(rule) = rules.first_match(packet).rule {
            *counts.entry(rule.id.to_string()).or_default() += 1;
        }
    }
    let alive: HashSet<String> = alive.into_keys().collect();
    let rules = hits(rules, &counts, &alive, &HashSet::new());
    Report { tried, rules, set_up: Duration::ZERO, took: begun.elapsed() }
}

/// Said of a check whose packet no rule is asked about.
pub(super) const NOT_FILTERED: &str = "their traffic never reaches the gateway's rules";

/// Holds what came back, and by which rule, against what should.
pub(super) fn judge(one: &mut Tried) {
    one.wrong = match one.expect {
        _ if one.seen == Seen::NotTried => None,
        Some(expect) if !is_expected(expect, one.seen) => Some(Wrong::Seen),
        _ if one.proves != one.rule => Some(Wrong::Rule),
        _ => None,
    };
}

fn count(counts: &mut HashMap<String, u64>, one: &Tried, answered: bool) {
    if let Some(rule) = &one.rule {
        *counts.entry(rule.clone()).or_default() += 1;
    }
    if answered {
        // What comes back belongs to a permitted conversation.
        *counts.entry("reply".to_owned()).or_default() += 1;
    }
}

fn seen(expect: Expect) -> Seen {
    match expect {
        Expect::Reply => Seen::Reply,
        Expect::Refused => Seen::Refused,
        Expect::Unreachable => Seen::Unreachable,
        Expect::Silence => Seen::Silence,
    }
}
