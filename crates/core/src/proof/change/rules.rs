//! Which rules are added, removed, moved or changed between two lists, regardless of their names.

use super::super::joint::{Joint, Side};
use crate::plan::Action;
use crate::rules::{Rule, RuleId, RuleSet, Stage};
use crate::space::{Match, ServiceSet};
use std::collections::HashMap;
use std::hash::Hash;

/// What became of a rule.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum RuleChange<'r> {
    /// It is new.
    Added(&'r Rule),
    /// It is not there any more.
    Removed(&'r Rule),
    /// It stands elsewhere among those that stayed.
    Moved(&'r Rule, &'r Rule),
    /// It says something else.
    Changed(&'r Rule, &'r Rule),
}

/// What a rule does, without its name, its number and its reasons.
#[derive(PartialEq, Eq, Hash)]
struct Content {
    stage: Stage,
    matches: Option<Match>,
    back: Option<ServiceSet>,
    action: Action,
    log: bool,
    limit: Option<u64>,
}

/// Compares two rule sets. Rules that do the same are the same, also under another name; of the rest, those
/// with one id are.
pub(super) fn changes<'r>(
    joint: &Joint,
    old: &'r RuleSet<'r>,
    new: &'r RuleSet<'r>,
) -> Vec<RuleChange<'r>> {
    let (before, after) = (contents(&joint.old, old), contents(&joint.new, new));
    let named = |all: &[(Content, &'r Rule)]| all.iter().map(|(_, rule)| &rule.id).collect();
    let keys = |all: Vec<(Content, &'r Rule)>| all.into_iter().unzip();
    let ids: (Vec<&RuleId>, Vec<&RuleId>) = (named(&before), named(&after));
    let (before, old): (Vec<Content>, Vec<&Rule>) = keys(before);
    let (after, new): (Vec<Content>, Vec<&Rule>) = keys(after);
    let reported = line_changes((&before, &ids.0), (&after, &ids.1));
    let rule = reported.into_iter().map(|change| match change {
        LineChange::Added(there) => RuleChange::Added(new[there]),
        LineChange::Removed(here) => RuleChange::Removed(old[here]),
        LineChange::Moved(here, there) => RuleChange::Moved(old[here], new[there]),
        LineChange::Changed(here, there) => RuleChange::Changed(old[here], new[there]),
    });
    rule.collect()
}

/// What became of a line, by its places in the two lists.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LineChange {
    /// It is new.
    Added(usize),
    /// It is not there any more.
    Removed(usize),
    /// It stands elsewhere among those that stayed.
    Moved(usize, usize),
    /// It says something else.
    Changed(usize, usize),
}

/// Compares two lists of lines, each by what it says and by its name.
pub fn line_changes<K: Hash + Eq, N: Hash + Eq>(
    (before, old_ids): (&[K], &[N]),
    (after, new_ids): (&[K], &[N]),
) -> Vec<LineChange> {
    let mut places: HashMap<&K, Vec<usize>> = HashMap::new();
    for (place, content) in after.iter().enumerate().rev() {
        places.entry(content).or_default().push(place);
    }
    let same = |content: &K| places.get_mut(content).and_then(Vec::pop);
    let pairs: Vec<Option<usize>> = before.iter().map(same).collect();
    let mut taken = vec![false; after.len()];
    pairs.iter().flatten().for_each(|place| taken[*place] = true);
    let stayed = pairs.iter().enumerate().filter_map(|(old, new)| Some((old, (*new)?)));
    let stayed: Vec<(usize, usize)> = stayed.collect();
    let in_order = longest_rise(&stayed.iter().map(|(_, new)| *new).collect::<Vec<_>>());
    let moved = stayed.iter().zip(in_order).filter(|(_, in_order)| !in_order);
    let mut changes: Vec<LineChange> =
        moved.map(|((old, new), _)| LineChange::Moved(*old, *new)).collect();
    for (old, id) in old_ids.iter().enumerate().filter(|(old, _)| pairs[*old].is_none()) {
        let named = |new: &usize| !taken[*new] && new_ids[*new] == *id;
        match (0..after.len()).find(named) {
            Some(new) => {
                taken[new] = true;
                changes.push(LineChange::Changed(old, new));
            }
            None => changes.push(LineChange::Removed(old)),
        }
    }
    let added = (0..after.len()).filter(|place| !taken[*place]);
    changes.extend(added.map(LineChange::Added));
    changes
}

fn contents<'r>(side: &Side, rules: &'r RuleSet<'r>) -> Vec<(Content, &'r Rule)> {
    let lists = rules.lists.iter().filter(|list| !list.implied);
    let all = lists.flat_map(|list| list.rules.iter().map(move |rule| (list.stage, rule)));
    let content = |(stage, rule): (Stage, &'r Rule)| {
        let content = Content {
            stage,
            matches: rule.packets().map(|matches| side.product(matches)),
            back: rule.replies_from().cloned(),
            action: rule.action,
            log: rule.log,
            limit: rule.limit_mbps.map(f64::to_bits),
        };
        (content, rule)
    };
    all.map(content).collect()
}

/// Which numbers belong to one of the longest rising subsequences.
fn longest_rise(numbers: &[usize]) -> Vec<bool> {
    // For each length, where the subsequence of that length ends that ends lowest.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; numbers.len()];
    for (place, number) in numbers.iter().enumerate() {
        let length = ends.partition_point(|end| numbers[*end] < *number);
        before[place] = length.checked_sub(1).map(|shorter| ends[shorter]);
        if length == ends.len() {
            ends.push(place);
        } else {
            ends[length] = place;
        }
    }
    let mut rising = vec![false; numbers.len()];
    let mut place = ends.last().copied();
    while let Some(here) = place {
        rising[here] = true;
        place = before[here];
    }
    rising
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn no_rise_is_longer(numbers in Just((0..7usize).collect::<Vec<_>>()).prop_shuffle()) {
            let rising = longest_rise(&numbers);
            let chosen: Vec<usize> =
                numbers.iter().zip(&rising).filter(|(_, rises)| **rises).map(|(n, _)| *n).collect();
            prop_assert!(chosen.windows(2).all(|pair| pair[0] < pair[1]));
            let rises = |mask: &u32| {
                let some: Vec<usize> =
                    (0..7).filter(|i| mask >> i & 1 == 1).map(|i| numbers[i]).collect();
                some.windows(2).all(|pair| pair[0] < pair[1])
            };
            let longest = (0..128u32).filter(rises).map(u32::count_ones).max().unwrap_or(0);
            prop_assert_eq!(chosen.len(), longest as usize);
        }
    }
}
