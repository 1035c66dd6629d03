//! Names, and the nearest one to a misspelt one.

use std::fmt;
use std::sync::Arc;

/// A name of a plan: lower-case words of letters and digits, joined by single hyphens.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(Arc<str>);

/// Why a text is not a [`Name`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotAName {
    /// There is nothing.
    Empty,
    /// It is longer than [`Name::LONGEST`] characters.
    TooLong,
    /// It has something else than lower-case letters, digits and hyphens in it.
    Character(char),
    /// It does not begin with a letter.
    Beginning,
    /// A hyphen stands at its end, or two stand together.
    Hyphen,
}

impl Name {
    /// The most characters a name may have.
    pub const LONGEST: usize = 63;

    /// Checks a text and makes it a name.
    ///
    /// # Errors
    /// Says the first reason why the text is not one.
    pub fn new(text: &str) -> Result<Self, NotAName> {
        let mut characters = text.chars();
        match characters.next() {
            None => return Err(NotAName::Empty),
            Some(c) if c.is_ascii_lowercase() => {}
            Some(c) if c.is_ascii_digit() || c == '-' => return Err(NotAName::Beginning),
            Some(c) => return Err(NotAName::Character(c)),
        }
        let odd = |c: &char| !(c.is_ascii_lowercase() || c.is_ascii_digit() || *c == '-');
        if let Some(c) = characters.find(odd) {
            return Err(NotAName::Character(c));
        }
        if text.ends_with('-') || text.contains("--") {
            return Err(NotAName::Hyphen);
        }
        if text.len() > Self::LONGEST {
            return Err(NotAName::TooLong);
        }
        Ok(Self(text.into()))
    }

    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// A name that is near to `text`, to offer as a help: lower case, hyphens for the rest.
    pub fn suggestion(text: &str) -> Option<Self> {
        let lower = text.to_lowercase();
        let words: Vec<&str> = lower
            .split(|c: char| !(c.is_ascii_lowercase() || c.is_ascii_digit()))
            .filter(|word| !word.is_empty())
            .collect();
        let joined: String = words.join("-").chars().take(Self::LONGEST).collect();
        Self::new(joined.trim_end_matches('-')).ok()
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Debug for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", &*self.0)
    }
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        &self.0
    }
}

/// The known name nearest to `word`, if one is near enough to be meant.
pub fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if word.len() > 2 * Name::LONGEST {
        return None;
    }
    let distance = |candidate: &&str| strsim::damerau_levenshtein(word, candidate);
    let first = word.chars().next().map_or(0, char::len_utf8);
    let limit = (word.chars().count() / 3).max(1);
    // Of two that are as near, the one that begins alike is the likelier one.
    let rank = |candidate: &&str| (distance(candidate), !candidate.starts_with(&word[..first]));
    known.into_iter().min_by_key(rank).filter(|candidate| distance(candidate) <= limit)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn takes_lower_case_words_with_hyphens() {
        for good in ["desks", "waiting-room", "x-ray-2", "a"] {
            assert_eq!(Name::new(good).map(|n| n.to_string()), Ok(good.to_owned()));
        }
    }

    #[test]
    fn says_why_a_text_is_no_name() {
        for (text, why) in [
            ("", NotAName::Empty),
            ("Desks", NotAName::Character('D')),
            ("front desk", NotAName::Character(' ')),
            ("2nd", NotAName::Beginning),
            ("a--b", NotAName::Hyphen),
            ("a-", NotAName::Hyphen),
            ("d\u{202e}esk", NotAName::Character('\u{202e}')),
        ] {
            assert_eq!(Name::new(text), Err(why), "{text:?}");
        }
        assert_eq!(Name::new(&"a".repeat(64)), Err(NotAName::TooLong));
    }

    #[test]
    fn suggests_what_was_probably_meant() {
        let offer = |text| Name::suggestion(text).map(|name| name.to_string());
        assert_eq!(offer("Waiting Room"), Some("waiting-room".to_owned()));
        assert_eq!(offer("!!"), None);
        assert_eq!(nearest("desk", ["desks", "doors"]), Some("desks"));
        assert_eq!(nearest("htps", ["ftps", "https"]), Some("https"));
        assert_eq!(nearest("kitchen", ["desks", "doors"]), None);
    }
}
