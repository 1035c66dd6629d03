//! Logging at a limited rate, which takes two rules: one writes to the log as long as there is not too much of it, and the
//! next one decides over the same packets, logged or not.

use super::ruleset::{Part, Rule, Ruleset};

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
    let goes_on = |part: &Part| {
        let decides = matches!(part, Part::Verdict(_) | Part::Reject(_) | Part::Mark(_));
        !decides
    };
    let alone = same == own && !rest.is_empty() && !rest.iter().any(goes_on);
    alone.then(|| log.clone())
}

/// How many conditions a rule begins with.
fn tests(rule: &Rule) -> usize {
    rule.parts.iter().take_while(|part| matches!(part, Part::Test(_))).count()
}
