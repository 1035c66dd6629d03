//! The text of a rule file with its conditions on day and hour replaced by their value at one minute of the week, and
//! nothing else changed. Rules written by somebody else can be tried for other hours in this way.

use super::lexer::{Placed, Token, tokens};
use bastium_core::space::Minute;
use std::ops::Range;

/// A condition that no packet fulfils: none is of no length.
const NEVER: &str = "meta length 0";
const SECONDS_A_MINUTE: u32 = 60;
const SECONDS_A_DAY: u32 = 86_400;

/// The text at that minute, with the place of each condition that was answered; `None` where one of them is
/// written in a way that is not understood.
pub fn at_minute(text: &str, at: Minute) -> Option<String> {
    let tokens = tokens(text).ok()?;
    let mut fixed = String::with_capacity(text.len());
    let mut copied = 0;
    let mut place = 0;
    while place < tokens.len() {
        // A condition on the date is true or not whatever hour it is.
        if word_at(&tokens, place) == Some("meta") && word_at(&tokens, place + 1) == Some("time") {
            return None;
        }
        let Some(kind) = Kind::of(&tokens, place) else {
            place += 1;
            continue;
        };
        // In a concatenation or a map it is no condition of its own.
        let beside = |place: Option<usize>| {
            let word = place.and_then(|place| word_at(&tokens, place));
            matches!(word, Some("." | "vmap" | "map"))
        };
        let (end, holds) = condition(&tokens, place + 1, kind, at)?;
        let start = if place > 0 && word_at(&tokens, place - 1) == Some("meta") {
            place - 1
        } else {
            place
        };
        if beside(start.checked_sub(1)) || beside(Some(end)) {
            return None;
        }
        let span: Range<usize> = tokens[start].span.start..tokens[end - 1].span.end;
        fixed.push_str(&text[copied..span.start]);
        fixed.push_str(if holds { "" } else { NEVER });
        copied = span.end;
        place = end;
    }
    fixed.push_str(&text[copied..]);
    Some(fixed)
}

/// Words behind which a name stands, and no condition.
const BEFORE_NAMES: [&str; 12] = [
    "chain", "set", "map", "table", "counter", "limit", "quota", "ip", "ip6", "inet", "jump",
    "goto",
];

/// What a condition is about.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Day,
    Hour,
}

impl Kind {
    /// The kind of the condition whose word stands at a place, if one does: `meta hour`, or `hour` alone.
    fn of(tokens: &[Placed], place: usize) -> Option<Self> {
        let kind = match word_at(tokens, place)? {
            "day" => Self::Day,
            "hour" => Self::Hour,
            _ => return None,
        };
        // A rate is `5/hour`, and a name may be anything: what is asked is followed by what it is compared with.
        let above = place.checked_sub(1).and_then(|above| word_at(tokens, above));
        if above.is_some_and(|above| BEFORE_NAMES.contains(&above)) {
            return None;
        }
        let meta = above == Some("meta");
        let compared = tokens.get(place + 1).is_some_and(|next| {
            matches!(next.token, Token::Quoted(_) | Token::Sign('!' | '=' | '{'))
        });
        (meta || compared).then_some(kind)
    }
}

fn word_at(tokens: &[Placed], place: usize) -> Option<&str> {
    match &tokens.get(place)?.token {
        Token::Word(word) => Some(word),
        _ => None,
    }
}

/// Where a condition ends, and whether it holds at that minute.
fn condition(tokens: &[Placed], mut place: usize, kind: Kind, at: Minute) -> Option<(usize, bool)> {
    let sign = |place: usize| match &tokens.get(place)?.token {
        Token::Sign(sign) => Some(*sign),
        _ => None,
    };
    let negated = match (sign(place), sign(place + 1)) {
        (Some('!'), Some('=')) => {
            place += 2;
            true
        }
        (Some('='), Some('=')) => {
            place += 2;
            false
        }
        _ => false,
    };
    if sign(place) != Some('{') {
        let (end, holds) = value(tokens, place, kind, at)?;
        return Some((end, holds != negated));
    }
    place += 1;
    let mut any = false;
    loop {
        while matches!(tokens.get(place)?.token, Token::NewLine) || sign(place) == Some(',') {
            place += 1;
        }
        if sign(place) == Some('}') {
            return Some((place + 1, any != negated));
        }
        let (end, holds) = value(tokens, place, kind, at)?;
        (place, any) = (end, any || holds);
    }
}

