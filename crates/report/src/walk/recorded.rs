//! Which recorded results belong to this plan, and which of them make silence evidence.

use super::{Outcome, Record};
use bastium_core::checklist::{Check, Stand};
use bastium_core::meaning::Meaning;
use bastium_core::rules::RuleSet;
use bastium_core::space::Minute;
use jiff::SignedDuration;
use jiff::tz::TimeZone;
use std::collections::HashMap;

/// So far from each other may silence and what makes it evidence lie: one working day. A device that answered last week need not
/// be on today.
const WORKING_DAY: SignedDuration = SignedDuration::from_hours(8);

/// What each check of a plan is about, by its id.
pub type Abouts = HashMap<String, String>;

/// The results of any number of people, and what they are compared with.
pub struct Recorded<'r> {
    /// The results, in the order of their files.
    pub records: &'r [Record],
    /// What the checks of the plan are about, in either list and at every place.
    pub known: &'r Abouts,
    /// How many lines of the files are no results.
    pub unread: usize,
    /// The time zone in which hours are.
    pub zone: TimeZone,
}

/// What the checks of a list are about.
pub fn abouts(stands: &[Stand], rules: &RuleSet) -> Abouts {
    let checks = stands.iter().flat_map(|stand| &stand.checks);
    checks.map(|check| (check.id.clone(), check.means(rules))).collect()
}

/// What there is of one check.
pub(super) struct OfCheck<'r> {
    /// The last result that was made when it may be.
    pub(super) last: Option<&'r Record>,
    /// A later one that was made at an hour at which the plan means something else.
    pub(super) off_hours: Option<&'r Record>,
}

impl<'r> Recorded<'r> {
    /// All results of a check, without the notes.
    fn of(&self, id: &str) -> impl Iterator<Item = &'r Record> {
        let records = self.records.iter();
        records.filter(move |record| record.id == id && record.outcome != Outcome::Note)
    }

    /// What there is of a check. Of two results at the same moment the later line counts.
    pub(super) fn of_check(&self, check: &Check, meaning: &Meaning<'_>) -> OfCheck<'r> {
        let in_time = |record: &Record| {
            record.outcome == Outcome::Skip || check.may_be_made(meaning, self.minute(record))
        };
        let (timely, others): (Vec<_>, Vec<_>) =
            self.of(&check.id).partition(|record| in_time(record));
        let latest = |all: Vec<&'r Record>| all.into_iter().max_by_key(|record| record.at);
        let last = latest(timely);
        let since = last.map(|last| last.at);
        OfCheck { last, off_hours: latest(others).filter(|one| Some(one.at) > since) }
    }

    /// The minute of the week in which a result was made.
    pub(super) fn minute(&self, record: &Record) -> Minute {
        Minute::of(record.at.to_zoned_datetime(self.zone.clone()).datetime())
    }

    /// What is missing for silence to count: that the other end is there, and that the own one is.
    pub(super) fn missing(&self, check: &Check, result: &Record) -> Vec<String> {
        if !check.needs_control() || result.both_ends {
            return Vec::new();
        }
        let ends = [
            // Where the gateway answers, it is there itself.
            (&check.control, result.gateway_answered && check.is_to_gateway, &check.to),
            (&check.own_end, result.gateway_answered, &result.place),
        ];
        let missing = ends.into_iter().filter_map(|(control, is_known, end)| match control {
            _ if is_known => None,
            Some(control) if self.has_passed_beside(control, result) => None,
            Some(control) => Some(format!(
                "it counts once {control} has passed, within {} hours of it",
                WORKING_DAY.as_hours()
            )),
            None => Some(format!("no check shows that {end} is on and connected")),
        });
        let mut missing: Vec<String> = missing.collect();
        missing.dedup();
        missing
    }

    /// Whether a check of this plan has passed on the day of a result, and not failed since.
    fn has_passed_beside(&self, control: &str, result: &Record) -> bool {
        let passed = |record: &Record| {
            record.outcome == Outcome::Pass && self.known.get(control) == Some(&record.means)
        };
        let beside = |record: &Record| record.at.duration_since(result.at).abs() <= WORKING_DAY;
        self.of(control).max_by_key(|record| record.at).is_some_and(passed)
            && self.of(control).any(|record| passed(record) && beside(record))
    }
}
