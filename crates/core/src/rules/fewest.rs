//! Reduces rule lists: rules that repeat what follows them are left out, and rules that differ in one respect only
//! are joined.
//!
//! Each step is checked exactly against the lists as they are at that moment, log and rate limit included, so that no
//! packet is treated differently, whether or not it can occur in practice. The search is greedy: nothing more can be
//! left out of the result, but a shorter list may exist. [`least`](fn@least) bounds how far the result can be from
//! the shortest.

mod join;
mod least;
mod sequence;

pub use least::least;

use super::{Rule, RuleList};
use crate::verdict::Cause;
use sequence::Sequence;

/// Lists longer than this are left as they are. Nobody enters so many rules by hand, and to look at each of a hundred
/// thousand would take longer than the proof.
pub const MOST_RULES: usize = 20_000;

/// Reduces lists. Returns the rules that were left out because what follows them does the same.
pub(super) fn reduce(lists: &mut Vec<RuleList>) -> Vec<Rule> {
    if lists.iter().map(|list| list.rules.len()).sum::<usize>() > MOST_RULES {
        return Vec::new();
    }
    for list in lists.iter_mut() {
        list.leave_the_end_to_the_closing_list();
    }
    let mut left_out = leave_out(lists);
    join::join(lists);
    // A joined rule may do the work of others.
    left_out.extend(leave_out(lists));
    lists.retain(|list| !list.rules.is_empty() || !list.goes_on_to_the_closing_list());
    left_out
}

/// Leaves out every rule whose packets fare the same without it, the lowest first. One pass is enough: what is left out
/// above a rule only gives it more packets, so that a rule which was needed stays needed.
fn leave_out(lists: &mut [RuleList]) -> Vec<Rule> {
    let mut sequence = Sequence::new(lists);
    for line in (0..sequence.len()).rev() {
        let rule = sequence.place(line).map(|(list, place)| &lists[list].rules[place]);
        let Some(packets) = rule.filter(|rule| is_optional(rule)).and_then(Rule::first_packets)
        else {
            continue;
        };
        if !sequence.is_decided_otherwise_below(line, packets) {
            sequence.remove(line);
        }
    }
    sequence.take_removed(lists)
}

/// Whether a rule may be left out at all. The last rule of a list stays, though the list would end in the same way: it
/// says what happens, and is the one that logs. A rate limit counts packets that no other rule counts. What is spoofed is
/// logged before a gateway drops by itself, in silence, what has no route: no rule below does the work of those rules.
fn is_optional(rule: &Rule) -> bool {
    rule.limit_mbps.is_none()
        && !matches!(rule.cause, Cause::Unmatched | Cause::Reply | Cause::Spoofed(..))
}
