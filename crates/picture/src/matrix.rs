//! The matrix as a picture: the decision in each cell, and where there are exceptions.

use crate::legend::{GAP, MARGIN, Sign, heading, legend};
use crate::scene::{Fill, Frame, Group, Ink, Picture, Stroke, Style};

/// How wide a page may be before columns are headed by numbers.
const WIDEST: f32 = 1_080.0;
/// The widest column whose heading is still a name.
const WIDEST_COLUMN: f32 = 150.0;
/// The widest word in a cell that is not broken.
const WIDEST_WORD: f32 = 84.0;
/// The narrowest column.
const NARROWEST_COLUMN: f32 = 34.0;
const PADDING: f32 = 6.0;

/// What a cell does with packets that no exception decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stance {
    /// They pass.
    Allow,
    /// They are dropped.
    Block,
    /// They are refused with an answer.
    Reject,
    /// There are none.
    Nothing,
}

/// An exception, as its cell shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CellNote {
    /// Its name.
    pub exception: String,
    /// Its services, in a word or two; none for all of them.
    pub service: Option<String>,
    /// Whom it is about.
    pub from: String,
    /// When it counts; none for always.
    pub hours: Option<String>,
    /// Whether it lets pass; else it keeps out.
    pub allows: bool,
}

/// A cell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GridCell {
    /// What it does.
    pub stance: Stance,
    /// The exceptions that decide some of its packets.
    pub notes: Vec<CellNote>,
    /// The name that a page links to it by.
    pub anchor: Option<String>,
}

/// An exception by name, for the list below the grid.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NamedException {
    /// Its name.
    pub name: String,
    /// What it does, in words.
    pub words: String,
}

/// What the picture of a matrix shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MatrixGrid {
    /// The site's name.
    pub site: String,
    /// The day that it holds for.
    pub day: String,
    /// The zones, in the order of rows and columns.
    pub zones: Vec<String>,
    /// The cells, row by row: as many as the square of the zones' number.
    pub cells: Vec<GridCell>,
    /// The exceptions.
    pub exceptions: Vec<NamedException>,
}

impl CellNote {
    fn words(&self) -> String {
        let words = match (&self.service, self.allows) {
            (Some(service), true) => service.clone(),
            (Some(service), false) => format!("no {service}"),
            (None, true) => format!("all {}", self.from),
            (None, false) => format!("not {}", self.from),
        };
        match &self.hours {
            Some(hours) => format!("{words}, {hours}"),
            None => words,
        }
    }
}

impl Stance {
    fn word(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Block => "block",
            Self::Reject => "reject",
            Self::Nothing => "no traffic",
        }
    }

    /// What stands in the cell; a blocked one is empty.
    fn mark(self) -> &'static str {
        match self {
            Self::Block => "",
            Self::Nothing => "-",
            Self::Allow | Self::Reject => self.word(),
        }
    }
}

impl GridCell {
    /// The words in it, each a line unless it has to be wrapped.
    fn words(&self) -> Vec<String> {
        let mark = self.stance.mark();
        let mut words: Vec<String> =
            (!mark.is_empty()).then(|| mark.to_owned()).into_iter().collect();
        match self.notes.len() {
            2 if self.notes[0].words() == self.notes[1].words() => {
                words.push(format!("{} (2)", self.notes[0].words()));
            }
            0..=2 => words.extend(self.notes.iter().map(CellNote::words)),
            count => words.push(format!("{count} exceptions")),
        }
        words
    }

    fn label(&self, from: &str, to: &str) -> String {
        let mut label = format!("{from} to {to}: {}", self.stance.word());
        for note in &self.notes {
            label.push_str(&format!("; {} ({})", note.words(), note.exception));
        }
        label
    }
}

/// How the columns are headed, and how wide they are.
struct Columns {
    /// Whether by names; else by the numbers of the rows.
    named: bool,
    /// Whether cells say their exceptions; else they count them.
    worded: bool,
    width: f32,
}

impl MatrixGrid {
    /// Lays it out.
    pub fn picture(&self) -> Picture {
        let columns = self.columns();
        let names = self.row_names(columns.named);
        let head = names.iter().map(|name| Style::BOLD.width(name)).fold(0.0, f32::max) + 16.0;
        let grid = head + columns.width * self.zones.len() as f32;
        let width = (grid + 2.0 * MARGIN).max(640.0);
        let mut title = Group::new("");
        let below = format!("{}, {}. Rows: from. Columns: to.", self.site, self.day);
        let top = heading(&mut title, "Matrix: which zone may reach which", &below, width);
        let mut groups = vec![title];
        let top = self.column_heads(&mut groups, &columns, head, top);
        let bottom = self.rows(&mut groups, &columns, &names, (head, top));
        let (signs, bottom) = legend(&self.signs(&columns), bottom + GAP, width);
        groups.push(signs);
        let bottom = self.exception_list(&mut groups, bottom + GAP, width);
        Picture {
            title: format!("Matrix of {}", self.site),
            description: self.description(),
            width,
            height: bottom + MARGIN - GAP,
            groups,
        }
    }

