//! The evaluation of all results together.

use super::recorded::OfCheck;
use super::{Outcome, Record, Recorded};
use crate::edition::EDITION;
use crate::{Cell, Column, Table, Tone, count};
use bastium_core::checklist::{Check, Stand, Standpoint};
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use schemars::JsonSchema;
use serde::Serialize;

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
    /// How many lines of the files are no results.
    pub unread: usize,
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
        recorded: &Recorded<'_>,
    ) -> Self {
        let not_counted = of_others(recorded);
        let mut results = Vec::new();
        for stand in stands {
            let place = stand.standpoint.name(meaning);
            results.extend(stand.checks.iter().map(|check| {
                let row = row(check, &place, (meaning, rules), recorded);
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
            unread: recorded.unread,
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

    /// Whether every check was made, and none went otherwise than expected. A line that cannot be read may have been one
    /// that failed.
    pub fn is_done(&self) -> bool {
        let made = self.passed + self.not_shown;
        made > 0 && made == self.results.len() && self.unread == 0
    }

    /// Who made the results that count.
    pub fn people(&self) -> Vec<&str> {
        let mut people: Vec<&str> =
            self.results.iter().filter_map(|row| row.by.as_deref()).collect();
        people.sort_unstable();
        people.dedup();
        people
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
        ];
        for (count, what) in others.into_iter().filter(|(count, _)| *count > 0) {
            words.push_str(&format!("; {count} {what}"));
        }
        if self.of_others > 0 {
            let results = count(self.of_others, "result");
            words.push_str(&format!("; {results} of checks that this plan does not have"));
        }
        if self.unread > 0 {
            let lines = count(self.unread, "line");
            words.push_str(&format!("; {lines} of the results cannot be read"));
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

/// The results of checks that the plan does not have.
fn of_others(recorded: &Recorded<'_>) -> Vec<NotCounted> {
    let others = recorded.records.iter().filter(|one| !recorded.known.contains_key(&one.id));
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

fn row(
    check: &Check,
    place: &str,
    (meaning, rules): (&Meaning<'_>, &RuleSet),
    recorded: &Recorded<'_>,
) -> ResultRow {
    let found = recorded.of_check(check, meaning);
    let last = found.last;
    let otherwise = last.map(|last| otherwise(check, place, recorded, last)).unwrap_or_default();
    let missing = last.map(|last| recorded.missing(check, last)).unwrap_or_default();
    let outcome = match last.map(|record| record.outcome) {
        None | Some(Outcome::Note) => State::Open,
        Some(Outcome::Skip) => State::Skip,
        Some(Outcome::Pass | Outcome::Fail) if !otherwise.is_empty() => State::Changed,
        Some(Outcome::Pass) if !missing.is_empty() => State::NotShown,
        Some(Outcome::Pass) => State::Pass,
        Some(Outcome::Fail) => State::Fail,
    };
    let mut says = notes(check, recorded, &found);
    match outcome {
        State::NotShown => says.extend(missing),
        State::Changed => says.extend(otherwise),
        _ => {}
    }
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
        note: (!says.is_empty()).then(|| says.join("; ")),
        if_not: (outcome == State::Fail).then(|| check.if_not(rules)),
        takes: Vec::new(),
    }
}

/// In what a result is of another check than the one that the plan has now.
fn otherwise(check: &Check, place: &str, recorded: &Recorded<'_>, result: &Record) -> Vec<String> {
    let mut says = Vec::new();
    let about = recorded.known.get(&check.id);
    if about != Some(&result.means) || result.expect != check.expect.word() {
        says.push(format!("it was made of this: {}", result.means));
    }
    if result.place != place {
        says.push(format!("it was made at {}", result.place));
    }
    says
}

/// What people had to say, and which result came at another hour.
fn notes(check: &Check, recorded: &Recorded<'_>, found: &OfCheck<'_>) -> Vec<String> {
    let own = recorded.records.iter().filter(|record| record.id == check.id);
    let noted = own.filter(|record| record.outcome == Outcome::Note).chain(found.last);
    let mut says: Vec<String> = noted.filter_map(|record| record.note.clone()).collect();
    if let (Some(one), Some(when)) = (found.off_hours, check.when) {
        says.push(format!(
            "a result of {} does not count: the plan means something else at that hour than at {when}",
            recorded.minute(one)
        ));
    }
    says
}
