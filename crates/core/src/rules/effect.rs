//! The effect of a rule on a packet, as far as the sender or a reader of the log can observe it.

use super::Rule;
use crate::plan::Action;

/// What happens to a packet: whether it passes, how it is refused, whether that is logged, and how much passes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub struct Effect {
    /// Whether it passes, and how it is refused.
    pub action: Action,
    /// Whether that is logged.
    pub log: bool,
    /// The rate limit, by the bits of the number of megabits per second, so that it can be compared.
    limit: Option<u64>,
}

impl Effect {
    /// What a rule does with each of its packets.
    pub fn of(rule: &Rule) -> Self {
        Self { action: rule.action, log: rule.log, limit: rule.limit_mbps.map(f64::to_bits) }
    }

    /// An action that is not logged.
    pub(crate) fn silent(action: Action) -> Self {
        Self { action, log: false, limit: None }
    }

    /// The rate limit, in megabits per second.
    pub fn limit_mbps(&self) -> Option<f64> {
        self.limit.map(f64::from_bits)
    }
}
