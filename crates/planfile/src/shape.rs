//! Checks the shape of a file: reports every unknown key, and every value of the wrong kind, at once.

use crate::format::{Key, PLAN, Table, Takes};
use crate::problem::ReadProblem;
use bastium_core::name::nearest;
use bastium_core::source::Span;
use std::collections::HashSet;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

type Value<'i> = Spanned<DeValue<'i>>;

/// What is wrong with the shape of a file.
#[derive(Debug, Default)]
pub(crate) struct Shape {
    pub(crate) problems: Vec<ReadProblem>,
    /// The names of entries that have a problem of shape: what is missing there is not reported again.
    pub(crate) troubled: HashSet<Span>,
}

/// A table that is being looked at.
#[derive(Clone, Copy)]
struct At<'a> {
    format: &'static Table,
    /// `network.desks`; empty for the whole file.
    path: &'a str,
    /// Where its name stands.
    name: Span,
}

/// Looks at a whole file.
pub(crate) fn of(file: &DeTable<'_>) -> Shape {
    let mut shape = Shape::default();
    shape.table(file, At { format: &PLAN, path: "", name: Span::default() });
    if !file.contains_key("bastium") {
        shape.problems.push(ReadProblem::NoEdition);
    }
    shape
}

impl Shape {
    fn problem(&mut self, at: At<'_>, problem: ReadProblem) {
        self.troubled.insert(at.name);
        self.problems.push(problem);
    }

    fn table(&mut self, table: &DeTable<'_>, at: At<'_>) {
        for (name, value) in table.iter() {
            match at.format.key(name.get_ref()) {
                Some(key) => self.value(key, value, name.span().into(), at),
                None => self.unknown(name.get_ref(), name.span().into(), at),
            }
        }
    }

    fn unknown(&mut self, word: &str, place: Span, at: At<'_>) {
        let table = if at.path.is_empty() { String::new() } else { format!("[{}]", at.path) };
        let problem = match meant(word, at.format) {
            None if word == "name" && !table.is_empty() => {
                ReadProblem::NameInside { table, at: place }
            }
            nearest => ReadProblem::UnknownKey { key: word.to_owned(), table, nearest, at: place },
        };
        self.problem(at, problem);
    }

    fn wrong_kind(&mut self, key: &str, wanted: &'static str, value: &Value<'_>, at: At<'_>) {
        let found = kind_words(value.get_ref());
        let place = value.span().into();
        self.problem(at, ReadProblem::Kind { key: key.to_owned(), wanted, found, at: place });
    }

    fn value(&mut self, key: &'static Key, value: &Value<'_>, place: Span, at: At<'_>) {
        let path = if at.path.is_empty() {
            key.name.to_owned()
        } else {
            format!("{}.{}", at.path, key.name)
        };
        match (key.takes, value.get_ref()) {
            (Takes::Edition, DeValue::Integer(number)) if number.as_str() != "1" => {
                let found = number.as_str().to_owned();
                self.problems.push(ReadProblem::Edition { found, at: value.span().into() });
            }
            (Takes::Table(format), DeValue::Table(inner)) => {
                self.table(inner, At { format, path: &path, name: place });
            }
            (Takes::Entries(format), DeValue::Table(entries)) => {
                self.entries(format, entries, &path, at);
            }
            (Takes::Tables(format), DeValue::Array(items)) => {
                for item in items.iter() {
                    match item.get_ref() {
                        DeValue::Table(inner) => {
                            self.table(inner, At { format, path: &path, name: item.span().into() });
                        }
                        _ => self.wrong_kind(key.name, key.takes.words(), item, at),
                    }
                }
            }
            (Takes::NamedTexts, DeValue::Table(inner)) => {
                let no_text = inner.iter().filter(|(_, value)| !value.get_ref().is_str());
                for (name, value) in no_text {
                    self.wrong_kind(name.get_ref(), Takes::Text.words(), value, at);
                }
            }
            (Takes::NamedLists, DeValue::Table(inner)) => {
                let no_list = inner.iter().filter(|(_, value)| !is_list_of_texts(value));
                for (name, value) in no_list {
                    self.wrong_kind(name.get_ref(), "a list of ports", value, at);
                }
            }
            (Takes::Texts | Takes::List | Takes::Days, DeValue::Array(items)) => {
                for item in items.iter().filter(|item| !item.get_ref().is_str()) {
                    self.wrong_kind(key.name, "texts in quotes", item, at);
                }
            }
            (takes, found) if fits(takes, found) => {}
            _ => self.wrong_kind(key.name, key.takes.words(), value, at),
        }
    }

