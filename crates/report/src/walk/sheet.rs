//! What all results together come to.

use super::{Outcome, Record};
use crate::edition::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::checklist::{Check, Stand, Standpoint};
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashSet;

/// Where a check stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum State {
    /// It went as expected.
    Pass,
    /// Nothing came back, as expected; but nothing shows that the other end was there at all.
    NotShown,
    /// It did not.
    Fail,
    /// It was left out.
    Skip,
    /// It went as expected, but the plan has changed what it is about since then.
    Changed,
    /// Nobody has made it yet.
    Open,
}

impl State {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::NotShown => "not shown",
            Self::Fail => "FAIL",
            Self::Skip => "skip",
            Self::Changed => "changed",
            Self::Open => "open",
        }
    }
}

/// One check, and what came of it.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ResultRow {
    /// The check's id.
    pub id: String,
    /// What it shows, in a sentence.
    pub says: String,
    /// Where it is made.
    pub place: String,
    /// Where it goes.
    pub to: String,
    /// What is asked for.
    pub service: String,
    /// What is expected.
    pub expect: &'static str,
    /// Where it stands.
    pub outcome: State,
    /// What came back.
    pub seen: Option<String>,
    /// Who made it.
    pub by: Option<String>,
    /// When.
    pub at: Option<String>,
    /// What there is to say.
    pub note: Option<String>,
    /// What to look at, where it went wrong.
    pub if_not: Option<String>,
    /// What it takes beside a laptop with a leased address, where it is still to be made.
    pub takes: Vec<String>,
}

/// A result that does not count: the plan has no such check.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct NotCounted {
    /// The check's id.
    pub id: String,
    /// Where it was made.
    pub place: String,
    /// Who made it.
    pub by: String,
    /// When.
    pub at: String,
}

/// All checks of a list, and what came of them.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct WalkSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The site's name.
    pub site: String,
    /// The day that the list is for.
    pub day: String,
    /// How many went as expected.
    pub passed: usize,
    /// How many were silent as expected, while nothing shows that the other end was there.
    pub not_shown: usize,
    /// How many did not.
    pub failed: usize,
    /// How many were left out.
    pub skipped: usize,
    /// How many have to be made again, since the plan has changed.
    pub changed: usize,
    /// How many are still to be made.
    pub open: usize,
    /// How many results are of checks that the plan does not have, or has no longer, in either list.
    pub of_others: usize,
    /// Those results.
    pub not_counted: Vec<NotCounted>,
    /// The checks.
    pub results: Vec<ResultRow>,
}

impl WalkSheet {
    /// Puts a list and the results of any number of people together: the last one of each check counts, and
    /// what it was about has to be what the check is about now.
    pub fn new(
        meaning: &Meaning<'_>,
        rules: &RuleSet,
        stands: &[Stand],
        records: &[Record],
        known: &HashSet<String>,
    ) -> Self {
        let not_counted = of_others(records, known);
        let mut results = Vec::new();
        for stand in stands {
            let place = stand.standpoint.name(meaning);
            results.extend(stand.checks.iter().map(|check| {
                let row = row(check, &place, rules, records);
                let due = [State::Open, State::Changed].contains(&row.outcome);
                ResultRow {
                    takes: if due { takes(meaning, stand, check) } else { Vec::new() },
                    ..row
                }
            }));
        }
        let count = |state| results.iter().filter(|row: &&ResultRow| row.outcome == state).count();
        Self {
            bastium: EDITION,
            site: meaning.plan().site().name.clone(),
            day: meaning.day().to_string(),
            passed: count(State::Pass),
            not_shown: count(State::NotShown),
            failed: count(State::Fail),
            skipped: count(State::Skip),
            changed: count(State::Changed),
            open: count(State::Open),
            of_others: not_counted.len(),
            not_counted,
            results,
        }
    }