/// A single value, or from one to another.
fn value(tokens: &[Placed], place: usize, kind: Kind, at: Minute) -> Option<(usize, bool)> {
    let first = word_of(tokens, place)?;
    if kind == Kind::Day {
        return Some((place + 1, day(first)? == at.number() / Minute::PER_DAY));
    }
    // In the middle of the minute.
    let now = u32::from(at.number() % Minute::PER_DAY) * SECONDS_A_MINUTE + SECONDS_A_MINUTE / 2;
    let low = seconds(first)?;
    if word_at(tokens, place + 1) != Some("-") {
        return Some((place + 1, now == low));
    }
    let high = seconds(word_of(tokens, place + 2)?)?;
    let within = if low <= high { low <= now && now <= high } else { low <= now || now <= high };
    Some((place + 3, within))
}

fn word_of(tokens: &[Placed], place: usize) -> Option<&str> {
    match &tokens.get(place)?.token {
        Token::Word(word) | Token::Quoted(word) => Some(word),
        _ => None,
    }
}

/// A day of the week, from Monday: a name, or its number from Sunday.
fn day(word: &str) -> Option<u16> {
    const DAYS: [&str; 7] =
        ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    if let Ok(number) = word.parse::<u16>() {
        return (number <= 6).then_some((number + 6) % 7);
    }
    let word = word.to_lowercase();
    let named = |name: &&str| **name == word || word.len() == 3 && name.starts_with(&word);
    (0..).zip(DAYS).find(|(_, name)| named(name)).map(|(place, _)| place)
}

/// A time of day, in seconds.
fn seconds(word: &str) -> Option<u32> {
    let mut parts = word.split(':').map(|part| part.parse::<u32>().ok());
    let (hours, minutes) = (parts.next()??, parts.next()??);
    let seconds = parts.next().map_or(Some(0), |seconds| seconds)?;
    let all = hours * 3_600 + minutes * 60 + seconds;
    (parts.next().is_none() && minutes < 60 && seconds < 60 && all <= SECONDS_A_DAY).then_some(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Wednesday, 18:00.
    fn at(text: &str) -> Option<String> {
        at_minute(text, Minute::new(2 * Minute::PER_DAY + 18 * 60))
    }

    #[test]
    fn hours_and_days_are_answered() {
        let fixed = |text: &str| at(text).expect("it is understood").replace("  ", " ");
        assert_eq!(fixed("meta hour \"17:00\"-\"19:00\" accept"), " accept");
        assert_eq!(fixed("meta hour \"19:00\"-\"20:00\" accept"), "meta length 0 accept");
        assert_eq!(fixed("meta hour \"22:00\"-\"06:00\" accept"), "meta length 0 accept");
        assert_eq!(fixed("meta hour != \"22:00\"-\"06:00\" drop"), " drop");
        assert_eq!(fixed("meta day { \"Monday\", \"Wed\" } drop"), " drop");
        assert_eq!(fixed("meta day 3 drop"), " drop");
        assert_eq!(fixed("meta day != Wednesday drop"), "meta length 0 drop");
        assert_eq!(fixed("hour \"17:00\"-\"18:00:59\" counter"), " counter");
    }

    #[test]
    fn what_only_looks_like_it_is_left() {
        let text = "limit rate 5/hour accept comment \"meta hour\" # meta hour \"1:00\"-\"2:00\"";
        assert_eq!(at(text).as_deref(), Some(text));
        let names = "table inet day { chain hour { } set day { type mark; } }";
        assert_eq!(at(names).as_deref(), Some(names));
    }

    #[test]
    fn what_is_not_understood_is_said_to_be_so() {
        assert_eq!(at("meta hour @now accept"), None);
        assert_eq!(at("meta day . meta hour { \"Monday\" . \"1:00\" } accept"), None);
        assert_eq!(at("meta hour \"99\" accept"), None);
        assert_eq!(at("meta hour"), None);
        assert_eq!(at("meta time < \"2027-01-01\" accept"), None);
    }
}
