//! Hours: minutes of the week with a name.

use super::super::Hours;
use super::super::draft;
use super::{Resolver, names, nearest_or};
use crate::diagnosis::{Diagnose, Diagnosis, error};
use crate::name::{Name, nearest};
use crate::source::{Span, Text};
use crate::space::{DAYS, IntervalSet, Minute, time_of_day};

/// What can be wrong with hours.
#[derive(Clone, Debug, PartialEq, Eq)]
#[expect(missing_docs, reason = "the fields say what they hold")]
pub enum HoursProblem {
    /// A day, or a range of days, that is none.
    Days { word: String, at: Span },
    /// A time of day that is none.
    Time { word: String, at: Span },
    /// It does not say on which days, from when, or to when.
    Incomplete { hours: Name, missing: &'static str, at: Span },
    /// Others have the name.
    Twice { name: Name, at: Span, first: Span },
    /// An entry names hours that are not there.
    Unknown { word: String, nearest: Option<String>, at: Span },
}

impl Diagnose for HoursProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Days { word, at } => error("bad-hours", at)
                .says(format!("`{word}` is not a day of the week, nor a range of them"))
                .help("write mon, tue, wed, thu, fri, sat, sun, ranges like mon-fri, and commas"),
            Self::Time { word, at } => error("bad-hours", at)
                .says(format!("`{word}` is not a time of day"))
                .help("write it like 06:45; the end of a day is 24:00"),
            Self::Incomplete { hours, missing, at } => error("incomplete-hours", at)
                .says(format!("hours `{hours}` do not say `{missing}`"))
                .help(match *missing {
                    "days" => "add a line like `days = \"mon-fri\"`",
                    "from" => "add a line like `from = \"06:45\"`",
                    _ => "add a line like `to = \"11:00\"`, which is the first minute outside",
                }),
            Self::Twice { name, at, first } => error("name-taken", at)
                .says(format!("hours `{name}` are declared twice"))
                .help("give one of the two another name")
                .also(*first, "declared here"),
            Self::Unknown { word, nearest, at } => error("unknown-hours", at)
                .says(format!("no hours are called `{word}`"))
                .help(match in_place(word) {
                    Some([days, from, to]) => format!(
                        "hours have a name: declare `[hours.NAME]` with `days = \"{days}\"`, `from = \"{from}\"` and `to = \"{to}\"`, and write `hours = \"NAME\"` here"
                    ),
                    None => nearest_or(nearest.as_ref(), "declare them as `[hours.NAME]`"),
                }),
        }
    }
}

/// The hours that can be built; the problems of the others are noted.
pub(super) fn hours(drafts: &[draft::Hours], resolver: &mut Resolver) -> Vec<Hours> {
    let mut built: Vec<Hours> = Vec::new();
    for draft in drafts {
        let Some(name) = names::name(&draft.name, resolver) else { continue };
        let at = draft.name.at;
        if let Some(first) = built.iter().find(|other| other.name == name) {
            let first = first.at;
            resolver.problem(HoursProblem::Twice { name, at, first });
            continue;
        }
        let spans = draft.spans.iter().filter_map(|span| minutes(span, &name, resolver));
        let minutes = spans.fold(IntervalSet::empty(), |all, span| all.union(&span));
        built.push(Hours { name, minutes, at });
    }
    built
}

/// Days, beginning and end, where a word has them in place of a name: `mon-fri 08:00-18:00`.
fn in_place(word: &str) -> Option<[String; 3]> {
    let plain = word.to_lowercase().replace(" to ", "-").replace(['\u{2013}', ','], " ");
    let parts: Vec<&str> = plain.split_whitespace().collect();
    let (span, days) = match parts.as_slice() {
        [days @ .., span] if span.contains(':') => (*span, days),
        [span, days @ ..] if span.contains(':') => (*span, days),
        _ => return None,
    };
    let (from, to) = span.split_once('-')?;
    let [from, to] =
        [from, to].map(|time| if time.len() == 4 { format!("0{time}") } else { time.to_owned() });
    time_of_day(&from)?;
    time_of_day(&to)?;
    let days = if days.is_empty() { "mon-sun".to_owned() } else { days.join(",") };
    Some([days, from, to])
}

/// The hours of that name, for an entry that says it holds only then.
pub(super) fn named(word: &Text, hours: &[Hours], resolver: &mut Resolver) -> Option<Hours> {
    let found = hours.iter().find(|hours| hours.name.as_str() == word.value);
    if found.is_none() {
        let names = hours.iter().map(|hours| hours.name.as_str());
        resolver.problem(HoursProblem::Unknown {
            word: word.value.clone(),
            nearest: nearest(&word.value, names).map(str::to_owned),
            at: word.at,
        });
    }
    found.cloned()
}

