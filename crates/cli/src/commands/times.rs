//! The minutes of the week that a question is about.

use crate::failure::{Failure, Malformed};
use bastium_core::space::{DAYS, IntervalSet, Minute};
use jiff::civil::Date;

/// The date in a time of ISO 8601, if it is one.
pub(super) fn date_of(words: &str) -> Option<Date> {
    let (date, _) = words.trim().split_once('T')?;
    date.parse().ok()
}

/// The minutes of the week that are asked about.
pub(super) fn minutes(at: Option<&str>, day: Date) -> Result<IntervalSet<Minute>, Failure> {
    let Some(words) = at else { return Ok(IntervalSet::full()) };
    let today = usize::try_from(day.weekday().to_monday_zero_offset()).unwrap_or_default();
    Minute::from_words(words, DAYS[today])
        .map(IntervalSet::point)
        .ok_or_else(|| Malformed::Time(words.to_owned()).into())
}
