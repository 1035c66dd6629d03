//! One table of the file, read key by key. What has the wrong kind has been reported already (see [`crate::shape`]), and
//! counts as not there.

use crate::format::{Table, Takes};
use bastium_core::source::{Located, Source, Span, Text};
use std::collections::HashSet;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A table of the file, with its description.
#[derive(Clone)]
pub(crate) struct Fields<'t, 'i> {
    table: &'t DeTable<'i>,
    format: &'static Table,
    name: Text,
    around: Around<'t>,
}

/// What is the same for all tables of a file.
#[derive(Clone, Copy)]
pub(crate) struct Around<'t> {
    pub(crate) source: &'t Source,
    pub(crate) troubled: &'t HashSet<Span>,
}

impl<'t, 'i> Fields<'t, 'i> {
    pub(crate) fn new(
        table: &'t DeTable<'i>,
        format: &'static Table,
        name: Text,
        around: Around<'t>,
    ) -> Self {
        Self { table, format, name, around }
    }

    /// The name of the entry, which is the last word of its heading.
    pub(crate) fn name(&self) -> Text {
        self.name.clone()
    }

    /// Where its name stands.
    pub(crate) fn at(&self) -> Span {
        self.name.at
    }

    /// Whether something in it could not be read.
    pub(crate) fn is_troubled(&self) -> bool {
        self.around.troubled.contains(&self.name.at)
    }

    fn located(&self, text: &str, at: Span) -> Text {
        located_text(text, at, self.around.source)
    }

    /// Looks a key up. One that the format does not have is a fault of this program.
    fn value(&self, key: &str) -> Option<&'t Spanned<DeValue<'i>>> {
        debug_assert!(self.format.key(key).is_some(), "{}: {key}", self.format.heading);
        self.table.get(key)
    }

    /// A text.
    pub(crate) fn text(&self, key: &str) -> Option<Text> {
        let value = self.value(key)?;
        Some(self.located(value.get_ref().as_str()?, value.span().into()))
    }

    /// A day, as a text or as a date of the format itself.
    pub(crate) fn day(&self, key: &str) -> Option<Text> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::Datetime(date) => {
                Some(Text { value: date.to_string(), at: value.span().into(), body: None })
            }
            _ => self.text(key),
        }
    }

    /// One text, or a list of them. An empty list is `Some`.
    pub(crate) fn texts(&self, key: &str) -> Option<Vec<Text>> {
        self.texts_in(self.value(key)?)
    }

    fn texts_in(&self, value: &Spanned<DeValue<'i>>) -> Option<Vec<Text>> {
        let text = |value: &Spanned<DeValue<'i>>| {
            Some(self.located(value.get_ref().as_str()?, value.span().into()))
        };
        match value.get_ref() {
            DeValue::Array(items) => Some(items.iter().filter_map(text).collect()),
            _ => Some(vec![text(value)?]),
        }
    }

    /// `true` or `false`.
    pub(crate) fn flag(&self, key: &str) -> Option<Located<bool>> {
        let value = self.value(key)?;
        Some(Located { value: value.get_ref().as_bool()?, at: value.span().into() })
    }

    /// A whole number; one too large for the format counts as the largest.
    pub(crate) fn number(&self, key: &str) -> Option<Located<i64>> {
        let value = self.value(key)?;
        let number = value.get_ref().as_integer()?;
        let parsed = i64::from_str_radix(number.as_str(), number.radix());
        Some(Located { value: parsed.unwrap_or(i64::MAX), at: value.span().into() })
    }

    /// A number, with or without a fraction.
    pub(crate) fn decimal(&self, key: &str) -> Option<Located<f64>> {
        let value = self.value(key)?;
        let parsed = match value.get_ref() {
            DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
                .map_or(Some(f64::INFINITY), |number| Some(number as f64)),
            DeValue::Float(number) => number.as_str().parse().ok(),
            _ => None,
        };
        Some(Located { value: parsed?, at: value.span().into() })
    }

    /// A range, or `false`.
    pub(crate) fn range_or_off(&self, key: &str) -> Option<Result<Text, Span>> {
        match self.value(key)?.get_ref() {
            DeValue::Boolean(false) => Some(Err(self.value(key)?.span().into())),
            _ => self.text(key).map(Ok),
        }
    }

    /// The tables in a list.
    pub(crate) fn tables(&self, key: &str) -> Option<Vec<Self>> {
        let items = self.value(key)?.get_ref().as_array()?;
        let tables = items.iter().filter_map(|item| {
            let name = Text { at: item.span().into(), ..Text::default() };
            Some(self.inner(key, item.get_ref().as_table()?, name))
        });
        Some(tables.collect())
    }

    /// A table inside this one.
    pub(crate) fn table(&self, key: &str) -> Option<Self> {
        let table = self.value(key)?.get_ref().as_table()?;
        let at =
            self.table.get_key_value(key).map_or(Span::default(), |(key, _)| key.span().into());
        Some(self.inner(key, table, Text { at, ..Text::default() }))
    }

    /// The named entries of a table of tables, such as all of `[zone.…]`, read with `read`.
    pub(crate) fn each<T>(&self, key: &str, read: fn(&Self) -> T) -> Vec<T> {
        let entries = self.value(key).and_then(|value| value.get_ref().as_table());
        let entries = entries.into_iter().flat_map(|entries| entries.iter());
        let all = entries.filter_map(|(name, value)| {
            let name = self.located(name.get_ref(), name.span().into());
            Some(read(&self.inner(key, value.get_ref().as_table()?, name)))
        });
        all.collect()
    }

    /// The texts in a table whose keys are free.
    pub(crate) fn named_texts(&self, key: &str) -> Vec<(Text, Text)> {
        self.named(key, |value| Some(self.located(value.get_ref().as_str()?, value.span().into())))
    }

    /// The lists of texts in a table whose keys are free.
    pub(crate) fn named_lists(&self, key: &str) -> Vec<(Text, Vec<Text>)> {
        self.named(key, |value| self.texts_in(value))
    }

    fn named<T>(
        &self,
        key: &str,
        read: impl Fn(&Spanned<DeValue<'i>>) -> Option<T>,
    ) -> Vec<(Text, T)> {
        let named = self.value(key).and_then(|value| value.get_ref().as_table());
        let named = named.into_iter().flat_map(|named| named.iter());
        let all = named.filter_map(|(name, value)| {
            Some((self.located(name.get_ref(), name.span().into()), read(value)?))
        });
        all.collect()
    }

    fn inner(&self, key: &str, table: &'t DeTable<'i>, name: Text) -> Self {
        let format = match self.format.key(key).map(|key| key.takes) {
            Some(Takes::Table(format) | Takes::Entries(format) | Takes::Tables(format)) => format,
            _ => self.format,
        };
        Self { table, format, name, around: self.around }
    }
}

/// A text with its place, and with the place of its first letter where the file spells it out.
pub(crate) fn located_text(value: &str, at: Span, source: &Source) -> Text {
    let written = source.text().get(at.start..at.end).unwrap_or_default();
    let body = written.find(value).map(|offset| at.start + offset);
    Text { value: value.to_owned(), at, body: body.filter(|_| !value.is_empty()) }
}