/// One span. An end that is not after the beginning lies on the next day.
fn minutes(
    span: &draft::HourSpan,
    name: &Name,
    resolver: &mut Resolver,
) -> Option<IntervalSet<Minute>> {
    let at = span.at;
    let mut missing = |missing| {
        let hours = name.clone();
        resolver.problem(HoursProblem::Incomplete { hours, missing, at });
    };
    if span.days.is_empty() {
        missing("days");
    }
    let (Some(from), Some(to)) = (&span.from, &span.to) else {
        for (key, value) in [("from", &span.from), ("to", &span.to)] {
            if value.is_none() {
                missing(key);
            }
        }
        return None;
    };
    let time = |word: &Text, resolver: &mut Resolver| {
        let found = time_of_day(&word.value);
        if found.is_none() {
            resolver.problem(HoursProblem::Time { word: word.value.clone(), at: word.at });
        }
        found
    };
    let (first, end) = (time(from, resolver), time(to, resolver));
    let mut days = Vec::new();
    for word in &span.days {
        for (part, range) in parts(&word.value) {
            match days_of(part) {
                Some(found) => days.extend(found),
                None => {
                    let at = word.part(range);
                    resolver.problem(HoursProblem::Days { word: part.to_owned(), at });
                }
            }
        }
    }
    let (first, end) = (first?, end?);
    let end = if end <= first { end + Minute::PER_DAY } else { end };
    Some(days.into_iter().fold(IntervalSet::empty(), |all, day| {
        let start = day * Minute::PER_DAY;
        all.union(&stretch(start + first, start + end))
    }))
}

/// The minutes from `first` up to `end`, which may lie in the next week.
fn stretch(first: u16, end: u16) -> IntervalSet<Minute> {
    (first..end).map(Minute::new).collect()
}

/// The parts between commas, with their byte ranges.
fn parts(text: &str) -> impl Iterator<Item = (&str, std::ops::Range<usize>)> {
    text.split(',').map(str::trim).map(move |part| {
        let start = part.as_ptr() as usize - text.as_ptr() as usize;
        (part, start..start + part.len())
    })
}

/// The numbers of the days, Monday being 0. A range may go on past Sunday.
fn days_of(word: &str) -> Option<Vec<u16>> {
    let day =
        |word: &str| (0..).zip(DAYS).find(|(_, day)| *day == word.trim()).map(|(number, _)| number);
    match word.split_once('-') {
        None => day(word).map(|day| vec![day]),
        Some((first, last)) => {
            let (first, last) = (day(first)?, day(last)?);
            let count = (last + 7 - first) % 7 + 1;
            Some((0..count).map(|offset| (first + offset) % 7).collect())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(days: &str, from: &str, to: &str) -> String {
        let mut resolver = Resolver::default();
        let span = draft::HourSpan {
            days: vec![Text::new(days)],
            from: Some(Text::new(from)),
            to: Some(Text::new(to)),
            ..draft::HourSpan::default()
        };
        let name = Name::new("deliveries").expect("a name");
        let found = minutes(&span, &name, &mut resolver);
        found.filter(|_| resolver.problems.is_empty()).map_or("?".to_owned(), |set| set.words())
    }

    #[test]
    fn hours_end_before_their_end_and_may_run_past_midnight() {
        assert_eq!(words("mon", "06:45", "11:00"), "mon 06:45 to mon 11:00");
        assert_eq!(
            words("sat-sun", "22:00", "06:00"),
            "mon 00:00 to mon 06:00, sat 22:00 to sun 06:00, sun 22:00 to mon 00:00"
        );
        assert_eq!(
            words("mon, wed", "20:00", "24:00"),
            "mon 20:00 to tue 00:00, wed 20:00 to thu 00:00"
        );
        assert_eq!(
            words("fri-mon", "08:00", "08:00"),
            "mon 00:00 to tue 08:00, fri 08:00 to mon 00:00"
        );
        assert_eq!(words("mon-sun", "00:00", "24:00"), "always");
        for (days, from, to) in [
            ("monday", "08:00", "09:00"),
            ("mon", "8:00", "09:00"),
            ("mon", "08:00", "24:01"),
            ("", "08:00", "09:00"),
        ] {
            assert_eq!(words(days, from, to), "?", "{days} {from} {to}");
        }
    }
}