    /// The roomiest columns with which the grid fits on the page.
    fn columns(&self) -> Columns {
        let zones = self.zones.len() as f32;
        let widest = |texts: &mut dyn Iterator<Item = String>, style: Style| {
            texts.map(|text| style.width(&text)).fold(0.0, f32::max) + 2.0 * PADDING
        };
        let heads = widest(&mut self.zones.iter().cloned(), Style::BOLD);
        let words =
            widest(
                &mut self.cells.iter().flat_map(GridCell::words).flat_map(|words| {
                    words.split_whitespace().map(str::to_owned).collect::<Vec<_>>()
                }),
                Style::BOLD,
            );
        let words = words.min(WIDEST_WORD + 2.0 * PADDING);
        let head_of =
            |named: bool| widest(&mut self.row_names(named).into_iter(), Style::BOLD) + 16.0;
        for (named, worded, width) in [(true, true, heads.max(words)), (false, true, words)] {
            let width = width.max(NARROWEST_COLUMN);
            let whole = head_of(named) + width * zones + 2.0 * MARGIN;
            if width <= WIDEST_COLUMN && whole <= WIDEST {
                // A little more room, where there is some, saves lines.
                let spare = ((WIDEST - whole) / zones).min(24.0);
                return Columns { named, worded, width: width + spare };
            }
        }
        Columns { named: false, worded: false, width: NARROWEST_COLUMN }
    }

    /// What stands before each row.
    fn row_names(&self, named: bool) -> Vec<String> {
        let number = |(index, name): (usize, &String)| format!("{} {name}", index + 1);
        if named { self.zones.clone() } else { self.zones.iter().enumerate().map(number).collect() }
    }

    fn column_heads(&self, groups: &mut Vec<Group>, columns: &Columns, head: f32, top: f32) -> f32 {
        let mut group = Group::new("");
        let row = Style::BOLD.line() + 6.0;
        for (index, zone) in self.zones.iter().enumerate() {
            let left = MARGIN + head + columns.width * index as f32;
            let name = if columns.named { zone.clone() } else { (index + 1).to_string() };
            group.centred(Frame::new(left, top, columns.width, row), Style::BOLD, name);
        }
        groups.push(group);
        top + row
    }

    fn rows(
        &self,
        groups: &mut Vec<Group>,
        columns: &Columns,
        names: &[String],
        (head, mut top): (f32, f32),
    ) -> f32 {
        for (from, cells) in self.cells.chunks(self.zones.len().max(1)).enumerate() {
            let lines: Vec<Vec<String>> =
                cells.iter().map(|cell| cell_lines(cell, columns)).collect();
            let most = lines.iter().map(Vec::len).max().unwrap_or(0).max(1);
            let height = most as f32 * Style::PLAIN.line() + 2.0 * PADDING;
            let mut name = Group::new("");
            name.text(MARGIN, top + (height - Style::BOLD.line()) / 2.0, Style::BOLD, &names[from]);
            groups.push(name);
            for (to, (cell, lines)) in cells.iter().zip(lines).enumerate() {
                let left = MARGIN + head + columns.width * to as f32;
                let frame = Frame::new(left, top, columns.width, height);
                let mut group = Group::new(cell.label(&self.zones[from], &self.zones[to]));
                group.anchor.clone_from(&cell.anchor);
                draw_cell(&mut group, cell, frame, &lines);
                groups.push(group);
            }
            top += height;
        }
        top
    }

    /// The signs that stand in this grid, and no others.
    fn signs(&self, columns: &Columns) -> Vec<(Sign, &'static str)> {
        let has = |stance| self.cells.iter().any(|cell| cell.stance == stance);
        let notes = || self.cells.iter().filter(|cell| cell.notes.len() <= 2 || !columns.worded);
        let has_note =
            |allows| notes().flat_map(|cell| &cell.notes).any(|note| note.allows == allows);
        let mut signs = Vec::new();
        if has(Stance::Allow) {
            signs.push((Sign::Box(Fill::Allowed, Stroke::Border), "allowed"));
        }
        signs.push((Sign::Box(Fill::Page, Stroke::Border), "blocked"));
        if has(Stance::Reject) {
            signs.push((
                Sign::Box(Fill::Hatched, Stroke::Border),
                "rejected: refused with an answer",
            ));
        }
        let has_notes = self.cells.iter().any(|cell| !cell.notes.is_empty());
        if !columns.worded && has_notes {
            signs.push((Sign::Word("2"), "number of exceptions, listed below"));
        } else if has_note(true) || has_note(false) {
            signs.push((
                Sign::Word("https"),
                "allowed by an exception; “no ...” and “not ...”: blocked by one",
            ));
        }
        if has(Stance::Nothing) {
            signs.push((Sign::Word("-"), "no traffic is possible"));
        }
        signs
    }

