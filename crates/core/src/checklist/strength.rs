//! The strength of a checklist: which of the mistakes that people make while they enter rules it catches, and why the
//! others cannot be caught.

use super::candidate::Candidate;
use super::detection::Detection;
use crate::rules::mistakes::{Kind, Mistake};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Why no check can show a mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Undetectable {
    /// It changes the log alone, and only the log tells it.
    LogOnly,
    /// The same happens to every packet.
    NoDifference,
    /// Something else would happen to some packets, but none of them can be sent from a test place so that
    /// the answer tells it.
    NoPlace,
}

/// What a list would catch.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Strength {
    /// How many mistakes were made.
    pub mistakes: usize,
    /// How many of them a check of the list shows.
    pub caught: usize,
    /// Those that no check can show.
    pub undetectable: Vec<(Lapse, Undetectable)>,
    /// Those that a check could show, and none of the list does; and those for which it could not be decided.
    pub missed: Vec<Lapse>,
    /// The same by kind, in numbers.
    pub kinds: BTreeMap<Kind, Tally>,
    /// All of the mistakes.
    all: Vec<Lapse>,
}

/// What became of the mistakes of one kind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Tally {
    /// How many were made.
    pub made: usize,
    /// How many a check shows.
    pub caught: usize,
    /// How many change the log alone.
    pub log_only: usize,
    /// How many change nothing.
    pub no_difference: usize,
    /// How many change nothing that a test place can send.
    pub no_place: usize,
    /// How many none of the checks shows, though one could.
    pub missed: usize,
}

/// A mistake in a word, and the rule that it was made with.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Lapse {
    /// Its number in [`mistakes`](crate::rules::mistakes::mistakes) of the rules.
    pub number: u32,
    /// What kind it is.
    pub kind: Kind,
    /// The id of the rule; `None` if it was made with all of them.
    pub rule: Option<String>,
}

impl Undetectable {
    /// Its name in the JSON output.
    pub fn word(self) -> &'static str {
        match self {
            Self::LogOnly => "log_only",
            Self::NoDifference => "no_difference",
            Self::NoPlace => "no_place",
        }
    }
}

impl Strength {
    /// Measures a list.
    pub(super) fn of(
        shown: &Detection<'_>,
        chosen: &[Candidate],
        undetectable: Vec<(u32, Undetectable)>,
    ) -> Self {
        let lapse = |(number, mistake): (u32, &Mistake)| Lapse {
            number,
            kind: mistake.kind,
            rule: mistake.rule(shown.rules).map(|rule| rule.id.to_string()),
        };
        let all: Vec<Lapse> = (0u32..).zip(&shown.mistakes).map(lapse).collect();
        let never = |(number, why): (u32, Undetectable)| (all[number as usize].clone(), why);
        let mut strength = Self {
            mistakes: all.len(),
            undetectable: undetectable.into_iter().map(never).collect(),
            all,
            ..Self::default()
        };
        strength.measure_again(chosen.iter().flat_map(|c| c.shows.iter().copied()).collect());
        strength
    }

    /// Measures it again for a list that catches these.
    pub(super) fn measure_again(&mut self, caught: HashSet<u32>) {
        let never: HashMap<u32, Undetectable> =
            self.undetectable.iter().map(|(lapse, why)| (lapse.number, *why)).collect();
        self.caught = caught.len();
        self.missed.clear();
        self.kinds.clear();
        for lapse in &self.all {
            let tally = self.kinds.entry(lapse.kind).or_default();
            tally.made += 1;
            match never.get(&lapse.number) {
                _ if caught.contains(&lapse.number) => tally.caught += 1,
                Some(Undetectable::LogOnly) => tally.log_only += 1,
                Some(Undetectable::NoDifference) => tally.no_difference += 1,
                Some(Undetectable::NoPlace) => tally.no_place += 1,
                None => {
                    tally.missed += 1;
                    self.missed.push(lapse.clone());
                }
            }
        }
    }
}