    /// What is still to be made, place by place, with what it takes there.
    pub fn due(&self) -> Vec<(String, String)> {
        let mut places: Vec<(String, Vec<&ResultRow>)> = Vec::new();
        let due = [State::Open, State::Changed];
        for row in self.results.iter().filter(|row| due.contains(&row.outcome)) {
            match places.iter_mut().find(|(place, _)| *place == row.place) {
                Some((_, rows)) => rows.push(row),
                None => places.push((row.place.clone(), vec![row])),
            }
        }
        let words = |(place, rows): (String, Vec<&ResultRow>)| {
            let count = match rows.len() {
                1 => "1 check".to_owned(),
                count => format!("{count} checks"),
            };
            let mut takes: Vec<&str> = Vec::new();
            for one in rows.iter().flat_map(|row| &row.takes) {
                if !takes.contains(&one.as_str()) {
                    takes.push(one);
                }
            }
            (format!("{count} at {place}"), takes.join(", "))
        };
        places.into_iter().map(words).collect()
    }

    /// Whether every check was made, and none went otherwise than expected.
    pub fn is_done(&self) -> bool {
        self.passed + self.not_shown == self.results.len()
    }

    /// What it comes to, in a sentence.
    pub fn words(&self) -> String {
        let mut words = format!("{} of {} checks passed", self.passed, self.results.len());
        let others = [
            (self.not_shown, "silent, with nothing that shows that the other end was there"),
            (self.failed, "failed"),
            (self.skipped, "left out"),
            (self.changed, "to make again since the plan has changed"),
            (self.open, "open"),
            (self.of_others, "results of checks that this plan does not have"),
        ];
        for (count, what) in others.into_iter().filter(|(count, _)| *count > 0) {
            words.push_str(&format!("; {count} {what}"));
        }
        words
    }

    /// All rows, for CSV and Markdown.
    pub fn tables(&self) -> Vec<Table> {
        vec![table(&self.results)]
    }

    /// What is not as it should be, or has a note.
    pub fn remarkable(&self) -> impl Iterator<Item = &ResultRow> {
        self.results.iter().filter(|row| {
            let to_see = [State::Fail, State::Skip, State::Changed, State::NotShown];
            to_see.contains(&row.outcome) || row.note.is_some()
        })
    }
}

impl ResultRow {
    /// What was expected and what came of it.
    pub fn words(&self) -> String {
        let seen = self.seen.as_deref().map(|seen| format!(", seen {seen}")).unwrap_or_default();
        let by = self.by.as_deref().map(|by| format!("; by {by}")).unwrap_or_default();
        format!("at {} by {}: expected {}{seen}{by}", self.place, self.service, self.expect)
    }
}

fn table(rows: &[ResultRow]) -> Table {
    let mut table = Table::new([
        Column::whole("outcome"),
        Column::text("check"),
        Column::text("place"),
        Column::text("to"),
        Column::whole("expected"),
        Column::text("seen"),
        Column::text("by"),
        Column::text("at"),
        Column::text("note"),
    ]);
    for row in rows {
        let said = [row.note.as_deref(), row.if_not.as_deref()];
        let said: Vec<&str> = said.into_iter().flatten().collect();
        table.row([
            state_cell(row.outcome),
            row.id.clone().into(),
            row.place.clone().into(),
            format!("{} {}", row.to, row.service).into(),
            row.expect.into(),
            row.seen.clone().unwrap_or_default().into(),
            row.by.clone().unwrap_or_default().into(),
            row.at.clone().unwrap_or_default().into(),
            said.join("; ").into(),
        ]);
    }
    table
}

fn state_cell(state: State) -> Cell {
    match state {
        State::Pass => Cell::toned(state.word(), Tone::Good),
        State::Fail => Cell::toned(state.word(), Tone::Bad),
        State::NotShown => Cell::toned(state.word(), Tone::Warn),
        State::Skip | State::Changed | State::Open => state.word().into(),
    }
}