    /// The exceptions by name, in one column or two; how far down it reaches.
    fn exception_list(&self, groups: &mut Vec<Group>, top: f32, width: f32) -> f32 {
        if self.exceptions.is_empty() {
            return top;
        }
        let across = if width >= 900.0 { 2 } else { 1 };
        let column = (width - 2.0 * MARGIN - GAP * (across - 1) as f32) / across as f32;
        let widest = self.exceptions.iter().map(|entry| Style::BOLD.width(&entry.name));
        let name = (widest.fold(0.0, f32::max) + 10.0).min(column / 2.0);
        let mut heading = Group::new("");
        heading.text(MARGIN, top, Style::BOLD, "Exceptions");
        groups.push(heading);
        let start = top + Style::BOLD.line() + 8.0;
        let mut lowest = start;
        let per_column = self.exceptions.len().div_ceil(across);
        for (place, entries) in self.exceptions.chunks(per_column).enumerate() {
            let left = MARGIN + (column + GAP) * place as f32;
            let mut top = start;
            for entry in entries {
                let mut group = Group::new(format!("{}: {}", entry.name, entry.words));
                let names = Style::BOLD.wrapped(&entry.name, name - 10.0);
                let words = Style::FAINT.wrapped(&entry.words, column - name);
                for (index, line) in names.iter().enumerate() {
                    group.text(left, top + row() * index as f32, Style::BOLD, line);
                }
                for (index, line) in words.iter().enumerate() {
                    group.text(left + name, top + row() * index as f32, Style::FAINT, line);
                }
                groups.push(group);
                top += row() * names.len().max(words.len()) as f32 + 3.0;
            }
            lowest = lowest.max(top);
        }
        lowest + GAP
    }

    fn description(&self) -> String {
        let rows =
            self.cells.chunks(self.zones.len().max(1)).zip(&self.zones).map(|(row, from)| {
                let reached = row.iter().zip(&self.zones);
                let reached = reached.filter(|(cell, _)| cell.stance == Stance::Allow);
                let names: Vec<&str> = reached.map(|(_, to)| to.as_str()).collect();
                let names = if names.is_empty() { "nothing".to_owned() } else { names.join(", ") };
                format!("{from} may reach {names}")
            });
        let exceptions = match self.exceptions.len() {
            0 => "There are no exceptions.".to_owned(),
            1 => "One exception is named below the matrix.".to_owned(),
            count => format!("{count} exceptions are named below the matrix."),
        };
        format!("{}. {exceptions}", rows.collect::<Vec<_>>().join("; "))
    }
}

fn row() -> f32 {
    Style::PLAIN.line() + 1.0
}

/// The lines of a cell, wrapped.
fn cell_lines(cell: &GridCell, columns: &Columns) -> Vec<String> {
    if columns.worded {
        let wrapped = |words: String| Style::BOLD.wrapped(&words, columns.width - 2.0 * PADDING);
        return cell.words().into_iter().flat_map(wrapped).collect();
    }
    match (cell.notes.len(), cell.stance) {
        (0, Stance::Nothing) => vec!["-".to_owned()],
        (0, _) => Vec::new(),
        (count, _) => vec![count.to_string()],
    }
}

fn draw_cell(group: &mut Group, cell: &GridCell, frame: Frame, lines: &[String]) {
    let fill = match cell.stance {
        Stance::Allow => Fill::Allowed,
        Stance::Reject => Fill::Hatched,
        Stance::Block | Stance::Nothing => Fill::Page,
    };
    group.shape(frame, 0.0, fill, Stroke::Faint);
    let ink = if fill == Fill::Allowed { Ink::OnAllowed } else { Ink::Plain };
    let line = Style::PLAIN.line();
    let top = frame.top + (frame.height - line * lines.len() as f32) / 2.0;
    if fill == Fill::Hatched && !lines.is_empty() {
        // Words are not read across hatching.
        let widest = lines.iter().map(|text| Style::BOLD.width(text)).fold(0.0, f32::max);
        let left = frame.left + (frame.width - widest) / 2.0 - 2.0;
        let plate = Frame::new(left, top, widest + 4.0, line * lines.len() as f32);
        group.shape(plate, 2.0, Fill::Page, Stroke::None);
    }
    for (index, text) in lines.iter().enumerate() {
        let is_mark = index == 0 && text == cell.stance.mark();
        let style = if is_mark { Style::PLAIN } else { Style::BOLD };
        let row = Frame::new(frame.left, top + line * index as f32, frame.width, line);
        group.centred(row, Style { ink, ..style }, text);
    }
}
