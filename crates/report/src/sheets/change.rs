//! The effect of an edit on the text of the plan file.

use super::{CompareSheet, EDITION};
use crate::{Cell, Column, Table, Tone};
use schemars::JsonSchema;
use serde::Serialize;
use similar::{ChangeTag, TextDiff};

/// A change, line by line.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ChangeSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The file.
    pub file: String,
    /// Whether it was written.
    pub written: bool,
    /// The lines that go and come, in order.
    pub lines: Vec<LineRow>,
    /// What traffic the change opens and closes, where that was worked out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub traffic: Option<CompareSheet>,
}

/// A matrix that could be, as a drawing.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DraftSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The drawing, as the plan would have it.
    pub grid: String,
}

impl DraftSheet {
    /// A drawing as a sheet.
    pub fn new(grid: String) -> Self {
        Self { bastium: EDITION, grid }
    }

    /// As a table with a row for each zone.
    pub fn tables(&self) -> Vec<Table> {
        let mut lines = self.grid.lines();
        let head = lines.next().unwrap_or_default().split_whitespace();
        let columns = ["from"].into_iter().chain(head).map(Column::whole);
        let mut table = Table::new(columns);
        for line in lines {
            table.row(line.split_whitespace().map(Cell::from));
        }
        vec![table]
    }
}

/// A line that goes or comes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LineRow {
    /// `-` for a line that goes, `+` for one that comes.
    pub sign: &'static str,
    /// Its number, in the old text or in the new one.
    pub line: usize,
    /// What it says.
    pub text: String,
}

impl ChangeSheet {
    /// Compares two texts of a file.
    pub fn new(file: &str, old: &str, new: &str, written: bool) -> Self {
        let diff = TextDiff::from_lines(old, new);
        let lines = diff.iter_all_changes().filter_map(|change| {
            let (sign, index) = match change.tag() {
                ChangeTag::Delete => ("-", change.old_index()?),
                ChangeTag::Insert => ("+", change.new_index()?),
                ChangeTag::Equal => return None,
            };
            let text = change.value().trim_end_matches(['\r', '\n']).to_owned();
            Some(LineRow { sign, line: index + 1, text })
        });
        let (file, lines) = (file.to_owned(), lines.collect());
        Self { bastium: EDITION, file, written, lines, traffic: None }
    }

    /// As a table.
    pub fn tables(&self) -> Vec<Table> {
        let mut table =
            Table::new([Column::whole("sign"), Column::numbers("line"), Column::whole("text")]);
        for line in &self.lines {
            let tone = if line.sign == "+" { Tone::Good } else { Tone::Bad };
            table.row([
                Cell::toned(line.sign, tone),
                line.line.into(),
                Cell::toned(&line.text, tone),
            ]);
        }
        vec![table]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_have_the_numbers_of_their_own_text() {
        let sheet = ChangeSheet::new("plan", "a\nb\nc\n", "a\nc\nd\n", true);
        let line = |sign, line, text: &str| LineRow { sign, line, text: text.to_owned() };
        assert_eq!(sheet.lines, [line("-", 2, "b"), line("+", 3, "d")]);
    }
}