    fn entries(
        &mut self,
        format: &'static Table,
        entries: &DeTable<'_>,
        path: &str,
        around: At<'_>,
    ) {
        for (name, value) in entries.iter() {
            let path = format!("{path}.{}", name.get_ref());
            match value.get_ref() {
                DeValue::Table(entry) => {
                    self.table(entry, At { format, path: &path, name: name.span().into() });
                }
                _ => self.wrong_kind(&path, "a table", value, around),
            }
        }
    }
}

/// Whether a single value is of the kind that a key takes.
fn fits(takes: Takes, found: &DeValue<'_>) -> bool {
    match found {
        DeValue::String(_) => matches!(
            takes,
            Takes::Text
                | Takes::Prose
                | Takes::Name
                | Takes::Choice(_)
                | Takes::Texts
                | Takes::List
                | Takes::Days
                | Takes::Day
                | Takes::RangeOrOff
        ),
        DeValue::Integer(_) => matches!(takes, Takes::Whole(..) | Takes::Number | Takes::Edition),
        DeValue::Float(number) => {
            matches!(takes, Takes::Number) && number.as_str().parse::<f64>().is_ok()
        }
        DeValue::Boolean(false) => matches!(takes, Takes::Flag | Takes::RangeOrOff),
        DeValue::Boolean(true) => matches!(takes, Takes::Flag),
        DeValue::Datetime(_) => matches!(takes, Takes::Day),
        DeValue::Array(_) | DeValue::Table(_) => false,
    }
}

fn is_list_of_texts(value: &Value<'_>) -> bool {
    let items = value.get_ref().as_array();
    items.is_some_and(|items| items.iter().all(|item| item.get_ref().is_str()))
}

fn kind_words(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number with a point",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date or time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

/// Words that people write for keys; of several keys the first counts that the table has.
const KEYS_BY_WORD: [(&str, &[&str]); 24] = [
    ("addr", &["address", "subnet"]),
    ("allow", &["action"]),
    ("cidr", &["subnet", "clients", "to"]),
    ("comment", &["why"]),
    ("description", &["why"]),
    ("destination", &["to"]),
    ("dst", &["to"]),
    ("gateway-ip", &["gateway"]),
    ("ip", &["address", "subnet", "gateway"]),
    ("ip-address", &["address", "subnet"]),
    ("mac-address", &["mac"]),
    ("net", &["subnet", "network"]),
    ("port", &["ports", "service", "port"]),
    ("prefix", &["subnet", "clients", "to"]),
    ("protocol", &["service", "ports"]),
    ("reason", &["why"]),
    ("schedule", &["hours"]),
    ("source", &["from"]),
    ("src", &["from"]),
    ("ssid", &["name"]),
    ("tag", &["vlan"]),
    ("vid", &["vlan"]),
    ("vlan-id", &["vlan"]),
    ("vlans", &["carries", "vlan"]),
];

/// The key that a word stands for, among those that a table has.
fn meant(word: &str, format: &'static Table) -> Option<String> {
    let known: Vec<&'static str> = format.keys.iter().map(|key| key.name).collect();
    let plain = word.to_lowercase().replace('_', "-");
    let by_word = KEYS_BY_WORD.iter().find(|(other, _)| *other == plain).map(|(_, keys)| *keys);
    let of_table = |key: &&&str| known.contains(*key);
    let same = known.iter().find(|key| **key == plain);
    let named = same.or_else(|| by_word.into_iter().flatten().find(of_table));
    let near = || nearest(word, known.iter().copied());
    named.copied().or_else(near).map(str::to_owned)
}
