//! Rate limits on conversations: rules that drop the excess packets of those with a mark.

use super::Problem;
use crate::nftables::read::ruleset::{
    Chain, Key, Part, Rule, Ruleset, Table, Value, Values, Verdict,
};
use std::collections::HashMap;

/// What the rules make of marks and rates.
#[derive(Default)]
pub(super) struct Limits {
    /// By mark: the rate in bytes a second to which the conversations with it are held.
    pub(super) rates: HashMap<u32, u64>,
    /// Whether a packet that begins a conversation may have a mark when a rule asks for it.
    pub(super) marks_decide: bool,
    /// Why that is not known of a limit.
    pub(super) problems: Vec<Problem>,
}

impl Limits {
    pub(super) fn of(ruleset: &Ruleset) -> Self {
        let mut limits = Self::default();
        for table in &ruleset.tables {
            for chain in &table.chains {
                limits.see(table, chain);
            }
        }
        if !limits.rates.is_empty() {
            let rules = ruleset.tables.iter().flat_map(|t| &t.chains).flat_map(|c| &c.rules);
            for rule in rules.filter(|rule| marks_and_goes_on(rule)) {
                let what =
                    "it gives a mark to what other rules decide over, and a limit asks for marks";
                limits.problems.push(Problem { at: rule.at.clone(), what: what.to_owned() });
            }
        }
        limits
    }

    /// A limit holds what is passed on if nothing passes before it is asked: at the head of a chain for both
    /// families that the kernel asks by itself. Elsewhere, nobody can say whom it holds.
    fn see(&mut self, table: &Table, chain: &Chain) {
        let passed_on = |hook: &super::Hook| hook.kind == "filter" && hook.hook == "forward";
        let mut leads = table.family == "inet" && chain.hook.as_ref().is_some_and(passed_on);
        for rule in &chain.rules {
            self.marks_decide |= marks_and_goes_on(rule);
            match limits_mark(table, rule) {
                Some((mark, rate)) if leads => {
                    let known = self.rates.entry(mark).or_insert(rate);
                    *known = (*known).min(rate);
                }
                Some(_) => {
                    let what = "a limit that is not asked before everything else that is passed on";
                    self.problems.push(Problem { at: rule.at.clone(), what: what.to_owned() });
                }
                None => {
                    leads &= rule
                        .parts
                        .iter()
                        .all(|part| matches!(part, Part::Test(_) | Part::Log { .. }))
                }
            }
        }
    }
}

/// Whether a rule marks conversations and leaves it to others what becomes of them.
fn marks_and_goes_on(rule: &Rule) -> bool {
    let marks = rule.parts.iter().any(|part| matches!(part, Part::Mark(_)));
    let ends = |part: &Part| {
        matches!(part, Part::Verdict(Verdict::Accept | Verdict::Drop) | Part::Reject(_))
    };
    marks && !rule.parts.iter().any(ends)
}

/// A rule that holds the conversations with a mark to a rate: the mark, and bytes a second.
pub(super) fn limits_mark(table: &Table, rule: &Rule) -> Option<(u32, u64)> {
    let [Part::Test(test), Part::OverLimit(name), Part::Verdict(Verdict::Drop)] =
        rule.parts.as_slice()
    else {
        return None;
    };
    let limit = table.limits.get(name).filter(|limit| limit.over)?;
    match (&test.keys[..], test.not, &test.values) {
        ([Key::Mark], false, Values::Given(values)) => match values.as_slice() {
            [value] => match value.as_slice() {
                // A burst has to hold a packet, or nothing gets through at all.
                [Value::Mark(mark)] if *mark != 0 && limit.burst_bytes >= 1514 => {
                    Some((*mark, limit.bytes_per_second))
                }
                _ => None,
            },
            _ => None,
        },
        _ => None,
    }
}

pub(super) fn marks(chain: &Chain) -> bool {
    chain.rules.iter().flat_map(|rule| &rule.parts).any(|part| matches!(part, Part::Mark(_)))
}
