//! The state of the screen: what is selected, what has been typed, and what a key does. None of it needs a terminal.

use super::edits::Proposal;
use super::input::Input;
use super::snapshot::{Entry, Snapshot};
use crate::show::table::columns;
use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;

/// The parts of the screen that can be chosen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Pane {
    #[default]
    Matrix,
    Exceptions,
    Findings,
    Site,
}

impl Pane {
    /// All of them, in the order of their keys.
    pub(super) const ALL: [Self; 4] = [Self::Matrix, Self::Exceptions, Self::Findings, Self::Site];

    /// Its name as it stands in the line of all: with its key, and how much is in it.
    pub(super) fn heading(self, snapshot: &Snapshot) -> String {
        let (number, rows) = (self.place() + 1, Ui::list(self, snapshot).len());
        match self {
            Self::Matrix => format!(" {number} Matrix "),
            Self::Exceptions => format!(" {number} Exceptions ({rows}) "),
            Self::Findings => format!(" {number} Findings ({rows}) "),
            Self::Site => format!(" {number} Site "),
        }
    }

    fn place(self) -> usize {
        Self::ALL.iter().position(|pane| *pane == self).unwrap_or_default()
    }
}

/// What is going on.
#[derive(Clone, Debug, Default)]
pub(super) enum Mode {
    /// Keys move.
    #[default]
    Browse,
    /// A question is typed.
    Ask(Input),
    /// A word is searched for.
    Search(Input),
    /// A change is typed.
    Change(Input),
    /// A change is shown before it is kept.
    Preview(Proposal),
    /// The keys are explained.
    Help,
}

/// What is to be done that the screen cannot do by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Wish {
    Nothing,
    Leave,
    /// Answer a question.
    Ask(String),
    /// Work out what a change would do.
    Propose(String),
    /// Keep the change that was shown.
    Keep,
    /// Take the last change back.
    Undo,
}

/// Everything that a person has chosen and typed.
#[derive(Default)]
pub(super) struct Ui {
    pub(super) pane: Pane,
    pub(super) mode: Mode,
    /// The selected cell: row and column.
    pub(super) cell: (usize, usize),
    /// The selected row of each list.
    rows: [usize; 4],
    /// How far what is beside the selection is scrolled.
    pub(super) scrolled: u16,
    /// The answer to the question that is typed.
    pub(super) answer: Vec<String>,
    /// What the last change came to, or what is wrong.
    pub(super) says: String,
    /// What is wrong with the file.
    pub(super) trouble: Option<String>,
    /// Whether there is colour.
    pub(super) colour: bool,
    /// Where the matrix and the list were drawn last.
    pub(super) areas: Areas,
}

/// Where things were drawn, for the mouse.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Areas {
    /// The cells of the matrix: of the first one that is shown.
    pub(super) cells: Rect,
    /// How wide a cell is, and which row and column come first.
    pub(super) cell_width: u16,
    pub(super) first: (usize, usize),
    /// The rows of the list, and which comes first.
    pub(super) list: Rect,
    pub(super) first_row: usize,
    /// The line with the names of the panes.
    pub(super) tabs: Rect,
}

impl Ui {
    /// Nothing is chosen yet.
    pub(super) fn new(colour: bool) -> Self {
        Self { colour, ..Self::default() }
    }

    /// Keeps the selection inside a plan that has become smaller.
    pub(super) fn fit(&mut self, snapshot: &Snapshot) {
        let last = snapshot.zones.len().saturating_sub(1);
        self.cell = (self.cell.0.min(last), self.cell.1.min(last));
        for pane in Pane::ALL {
            let rows = Self::list(pane, snapshot).len().saturating_sub(1);
            let row = &mut self.rows[pane.place()];
            *row = (*row).min(rows);
        }
    }

    /// The rows of a pane that is a list.
    pub(super) fn list(pane: Pane, snapshot: &Snapshot) -> &[Entry] {
        match pane {
            Pane::Matrix => &[],
            Pane::Exceptions => &snapshot.exceptions,
            Pane::Findings => &snapshot.findings,
            Pane::Site => &snapshot.site,
        }
    }

    /// The selected row of the pane that is shown.
    pub(super) fn row(&self) -> usize {
        self.rows[self.pane.place()]
    }

    pub(super) fn answer(&mut self, lines: Vec<String>) {
        self.answer = lines;
    }

    pub(super) fn trouble(&mut self, trouble: Option<String>) {
        self.trouble = trouble;
    }

    /// Shows what a change would do; where it cannot be made, why, and the line is typed on.
    pub(super) fn proposed(&mut self, proposal: Result<Proposal, String>) {
        match proposal {
            Ok(proposal) => {
                self.says.clear();
                self.mode = Mode::Preview(proposal);
                self.scrolled = 0;
            }
            Err(says) => self.says = says,
        }
    }

    pub(super) fn kept(&mut self, came_of: Result<String, String>) {
        self.says = came_of.unwrap_or_else(|says| says);
        self.mode = Mode::Browse;
        self.scrolled = 0;
    }

