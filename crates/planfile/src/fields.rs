//! One table of the file, read key by key: what has the wrong kind or an unknown name is noted.

use crate::problem::ReadProblem;
use bastium_core::name::nearest;
use bastium_core::source::{Located, Source, Span, Text};
use std::collections::HashSet;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

type Value<'i> = Spanned<DeValue<'i>>;

/// What has been noted while reading.
#[derive(Debug, Default)]
pub(crate) struct Notes {
    pub(crate) source: Source,
    pub(crate) problems: Vec<ReadProblem>,
    /// The names of entries that have a problem of shape: what is missing there is not reported again.
    pub(crate) troubled: HashSet<Span>,
}

/// A table of the file while it is being read.
pub(crate) struct Fields<'t, 'i, 'n> {
    table: &'t DeTable<'i>,
    /// What to call it, as in `[network.desks]`; empty for the whole file.
    label: String,
    name: Text,
    known: Vec<&'static str>,
    notes: &'n mut Notes,
}

impl<'t, 'i, 'n> Fields<'t, 'i, 'n> {
    pub(crate) fn new(
        table: &'t DeTable<'i>,
        label: String,
        name: Text,
        notes: &'n mut Notes,
    ) -> Self {
        Self { table, label, name, known: Vec::new(), notes }
    }

    /// The name of the entry, which is the last word of its heading.
    pub(crate) fn name(&self) -> Text {
        self.name.clone()
    }

    /// Whether something in it could not be read.
    pub(crate) fn is_troubled(&self) -> bool {
        self.notes.troubled.contains(&self.name.at)
    }

    pub(crate) fn notes(&mut self) -> &mut Notes {
        self.notes
    }

    fn problem(&mut self, problem: ReadProblem) {
        self.notes.troubled.insert(self.name.at);
        self.notes.problems.push(problem);
    }

    /// Looks a key up, and remembers that it is one.
    pub(crate) fn value(&mut self, key: &'static str) -> Option<&'t Value<'i>> {
        self.known.push(key);
        self.table.get(key)
    }

    pub(crate) fn wrong_kind(&mut self, key: &str, wanted: &'static str, value: &Value<'_>) {
        let found = kind_words(value.get_ref());
        self.problem(ReadProblem::Kind {
            key: key.to_owned(),
            wanted,
            found,
            at: value.span().into(),
        });
    }

