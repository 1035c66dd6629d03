//! Which mistakes a checklist would catch.

use crate::{Cell, Column, Table};
use bastium_core::checklist::{self, Lapse, Noticed, Way};
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
    /// What each way of checking notices, by kind of mistake; empty unless it was asked for.
    pub ways: Vec<WaysRow>,
}

/// What each way of checking notices of the mistakes of one kind.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct WaysRow {
    /// The kind.
    pub kind: &'static str,
    /// Whether it is a mistake with rules; else with translation, DHCP, ports or Wi-Fi names.
    pub in_rules: bool,
    /// How many were made.
    pub made: usize,
    /// How many change nothing, or nothing but the log, or show by luck alone.
    pub hidden: usize,
    /// How many others none of the ways shows.
    pub by_none: usize,
    /// How many the list shows that one person carries.
    pub by_hand: usize,
    /// How many the whole list shows from a laptop in each network.
    pub laptops: usize,
    /// How many show over one cable to all networks and another outside, with a sweep.
    pub one_cable: usize,
    /// How many the rehearsal shows, with a sweep.
    pub rehearsal: usize,
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

/// One of the counts of a row.
type Count = fn(&WaysRow) -> usize;

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
            ways: Vec::new(),
        }
    }

    /// Adds what each way of checking notices.
    pub fn add_ways(&mut self, noticed: &[Noticed]) {
        let row = |one: &Noticed| {
            let [by_hand, laptops, one_cable, rehearsal] = one.shown;
            let Noticed { kind, in_rules, made, hidden, by_none, .. } = *one;
            WaysRow {
                kind,
                in_rules,
                made,
                hidden,
                by_none,
                by_hand,
                laptops,
                one_cable,
                rehearsal,
            }
        };
        self.ways = noticed.iter().map(row).collect();
    }

    /// The table by kind, for each way of checking.
    pub fn ways_table(&self) -> Table {
        let ways = Way::ALL.map(|way| Column::numbers(way.word()));
        let ends = [Column::whole("mistake"), Column::whole("with"), Column::numbers("made")];
        let none = ["by none", "hidden"].map(Column::numbers);
        let mut table = Table::new(ends.into_iter().chain(ways).chain(none));
        for row in &self.ways {
            let with = if row.in_rules { "rules" } else { "set-up" };
            let shown = [row.by_hand, row.laptops, row.one_cable, row.rehearsal];
            let counts = [row.made].into_iter().chain(shown).chain([row.by_none, row.hidden]);
            let counts = counts.map(Cell::from);
            table.row([row.kind.into(), with.into()].into_iter().chain(counts).collect::<Vec<_>>());
        }
        table
    }

    /// What each way of checking comes to, in a few sentences.
    pub fn ways_words(&self) -> String {
        let sum = |of: fn(&WaysRow) -> usize| self.ways.iter().map(of).sum::<usize>();
        let made = sum(|row| row.made);
        let (hidden, by_none) = (sum(|row| row.hidden), sum(|row| row.by_none));
        let left = made - hidden - by_none;
        let ways: [(&str, Count); 4] = [
            ("the list carried by hand", |row| row.by_hand),
            ("the whole list from a laptop in each network", |row| row.laptops),
            ("one cable to all networks and another outside, with a sweep,", |row| row.one_cable),
            ("the rehearsal, with a sweep,", |row| row.rehearsal),
        ];
        let shown = ways.map(|(way, of)| {
            let count = sum(of);
            format!("{way} shows {count} ({} %)", count * 100 / left.max(1))
        });
        let [one, two, three, four] = shown;
        format!(
            "{made} mistakes were made that people make, one at a time. {hidden} of them change nothing, or only the log, or \
             show by luck alone, and {by_none} show by none of these ways. Of the other {left}, {one}, {two}, {three}, and {four}. The rehearsal tries rules and \
             translation before anything is wired."
        )
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
            let counts = counts.map(Cell::from);
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