/// What is missing for a silence to count: that the other end is there, and that the own one is.
fn missing(check: &Check, result: &Record, records: &[Record]) -> Vec<String> {
    if !check.needs_control() || result.both_ends {
        return Vec::new();
    }
    let has_passed = |control: &String| {
        let own = records.iter().filter(|record| record.id == *control);
        let last =
            own.filter(|record| record.outcome != Outcome::Note).max_by_key(|record| record.at);
        last.is_some_and(|record| record.outcome == Outcome::Pass)
    };
    let ends = [
        // Where the gateway answers, it is there itself.
        (&check.control, result.gateway_answered && check.is_to_gateway, &check.to),
        (&check.own_end, result.gateway_answered, &result.place),
    ];
    let missing = ends.into_iter().filter_map(|(control, is_known, end)| match control {
        _ if is_known => None,
        Some(control) if has_passed(control) => None,
        Some(control) => Some(format!("it counts once {control} has passed")),
        None => Some(format!("no check shows that {end} is on and connected")),
    });
    let mut missing: Vec<String> = missing.collect();
    missing.dedup();
    missing
}

/// The results of checks that the plan does not have.
fn of_others(records: &[Record], known: &HashSet<String>) -> Vec<NotCounted> {
    let others = records.iter().filter(|record| !known.contains(&record.id));
    let of = |record: &Record| NotCounted {
        id: record.id.clone(),
        place: record.place.clone(),
        by: record.by.clone(),
        at: record.at.to_string(),
    };
    others.map(of).collect()
}

/// What a check takes that a laptop with a leased address does not have.
fn takes(meaning: &Meaning<'_>, stand: &Stand, check: &Check) -> Vec<String> {
    let place = match &stand.standpoint {
        Standpoint::Network(_) => None,
        Standpoint::Address(_, address) | Standpoint::Behind(_, _, address) => {
            Some(format!("the address {address}"))
        }
        Standpoint::Outside => Some("a place outside the site".to_owned()),
        Standpoint::OutsideAt(address) => Some(format!("the address {address}, outside the site")),
        Standpoint::OutsideBy(uplink, _) => {
            let uplink = meaning.plan().uplinks().get(*uplink);
            uplink.map(|uplink| format!("a place outside, by {}", uplink.name))
        }
    };
    let hour = check.when.map(|at| format!("a time such as {at}"));
    let device = check.set_up_at().map(|at| format!("something that listens at {at}"));
    let silent = check.may_stay_silent();
    let answers = silent.then(|| format!("something that answers by UDP at {}", check.to));
    [place, hour, device, answers].into_iter().flatten().collect()
}

fn row(check: &Check, place: &str, rules: &RuleSet, records: &[Record]) -> ResultRow {
    let own = || records.iter().filter(|record| record.id == check.id);
    // Of two at the same moment the later line counts.
    let last =
        own().filter(|record| record.outcome != Outcome::Note).max_by_key(|record| record.at);
    let same = last.is_some_and(|record| {
        record.means == check.means(rules) && record.expect == check.expect.word()
    });
    let missing = last.map(|last| missing(check, last, records)).unwrap_or_default();
    let outcome = match last.map(|record| record.outcome) {
        None | Some(Outcome::Note) => State::Open,
        Some(Outcome::Skip) => State::Skip,
        Some(Outcome::Pass | Outcome::Fail) if !same => State::Changed,
        Some(Outcome::Pass) if !missing.is_empty() => State::NotShown,
        Some(Outcome::Pass) => State::Pass,
        Some(Outcome::Fail) => State::Fail,
    };
    let noted = own().filter(|record| record.outcome == Outcome::Note);
    let missing = missing.into_iter().filter(|_| outcome == State::NotShown);
    let mut missing: Vec<String> = missing.collect();
    if let Some(last) = last.filter(|_| outcome == State::Changed) {
        missing.push(format!("it was made of this: {}", last.means));
    }
    let notes: Vec<&str> = noted.chain(last).filter_map(|record| record.note.as_deref()).collect();
    let notes: Vec<&str> = notes.into_iter().chain(missing.iter().map(String::as_str)).collect();
    ResultRow {
        id: check.id.clone(),
        says: check.says.clone(),
        place: place.to_owned(),
        to: check.to.clone(),
        service: check.probe.words(),
        expect: check.expect.word(),
        outcome,
        seen: last.and_then(|record| record.seen.clone()),
        by: last.map(|record| record.by.clone()),
        at: last.map(|record| record.at.to_string()),
        note: (!notes.is_empty()).then(|| notes.join("; ")),
        if_not: (outcome == State::Fail).then(|| check.if_not(rules)),
        takes: Vec::new(),
    }
}