    /// Takes a key.
    pub(super) fn key(&mut self, key: KeyEvent, snapshot: &Snapshot) -> Wish {
        if key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL) {
            return Wish::Leave;
        }
        match std::mem::take(&mut self.mode) {
            Mode::Browse => self.browse(key, snapshot),
            Mode::Help => Wish::Nothing,
            Mode::Preview(proposal) => self.preview(key, proposal),
            Mode::Ask(input) => self.asking(key, input),
            Mode::Search(input) => self.searching(key, input, snapshot),
            Mode::Change(input) => self.changing(key, input),
        }
    }

    fn browse(&mut self, key: KeyEvent, snapshot: &Snapshot) -> Wish {
        let page = 10;
        match key.code {
            KeyCode::Char('q') | KeyCode::Esc => return Wish::Leave,
            KeyCode::Char('?') | KeyCode::F(1) => self.mode = Mode::Help,
            KeyCode::Char('a') => {
                self.answer = vec!["type FROM TO SERVICE, as in: desks printers ipp".to_owned()];
                self.mode = Mode::Ask(Input::default());
            }
            KeyCode::Char('/') => self.mode = Mode::Search(Input::default()),
            KeyCode::Char('c') => self.mode = Mode::Change(Input::starting_with("set ")),
            KeyCode::Char('e') | KeyCode::Enter => {
                self.mode = Mode::Change(Input::starting_with(&self.suggested(snapshot)));
            }
            KeyCode::Char('u') => return Wish::Undo,
            KeyCode::Char(digit @ '1'..='4') => {
                self.show(Pane::ALL[digit as usize - '1' as usize]);
            }
            KeyCode::Tab => self.show(Pane::ALL[(self.pane.place() + 1) % 4]),
            KeyCode::BackTab => self.show(Pane::ALL[(self.pane.place() + 3) % 4]),
            KeyCode::Up | KeyCode::Char('k') => self.step(-1, 0, snapshot),
            KeyCode::Down | KeyCode::Char('j') => self.step(1, 0, snapshot),
            KeyCode::Left | KeyCode::Char('h') => self.step(0, -1, snapshot),
            KeyCode::Right | KeyCode::Char('l') => self.step(0, 1, snapshot),
            KeyCode::Home => self.step(-9_999, -9_999, snapshot),
            KeyCode::End => self.step(9_999, 9_999, snapshot),
            KeyCode::PageDown => self.scrolled = self.scrolled.saturating_add(page),
            KeyCode::PageUp => self.scrolled = self.scrolled.saturating_sub(page),
            _ => {}
        }
        Wish::Nothing
    }

    fn show(&mut self, pane: Pane) {
        self.pane = pane;
        self.scrolled = 0;
        self.says.clear();
    }

    /// Moves the selection.
    fn step(&mut self, down: isize, right: isize, snapshot: &Snapshot) {
        let moved = |at: usize, by: isize, last: usize| at.saturating_add_signed(by).min(last);
        self.scrolled = 0;
        self.says.clear();
        if self.pane == Pane::Matrix {
            let last = snapshot.zones.len().saturating_sub(1);
            self.cell = (moved(self.cell.0, down, last), moved(self.cell.1, right, last));
        } else {
            let last = Self::list(self.pane, snapshot).len().saturating_sub(1);
            let row = &mut self.rows[self.pane.place()];
            *row = moved(*row, down, last);
        }
    }

    /// The change that a person most likely wants at the selection, to be typed on.
    fn suggested(&self, snapshot: &Snapshot) -> String {
        match self.pane {
            Pane::Matrix => {
                let (row, column) = self.cell;
                let cell = snapshot.cell(row, column).map(|(cell, _)| cell);
                let other =
                    if cell.is_some_and(|cell| cell.action == "allow") { "block" } else { "allow" };
                let name = |at: usize| snapshot.zones.get(at).map_or("", String::as_str);
                format!("set cell {} {} {other}", name(row), name(column))
            }
            Pane::Exceptions => match snapshot.exceptions.get(self.row()) {
                Some(entry) => {
                    let other = if entry.counts { "true" } else { "false" };
                    format!("set exception {} off={other}", entry.name)
                }
                None => "add exception ".to_owned(),
            },
            Pane::Findings | Pane::Site => "set ".to_owned(),
        }
    }

    fn asking(&mut self, key: KeyEvent, mut input: Input) -> Wish {
        if key.code == KeyCode::Esc {
            return Wish::Nothing;
        }
        let changed = input.key(key);
        let words = input.text();
        self.mode = Mode::Ask(input);
        if changed || key.code == KeyCode::Enter { Wish::Ask(words) } else { Wish::Nothing }
    }

    fn searching(&mut self, key: KeyEvent, mut input: Input, snapshot: &Snapshot) -> Wish {
        match key.code {
            KeyCode::Esc => return Wish::Nothing,
            KeyCode::Enter => {
                let next = 1;
                self.find(&input.text(), next, snapshot);
            }
            _ => {
                if input.key(key) {
                    self.find(&input.text(), 0, snapshot);
                }
            }
        }
        self.mode = Mode::Search(input);
        Wish::Nothing
    }

    /// Goes to what holds a word, from `skip` places behind the selection on, in all panes.
    fn find(&mut self, word: &str, skip: usize, snapshot: &Snapshot) {
        let word = word.to_lowercase();
        self.says.clear();
        if word.is_empty() {
            return;
        }
        let holds = |text: &str| text.to_lowercase().contains(&word);
        let mut places: Vec<(Pane, usize)> = Vec::new();
        let zones = snapshot.zones.iter().enumerate().filter(|(_, zone)| holds(zone));
        places.extend(zones.map(|(row, _)| (Pane::Matrix, row)));
        for pane in &Pane::ALL[1..] {
            let rows = Self::list(*pane, snapshot).iter().enumerate();
            let found = rows.filter(|(_, entry)| {
                holds(&entry.name)
                    || holds(&entry.says)
                    || entry.more.iter().any(|line| holds(line))
            });
            places.extend(found.map(|(row, _)| (*pane, row)));
        }
        let here = match self.pane {
            Pane::Matrix => (Pane::Matrix.place(), self.cell.0),
            pane => (pane.place(), self.row()),
        };
        let from = places.iter().position(|(pane, row)| (pane.place(), *row) >= here);
        let Some(from) = from.or((!places.is_empty()).then_some(0)) else {
            self.says = format!("no match for “{word}”");
            return;
        };
        let is_here = places[from].0.place() == here.0 && places[from].1 == here.1;
        let at = if is_here { from + skip } else { from };
        let (pane, row) = places[at % places.len()];
        self.show(pane);
        match pane {
            Pane::Matrix => self.cell.0 = row,
            pane => self.rows[pane.place()] = row,
        }
        self.says = format!("{} of {}; Enter: the next one", at % places.len() + 1, places.len());
    }

    fn changing(&mut self, key: KeyEvent, mut input: Input) -> Wish {
        match key.code {
            KeyCode::Esc => {
                self.says.clear();
                return Wish::Nothing;
            }
            KeyCode::Enter => {
                let line = input.text();
                self.mode = Mode::Change(input);
                return Wish::Propose(line);
            }
            _ => {}
        }
        input.key(key);
        self.mode = Mode::Change(input);
        Wish::Nothing
    }

    fn preview(&mut self, key: KeyEvent, proposal: Proposal) -> Wish {
        match key.code {
            KeyCode::Char('y') => return Wish::Keep,
            KeyCode::Esc | KeyCode::Char('n' | 'q') => {
                self.says = "nothing changed".to_owned();
                self.scrolled = 0;
                return Wish::Nothing;
            }
            KeyCode::Char('e') => {
                self.mode = Mode::Change(Input::starting_with(&proposal.line));
                return Wish::Nothing;
            }
            KeyCode::Down | KeyCode::PageDown => self.scrolled = self.scrolled.saturating_add(3),
            KeyCode::Up | KeyCode::PageUp => self.scrolled = self.scrolled.saturating_sub(3),
            _ => {}
        }
        self.mode = Mode::Preview(proposal);
        Wish::Nothing
    }

    /// Takes a click.
    pub(super) fn click(&mut self, column: u16, row: u16, snapshot: &Snapshot) -> Wish {
        if !matches!(self.mode, Mode::Browse) {
            return Wish::Nothing;
        }
        let Areas { cells, cell_width, first, list, first_row, tabs } = self.areas;
        let at = ratatui::layout::Position::new(column, row);
        if tabs.contains(at) {
            let mut left = tabs.x;
            for pane in Pane::ALL {
                let width = columns(pane.heading(snapshot).chars().count());
                if (left..left + width).contains(&column) {
                    self.show(pane);
                }
                left += width;
            }
        } else if self.pane == Pane::Matrix && cells.contains(at) && cell_width > 0 {
            let last = snapshot.zones.len().saturating_sub(1);
            let (down, right) = (row - cells.y, (column - cells.x) / cell_width);
            self.step(0, 0, snapshot);
            self.cell =
                ((first.0 + usize::from(down)).min(last), (first.1 + usize::from(right)).min(last));
        } else if self.pane != Pane::Matrix && list.contains(at) {
            let row = first_row + usize::from(row - list.y);
            if row < Self::list(self.pane, snapshot).len() {
                self.step(0, 0, snapshot);
                self.rows[self.pane.place()] = row;
            }
        }
        Wish::Nothing
    }

    /// Takes a turn of the wheel.
    pub(super) fn scroll(&mut self, by: i16, snapshot: &Snapshot) -> Wish {
        match (&self.mode, self.pane) {
            (Mode::Browse, Pane::Matrix) | (Mode::Preview(_), _) => {
                self.scrolled = self.scrolled.saturating_add_signed(by * 2);
            }
            (Mode::Browse, _) => self.step(isize::from(by), 0, snapshot),
            _ => {}
        }
        Wish::Nothing
    }
}
