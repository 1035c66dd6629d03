//! Names that a gateway accepts: bounded, unique, and stable from day to day.

use std::collections::{HashMap, HashSet};

/// The shortest limit that is kept to: in less, names would no longer differ.
const LEAST: usize = 8;

/// How many numbers made of a name are tried before names are counted.
const MOST_HASHES: u32 = 64;

/// How many counted names are tried.
const MOST_COUNTED: usize = 1 << 20;

/// Shortens names to what a gateway takes.
#[derive(Clone, Debug, Default)]
pub(super) struct Names {
    /// The most bytes of a name, if there is a limit.
    most: Option<usize>,
    /// The full names, with those that were given for them.
    given: HashMap<String, String>,
    /// The names that were given.
    taken: HashSet<String>,
}

impl Names {
    pub(super) fn new(most: Option<u32>) -> Self {
        let most = most.and_then(|most| usize::try_from(most).ok());
        Self {
            most: most.map(|most| most.max(LEAST)),
            given: HashMap::new(),
            taken: HashSet::new(),
        }
    }

    /// The name for something with a full name of its own. The same full name gives the same name, another one another.
    pub(super) fn short(&mut self, full: &str) -> String {
        if let Some(name) = self.given.get(full) {
            return name.clone();
        }
        let cleaned = cleaned(full);
        let fits = self.most.is_none_or(|most| cleaned.len() <= most);
        let whole = fits.then(|| cleaned.clone());
        // Made of all of the name: another entry that comes or goes does not change it.
        let sum = crc32fast::hash(full.as_bytes());
        let hashed = (0..MOST_HASHES).map(|more| sum.wrapping_add(more) & 0xffff);
        let hashed = hashed.map(|number| self.marked(&cleaned, &format!("-{number:04x}")));
        let free = |name: &String| !self.taken.contains(name);
        let found = whole.into_iter().chain(hashed).find(free);
        // So many names are alike that they can only be counted.
        let counted =
            (self.given.len()..).map(|number| self.marked(&cleaned, &format!("-{number:x}")));
        let name = found.or_else(|| counted.take(MOST_COUNTED).find(free)).unwrap_or(cleaned);
        self.given.insert(full.to_owned(), name.clone());
        self.taken.insert(name.clone());
        name
    }

    /// The beginning of a name, with a mark that tells it from others.
    fn marked(&self, cleaned: &str, mark: &str) -> String {
        let room = self.most.map_or(cleaned.len(), |most| most.saturating_sub(mark.len()));
        format!("{}{mark}", cleaned[..room.min(cleaned.len())].trim_end_matches('-'))
    }
}

/// Letters, digits, dots and hyphens: what stands between them becomes one hyphen.
fn cleaned(full: &str) -> String {
    let mut name = String::with_capacity(full.len());
    for word in full
        .replace(" - ", " without ")
        .split(|c: char| !c.is_ascii_alphanumeric() && c != '.' && c != '-')
    {
        if !word.is_empty() {
            if !name.is_empty() && !name.ends_with('-') {
                name.push('-');
            }
            name.push_str(word);
        }
    }
    if name.is_empty() { "unnamed".to_owned() } else { name }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_that_fits_stays() {
        let mut names = Names::new(Some(15));
        assert_eq!(names.short("engineer-laptop"), "engineer-laptop");
        assert_eq!(Names::new(None).short("any - internet"), "any-without-internet");
        assert_eq!(Names::new(None).short("0.0.0.0, ::"), "0.0.0.0");
    }

    #[test]
    fn long_names_are_bounded_unique_and_stable() {
        let mut names = Names::new(Some(12));
        let long = ["exception.desks-print", "exception.desks-pay", "exception.desks-prints"];
        let short: Vec<String> = long.iter().map(|full| names.short(full)).collect();
        assert!(short.iter().all(|name| name.len() <= 12), "{short:?}");
        assert_ne!(short[0], short[1]);
        assert_ne!(short[0], short[2]);
        // Alone it is called the same.
        assert_eq!(Names::new(Some(12)).short(long[1]), short[1]);
    }

    #[test]
    fn names_that_are_all_alike_are_told_apart_without_end() {
        let mut names = Names::new(Some(8));
        let all: std::collections::HashSet<String> =
            (0..3_000).map(|number| names.short(&format!("exception.the-same-{number}"))).collect();
        assert_eq!(all.len(), 3_000);
        assert!(all.iter().all(|name| name.len() <= 8));
        assert!(all.contains(&names.short("exception.the-same-7")), "it keeps its name");
    }

    #[test]
    fn another_thing_never_gets_a_name_that_is_taken() {
        let mut names = Names::new(None);
        let (one, other) = (names.short("a b"), names.short("a-b"));
        assert_ne!(one, other);
        assert_eq!(names.short("a b"), one);
    }
}