    /// A text.
    pub(crate) fn text(&mut self, key: &'static str) -> Option<Text> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::String(text) => {
                Some(located_text(text, value.span().into(), &self.notes.source))
            }
            _ => {
                self.wrong_kind(key, "a text in quotes", value);
                None
            }
        }
    }

    /// A day, as a text or as a date of the format itself.
    pub(crate) fn day(&mut self, key: &'static str) -> Option<Text> {
        let value = self.value(key)?;
        if let DeValue::Datetime(date) = value.get_ref() {
            let at = value.span().into();
            return Some(Text { value: date.to_string(), at, body: None });
        }
        self.known.pop();
        self.text(key)
    }

    /// One text, or a list of them. An empty list is `Some`.
    pub(crate) fn texts(&mut self, key: &'static str) -> Option<Vec<Text>> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::String(text) => {
                Some(vec![located_text(text, value.span().into(), &self.notes.source)])
            }
            DeValue::Array(items) => {
                let mut texts = Vec::new();
                for item in items.iter() {
                    match item.get_ref() {
                        DeValue::String(text) => {
                            texts.push(located_text(text, item.span().into(), &self.notes.source));
                        }
                        _ => self.wrong_kind(key, "texts in quotes", item),
                    }
                }
                Some(texts)
            }
            _ => {
                self.wrong_kind(key, "a text in quotes, or a list of them", value);
                None
            }
        }
    }

    /// `true` or `false`.
    pub(crate) fn flag(&mut self, key: &'static str) -> Option<Located<bool>> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::Boolean(flag) => Some(Located { value: *flag, at: value.span().into() }),
            _ => {
                self.wrong_kind(key, "true or false", value);
                None
            }
        }
    }

    /// A whole number; one too large for the format counts as the largest.
    pub(crate) fn number(&mut self, key: &'static str) -> Option<Located<i64>> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::Integer(number) => {
                let parsed = i64::from_str_radix(number.as_str(), number.radix());
                Some(Located { value: parsed.unwrap_or(i64::MAX), at: value.span().into() })
            }
            _ => {
                self.wrong_kind(key, "a whole number", value);
                None
            }
        }
    }

    /// A number, with or without a fraction.
    pub(crate) fn decimal(&mut self, key: &'static str) -> Option<Located<f64>> {
        let value = self.value(key)?;
        let at = value.span().into();
        let parsed = match value.get_ref() {
            DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
                .map_or(Some(f64::INFINITY), |number| Some(number as f64)),
            DeValue::Float(number) => number.as_str().parse().ok(),
            _ => None,
        };
        if parsed.is_none() {
            self.wrong_kind(key, "a number", value);
        }
        parsed.map(|value| Located { value, at })
    }

    /// The tables in a list, each with its place.
    pub(crate) fn tables(&mut self, key: &'static str) -> Option<Vec<(&'t DeTable<'i>, Span)>> {
        let value = self.value(key)?;
        let Some(items) = value.get_ref().as_array() else {
            self.wrong_kind(key, "a list of tables", value);
            return None;
        };
        let mut tables = Vec::new();
        for item in items.iter() {
            match item.get_ref() {
                DeValue::Table(table) => tables.push((table, item.span().into())),
                _ => self.wrong_kind(key, "a list of tables", item),
            }
        }
        Some(tables)
    }

    /// All keys of this table with their texts: for tables whose keys are names.
    pub(crate) fn named_texts(&mut self) -> Vec<(Text, Text)> {
        let mut all = Vec::new();
        for (name, value) in self.table.iter() {
            let key = located_text(name.get_ref(), name.span().into(), &self.notes.source);
            match value.get_ref() {
                DeValue::String(text) => {
                    all.push((key, located_text(text, value.span().into(), &self.notes.source)));
                }
                _ => self.wrong_kind(name.get_ref(), "a text in quotes", value),
            }
        }
        all
    }

    /// A table inside this one.
    pub(crate) fn table(&mut self, key: &'static str) -> Option<(&'t DeTable<'i>, Span)> {
        let at = self.key_span(key);
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::Table(table) => Some((table, at)),
            _ => {
                self.wrong_kind(key, "a table", value);
                None
            }
        }
    }

    /// The named entries of a table of tables, such as all of `[zone.…]`.
    pub(crate) fn entries(&mut self, key: &'static str) -> Vec<(Text, &'t DeTable<'i>)> {
        let Some((table, _)) = self.table(key) else { return Vec::new() };
        let mut entries = Vec::new();
        for (name, value) in table.iter() {
            let at = name.span().into();
            match value.get_ref() {
                DeValue::Table(entry) => {
                    entries.push((located_text(name.get_ref(), at, &self.notes.source), entry));
                }
                _ => {
                    let name = name.get_ref();
                    self.wrong_kind(&format!("{key}.{name}"), "a table", value);
                }
            }
        }
        entries
    }

    /// Where a key stands.
    pub(crate) fn key_span(&self, key: &str) -> Span {
        self.table.get_key_value(key).map_or(Span::default(), |(key, _)| key.span().into())
    }

    /// Notes every key that nobody asked for.
    pub(crate) fn finish(mut self) {
        for key in self.table.keys() {
            let word = key.get_ref().as_ref();
            if self.known.contains(&word) {
                continue;
            }
            let (key, table, at) = (word.to_owned(), self.label.clone(), key.span().into());
            self.problem(match meant(word, &self.known) {
                None if key == "name" && table.starts_with('[') => {
                    ReadProblem::NameInside { table, at }
                }
                nearest => ReadProblem::UnknownKey { key, table, nearest, at },
            });
        }
    }
}

/// A text with its place, and with the place of its first letter where the file spells it out.
pub(crate) fn located_text(value: &str, at: Span, source: &Source) -> Text {
    let written = source.text().get(at.start..at.end).unwrap_or_default();
    let body = written.find(value).map(|offset| at.start + offset);
    Text { value: value.to_owned(), at, body: body.filter(|_| !value.is_empty()) }
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
fn meant(word: &str, known: &[&'static str]) -> Option<String> {
    let plain = word.to_lowercase().replace('_', "-");
    let by_word = KEYS_BY_WORD.iter().find(|(other, _)| *other == plain).map(|(_, keys)| *keys);
    let of_table = |key: &&&str| known.contains(*key);
    let same = known.iter().find(|key| **key == plain);
    let named = same.or_else(|| by_word.into_iter().flatten().find(of_table));
    let near = || nearest(word, known.iter().copied());
    named.copied().or_else(near).map(str::to_owned)
}
