//! Rate-limited logging, which takes two rules: the first one logs packets up to a rate, the second one decides about
//! the same packets, logged or not.

use super::ruleset::{Part, Rule, Ruleset};
use serde_json::Value;

/// A rate below this is not meant to keep a log short, but to have none: entries a minute.
const LEAST_A_MINUTE: f64 = 1.0;

/// Whether so many packets in so long are enough for a log.
pub(super) fn is_enough(packets: u64, per: &str) -> Option<bool> {
    let minutes = match per {
        "second" => 1.0 / 60.0,
        "minute" => 1.0,
        "hour" => 60.0,
        "day" => 24.0 * 60.0,
        "week" => 7.0 * 24.0 * 60.0,
        _ => return None,
    };
    Some(packets as f64 / minutes >= LEAST_A_MINUTE)
}

/// A limit by its name, or so many packets in a time, from JSON; none of what is counted in bytes, or of what is above.
pub(super) fn limited(body: &Value) -> Option<Part> {
    if let Some(name) = body.as_str() {
        return Some(Part::OverLimit(name.to_owned()));
    }
    let of_packets = |key: &str| body[key].is_null() || body[key] == "packets";
    let above = body["inv"].as_bool().unwrap_or(false);
    if above || !of_packets("rate_unit") || !of_packets("burst_unit") {
        return None;
    }
    let (packets, per) = (body["rate"].as_u64()?, body["per"].as_str()?);
    let enough = is_enough(packets, per)?;
    Some(Part::Rate { enough, says: format!("limit rate {packets}/{per}") })
}

impl Ruleset {
    /// Makes one rule of each two that are a log at a limited rate and what is decided of the same packets.
    pub(super) fn with_logs_joined(mut self) -> Self {
        for chain in self.tables.iter_mut().flat_map(|table| &mut table.chains) {
            let mut rules: Vec<Rule> = Vec::with_capacity(chain.rules.len());
            for mut rule in std::mem::take(&mut chain.rules) {
                if let Some(log) = rules.last().and_then(|above| log_of(above, &rule)) {
                    rules.pop();
                    let place = tests(&rule);
                    rule.parts.insert(place, log);
                }
                rules.push(rule);
            }
            chain.rules = rules;
        }
        self
    }
}

/// The log that a rule keeps of the packets of the next, if that is all that it does.
fn log_of(above: &Rule, rule: &Rule) -> Option<Part> {
    let count = tests(above);
    let (own, deeds) = above.parts.split_at(count);
    let [Part::Rate { enough: true, .. }, log @ Part::Log { .. }] = deeds else { return None };
    let (same, rest) = rule.parts.split_at_checked(count)?;
    let decides = |part: &Part| matches!(part, Part::Verdict(_) | Part::Reject(_) | Part::Mark(_));
    let alone = same == own && !rest.is_empty() && rest.iter().all(decides);
    alone.then(|| log.clone())
}

/// How many conditions a rule begins with.
fn tests(rule: &Rule) -> usize {
    rule.parts.iter().take_while(|part| matches!(part, Part::Test(_))).count()
}
