//! The text a plan was read from, and positions in it.

use std::ops::Range;
use std::sync::Arc;

/// A stretch of the plan's text, in bytes, end excluded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span {
    /// First byte.
    pub start: usize,
    /// First byte after it.
    pub end: usize,
}

impl From<Range<usize>> for Span {
    fn from(range: Range<usize>) -> Self {
        Self { start: range.start, end: range.end }
    }
}

/// The text of a plan and where its lines begin.
#[derive(Clone, Debug, Default)]
pub struct Source {
    name: String,
    text: Arc<str>,
    starts: Vec<usize>,
}

impl Source {
    /// Takes a text; `name` is how to call it in messages, usually its path.
    pub fn new(name: impl Into<String>, text: impl Into<Arc<str>>) -> Self {
        let text = text.into();
        let breaks = text.match_indices('\n').map(|(at, _)| at + 1);
        Self { name: name.into(), starts: std::iter::once(0).chain(breaks).collect(), text }
    }

    /// What the text is called.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The whole text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The line a span begins on, counted from 1.
    pub fn line(&self, span: Span) -> usize {
        self.starts.partition_point(|start| *start <= span.start)
    }

    /// The column a span begins at, in characters, counted from 1.
    pub fn column(&self, span: Span) -> usize {
        let start = self.line(span).checked_sub(1).map_or(0, |i| self.starts[i]);
        let before = self.text.get(start..span.start).unwrap_or_default();
        before.chars().count() + 1
    }
}

/// A piece of text from the plan, with its position.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Text {
    /// The text itself, as the file format says it reads.
    pub value: String,
    /// Where it stands.
    pub at: Span,
    /// Where its first character stands, if the source has it there letter by letter.
    pub body: Option<usize>,
}

impl Text {
    /// A text that comes from no file: from the command line, or from a test.
    pub fn new(value: impl Into<String>) -> Self {
        Self { value: value.into(), ..Self::default() }
    }

    /// The position of a part of the value, given as a byte range; of the whole where the source
    /// writes the value with escapes and its position is not known.
    pub fn part(&self, range: Range<usize>) -> Span {
        match self.body {
            Some(start) => (start + range.start..start + range.end).into(),
            None => self.at,
        }
    }
}

/// A value from the plan, with its position.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Located<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub at: Span,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_columns_count_from_one_and_in_characters() {
        let source = Source::new("plan", "a = 1\nbé = 2\n");
        let two = source.text().find('2').expect("a 2");
        let span = Span::from(two..two + 1);
        assert_eq!((source.line(span), source.column(span)), (2, 6));
        assert_eq!(source.line(Span::default()), 1);
    }
}
