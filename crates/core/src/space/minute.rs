//! The minutes of a week, in the site's own time.

use super::{Coordinate, IntervalSet};
use std::fmt;

/// A minute of the week: 0 is Monday 00:00, the last one Sunday 23:59.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Minute(u16);

/// The days of the week by their names in the plan, Monday first (ISO 8601).
pub const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

impl Minute {
    /// The minutes of a day.
    pub const PER_DAY: u16 = 24 * 60;
    /// The minutes of a week.
    pub const PER_WEEK: u16 = 7 * Self::PER_DAY;

    /// The minute with that number; counting goes on past the end of the week from its beginning.
    pub fn new(number: u16) -> Self {
        Self(number % Self::PER_WEEK)
    }

    /// The minute in which a date and a time of day lie.
    ///
    /// ```
    /// use bastium_core::space::Minute;
    ///
    /// // A Tuesday.
    /// let at = Minute::of("2026-11-24T18:00".parse()?);
    /// assert_eq!(at.to_string(), "tue 18:00");
    /// assert_eq!(Minute::from_words("18:00", "tue"), Some(at));
    /// # Ok::<(), jiff::Error>(())
    /// ```
    pub fn of(at: jiff::civil::DateTime) -> Self {
        let [day, hour, minute] =
            [at.weekday().to_monday_zero_offset(), at.hour(), at.minute()].map(i8::unsigned_abs);
        Self::new((u16::from(day) * 24 + u16::from(hour)) * 60 + u16::from(minute))
    }

    /// Reads `tue 21:30`, `21:30` for a time on `day`, or a date and a time of ISO 8601: `2026-11-25T18:00`.
    pub fn from_words(words: &str, day: &str) -> Option<Self> {
        if let Ok(at) = words.trim().parse::<jiff::civil::DateTime>()
            && words.contains('T')
        {
            return Some(Self::of(at));
        }
        let (day, time) = words.trim().split_once(' ').unwrap_or((day, words.trim()));
        let (day, _) = (0..).zip(DAYS).find(|(_, name)| *name == day.to_lowercase())?;
        let minute = time_of_day(time.trim()).filter(|minute| *minute < Self::PER_DAY)?;
        Some(Self::new(day * Self::PER_DAY + minute))
    }

    /// The minute that comes so many after it, or before it; behind the end of the week is its beginning.
    pub fn moved(self, minutes: i16) -> Self {
        let back = minutes.unsigned_abs() % Self::PER_WEEK;
        let ahead = if minutes < 0 { Self::PER_WEEK - back } else { back };
        Self((self.0 + ahead) % Self::PER_WEEK)
    }

    /// Its number, from 0.
    pub fn number(self) -> u16 {
        self.0
    }
}

/// Minutes since midnight of a time written like `06:45`; `24:00` is the end of the day.
pub fn time_of_day(word: &str) -> Option<u16> {
    let (hour, minute) = word.split_once(':')?;
    let digits = |text: &str| text.len() == 2 && text.bytes().all(|b| b.is_ascii_digit());
    if !digits(hour) || !digits(minute) {
        return None;
    }
    let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
    let total = hour * 60 + minute;
    (minute < 60 && total <= Minute::PER_DAY).then_some(total)
}

impl Coordinate for Minute {
    const FIRST: Self = Self(0);
    const LAST: Self = Self(Self::PER_WEEK - 1);
    fn next(self) -> Option<Self> {
        (self < Self::LAST).then(|| Self(self.0 + 1))
    }
    fn previous(self) -> Option<Self> {
        self.0.checked_sub(1).map(Self)
    }
}

impl fmt::Display for Minute {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (day, minute) = (self.0 / Self::PER_DAY, self.0 % Self::PER_DAY);
        write!(f, "{} {:02}:{:02}", DAYS[usize::from(day)], minute / 60, minute % 60)
    }
}

impl IntervalSet<Minute> {
    /// The set in words: `mon 06:45 to mon 11:00, ...`; the end of each span is excluded.
    pub fn words(&self) -> String {
        if self.is_full() {
            return "always".to_owned();
        }
        let spans = self.spans().iter().map(|(first, last)| {
            let end = Minute::new(last.0 + 1);
            format!("{first} to {end}")
        });
        spans.collect::<Vec<_>>().join(", ")
    }

    /// The set of such words; `None` if they say none.
    pub fn from_words(words: &str) -> Option<Self> {
        if words == "always" {
            return Some(Self::full());
        }
        let spans = words.split(", ").map(|span| {
            let (first, end) = span.split_once(" to ")?;
            let (first, end) = (Minute::from_words(first, "")?, Minute::from_words(end, "")?);
            // Monday at midnight is the end of a week, too.
            Some((first, if end == Minute::FIRST { Minute::LAST } else { end.previous()? }))
        });
        Some(Self::from_spans(spans.collect::<Option<Vec<_>>>()?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_has_its_minutes_and_begins_again() {
        assert_eq!(Minute::new(0).to_string(), "mon 00:00");
        assert_eq!(Minute::LAST.to_string(), "sun 23:59");
        assert_eq!(Minute::new(Minute::PER_WEEK + 61).to_string(), "mon 01:01");
        assert_eq!(Minute::LAST.next(), None);
        assert_eq!(IntervalSet::<Minute>::full().words(), "always");
        assert_eq!(
            Minute::from_words("Tue 21:30", "mon").map(|m| m.to_string()),
            Some("tue 21:30".into())
        );
        assert_eq!(
            Minute::from_words("06:45", "sat").map(|m| m.to_string()),
            Some("sat 06:45".into())
        );
        assert_eq!(Minute::from_words("24:00", "sat"), None);
        let evening = IntervalSet::range(Minute::new(20 * 60), Minute::new(Minute::PER_DAY - 1));
        assert_eq!(evening.words(), "mon 20:00 to tue 00:00");
        let sunday = IntervalSet::range(Minute::new(6 * Minute::PER_DAY), Minute::LAST);
        for set in [evening.clone(), sunday.union(&evening), IntervalSet::full()] {
            assert_eq!(IntervalSet::<Minute>::from_words(&set.words()), Some(set.clone()));
        }
        for wrong in ["", "mon", "mon 25:00 to tue 00:00", "mon 20:00 to"] {
            assert_eq!(IntervalSet::<Minute>::from_words(wrong), None, "{wrong}");
        }
    }
}
