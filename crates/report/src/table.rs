//! A table, without any layout.

/// What a cell means, for those who can see colour. The text says the same in words.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tone {
    /// Nothing in particular.
    #[default]
    Plain,
    /// Allowed, as it should be.
    Good,
    /// Denied.
    Bad,
    /// To be looked at.
    Warn,
    /// Of less weight than the rest.
    Faint,
    /// Of more weight than the rest.
    Strong,
}

/// One cell.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cell {
    /// What it says.
    pub text: String,
    /// What that means.
    pub tone: Tone,
}

impl Cell {
    /// A cell with a tone.
    pub fn toned(text: impl Into<String>, tone: Tone) -> Self {
        Self { text: text.into(), tone }
    }

    /// A cell for what is done with packets.
    pub fn action(word: &str) -> Self {
        let tone = match word {
            "allow" => Tone::Good,
            // What is denied as planned is not wrong: it recedes, and what is allowed stands out.
            "block" | "reject" => Tone::Faint,
            "mixed" => Tone::Warn,
            _ => Tone::Faint,
        };
        Self::toned(word, tone)
    }
}

impl<T: ToString> From<T> for Cell {
    fn from(text: T) -> Self {
        Self { text: text.to_string(), tone: Tone::Plain }
    }
}

/// A column.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Column {
    /// Its heading.
    pub heading: String,
    /// Whether it holds numbers, which stand to the right.
    pub numbers: bool,
    /// Whether its words must stay whole where room is short.
    pub whole: bool,
}

impl Column {
    /// A column of text, which may be broken into lines.
    pub fn text(heading: impl Into<String>) -> Self {
        Self { heading: heading.into(), numbers: false, whole: false }
    }

    /// A column of text that stays on one line.
    pub fn whole(heading: impl Into<String>) -> Self {
        Self { whole: true, ..Self::text(heading) }
    }

    /// A column of numbers.
    pub fn numbers(heading: impl Into<String>) -> Self {
        Self { numbers: true, ..Self::whole(heading) }
    }
}

/// A table: what a terminal, CSV, Markdown, a workbook and a page show of a sheet, each in its own layout.
///
/// ```
/// use bastium_report::{Cell, Column, Table, csv, markdown};
///
/// let mut table = Table::new([Column::whole("network"), Column::numbers("VLAN")]);
/// table.row(["desks".into(), "24".into()]);
/// table.row(["printers".into(), "48".into()]);
/// assert_eq!(csv(&[table.clone()], "sheet"), "network,VLAN\ndesks,24\nprinters,48\n");
/// assert!(markdown(&[table]).contains("| desks"));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Table {
    /// What it is called, where there are several.
    pub title: Option<String>,
    /// Its columns.
    pub columns: Vec<Column>,
    /// Its rows, each with a cell for every column.
    pub rows: Vec<Vec<Cell>>,
}

impl Table {
    /// An empty table with these columns.
    pub fn new(columns: impl IntoIterator<Item = Column>) -> Self {
        Self { title: None, columns: columns.into_iter().collect(), rows: Vec::new() }
    }

    /// The same with a title.
    #[must_use]
    pub fn titled(mut self, title: impl Into<String>) -> Self {
        self.title = Some(title.into());
        self
    }

    /// Leaves out columns that have nothing in any row, for readers on a screen or on paper.
    #[must_use]
    pub fn without_empty_columns(mut self) -> Self {
        let is_filled = |place: usize| {
            self.rows.iter().any(|row| row.get(place).is_some_and(|c| !c.text.is_empty()))
        };
        let filled: Vec<bool> = (0..self.columns.len()).map(is_filled).collect();
        self.keep_columns(&filled);
        self
    }

    /// Keeps those columns that are marked.
    pub(crate) fn keep_columns(&mut self, kept: &[bool]) {
        let mut keeps = kept.iter();
        self.columns.retain(|_| keeps.next().is_none_or(|kept| *kept));
        for row in &mut self.rows {
            let mut keeps = kept.iter();
            row.retain(|_| keeps.next().is_none_or(|kept| *kept));
        }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: impl IntoIterator<Item = Cell>) {
        self.rows.push(cells.into_iter().collect());
    }
}
