//! What a checklist would catch.

use crate::{Cell, Column, Table};
use bastium_core::checklist::{self, Lapse};
use schemars::JsonSchema;
use serde::Serialize;

/// What a list would catch.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Strength {
    /// The mistakes that were made.
    pub mistakes: usize,
    /// Those that a check catches.
    pub caught: usize,
    /// Those that no check can show.
    pub undetectable: usize,
    /// Those that a check could show, and none of this list does.
    pub missed: usize,
    /// The same by kind of mistake.
    pub kinds: Vec<KindRow>,
    /// The mistakes that no check can show, with the reason.
    pub not_shown: Vec<LapseRow>,
    /// The mistakes that are missed.
    pub not_caught: Vec<LapseRow>,
}

/// What becomes of the mistakes of one kind.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct KindRow {
    /// The kind.
    pub kind: &'static str,
    /// How many were made.
    pub made: usize,
    /// How many a check catches.
    pub caught: usize,
    /// How many change the log alone.
    pub log_only: usize,
    /// How many change nothing.
    pub no_difference: usize,
    /// How many change nothing that a test place can send.
    pub no_place: usize,
    /// How many a check could show, and none does.
    pub missed: usize,
}

/// A mistake that is not caught.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LapseRow {
    /// Its kind.
    pub kind: &'static str,
    /// The id of the rule that it was made with; none if with all of them.
    pub rule: Option<String>,
    /// Why no check can show it: `log_only`, `no_difference` or `no_place`; none if one could.
    pub because: Option<&'static str>,
}

impl Strength {
    pub(super) fn of(strength: &checklist::Strength) -> Self {
        let row = |lapse: &Lapse, because| LapseRow {
            kind: lapse.kind.word(),
            rule: lapse.rule.clone(),
            because,
        };
        Self {
            mistakes: strength.mistakes,
            caught: strength.caught,
            undetectable: strength.undetectable.len(),
            missed: strength.missed.len(),
            kinds: strength
                .kinds
                .iter()
                .map(|(kind, tally)| KindRow {
                    kind: kind.word(),
                    made: tally.made,
                    caught: tally.caught,
                    log_only: tally.log_only,
                    no_difference: tally.no_difference,
                    no_place: tally.no_place,
                    missed: tally.missed,
                })
                .collect(),
            not_shown: strength
                .undetectable
                .iter()
                .map(|(lapse, why)| row(lapse, Some(why.word())))
                .collect(),
            not_caught: strength.missed.iter().map(|lapse| row(lapse, None)).collect(),
        }
    }

    /// The table by kind.
    pub fn table(&self) -> Table {
        let mut table = Table::new([
            Column::whole("mistake"),
            Column::numbers("made"),
            Column::numbers("caught"),
            Column::numbers("log only"),
            Column::numbers("no difference"),
            Column::numbers("no test point"),
            Column::numbers("missed"),
        ]);
        for kind in &self.kinds {
            let counts = [
                kind.made,
                kind.caught,
                kind.log_only,
                kind.no_difference,
                kind.no_place,
                kind.missed,
            ];
            let counts = counts.map(|count| Cell::from(count as u32));
            table.row(std::iter::once(kind.kind.into()).chain(counts).collect::<Vec<_>>());
        }
        table
    }
}

impl Strength {
    /// What it comes to, in a sentence or two.
    pub fn words(&self) -> String {
        let sum = |of: fn(&KindRow) -> usize| self.kinds.iter().map(of).sum::<usize>();
        let mut words = format!(
            "Of {} mistakes that a person can make while entering these rules, the list catches {}, and \
             misses {}.",
            self.mistakes, self.caught, self.missed
        );
        let reasons = [
            (sum(|kind| kind.log_only), "change the log alone"),
            (sum(|kind| kind.no_difference), "change nothing"),
            (sum(|kind| kind.no_place), "change only what no test point can send"),
        ];
        let reasons: Vec<String> = reasons
            .into_iter()
            .filter(|(count, _)| *count > 0)
            .map(|(count, what)| format!("{count} {what}"))
            .collect();
        if !reasons.is_empty() {
            words.push_str(&format!(" No check can show the others: {}.", reasons.join(", ")));
        }
        words
    }
}
