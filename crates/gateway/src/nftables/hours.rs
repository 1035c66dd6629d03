//! Turns minutes of the week into tests of day and hour.

use super::test::Test;
use bastium_core::space::{IntervalSet, Minute};

const DAYS: [&str; 7] =
    ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/// The tests for minutes of the week: one list of tests for each way to pass.
pub(super) fn ways(minutes: &IntervalSet<Minute>) -> Vec<Vec<Test>> {
    if minutes.is_full() {
        return vec![Vec::new()];
    }
    // The same hours on several days are one way.
    let mut by_hours: Vec<((u16, u16), Vec<&'static str>)> = Vec::new();
    for (number, day) in (0..7).zip(DAYS) {
        let start = number * Minute::PER_DAY;
        let whole =
            IntervalSet::range(Minute::new(start), Minute::new(start + Minute::PER_DAY - 1));
        for (low, high) in minutes.intersection(&whole).spans() {
            let hours = (low.number() - start, high.number() - start);
            match by_hours.iter_mut().find(|(known, _)| *known == hours) {
                Some((_, days)) => days.push(day),
                None => by_hours.push((hours, vec![day])),
            }
        }
    }
    let ways = by_hours.into_iter().map(|((first, last), days)| {
        let mut tests = Vec::new();
        if days.len() < 7 {
            tests.push(Test::Days(days));
        }
        if (first, last) != (0, Minute::PER_DAY - 1) {
            // The last minute counts to its last second.
            let (from, to) = ((first / 60, first % 60), (last / 60, last % 60));
            let words =
                format!("\"{:02}:{:02}:00\"-\"{:02}:{:02}:59\"", from.0, from.1, to.0, to.1);
            tests.push(Test::Hours(words));
        }
        tests
    });
    ways.collect()
}
