//! A small grid of zones: where something happens, and how often.

use crate::font;
use crate::legend::MARGIN;
use crate::scene::{Fill, Frame, Group, Ink, Picture, Stroke, Style};

const PADDING: f32 = 6.0;
const NARROWEST: f32 = 30.0;

/// What a small grid says of one cell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mark {
    /// A word or a number.
    pub text: String,
    /// Whether it stands out.
    pub strong: bool,
    /// The same in a sentence.
    pub words: String,
    /// The name that a page links to it by.
    pub anchor: Option<String>,
}

/// A small grid of zones: rows are where traffic comes from, columns where it goes, and a mark says how often
/// something happens there.
///
/// ```
/// use bastium_picture::{Mark, SmallGrid, Theme, flaws, svg};
///
/// let zones = vec!["people".to_owned(), "things".to_owned()];
/// let mark = Mark { text: "3".into(), strong: true, words: "3 checks".into(), anchor: None };
/// let grid = SmallGrid {
///     title: "Checks".into(),
///     about: "How many checks are made from zone to zone".into(),
///     zones,
///     cells: vec![None, Some(mark), None, None],
/// };
/// let picture = grid.picture();
/// // Texts fit, nothing overlaps, nothing lies outside.
/// assert!(flaws(&picture).is_empty());
/// assert!(svg(&picture, Theme::Print).starts_with("<svg"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SmallGrid {
    /// What it is about.
    pub title: String,
    /// What stands in its cells, and what an empty one says.
    pub about: String,
    /// The zones, in the order of rows and columns.
    pub zones: Vec<String>,
    /// The cells, row by row: as many as the square of the zones' number.
    pub cells: Vec<Option<Mark>>,
}

impl SmallGrid {
    /// Lays it out.
    pub fn picture(&self) -> Picture {
        let name = |(index, zone): (usize, &String)| format!("{} {zone}", index + 1);
        let names: Vec<String> = self.zones.iter().enumerate().map(name).collect();
        let head = names.iter().map(|name| Style::BOLD.width(name)).fold(0.0, f32::max) + 12.0;
        let marks = self.cells.iter().flatten().map(|mark| Style::BOLD.width(&mark.text));
        let column = marks.fold(NARROWEST - 2.0 * PADDING, f32::max) + 2.0 * PADDING;
        let row = Style::PLAIN.line() + 8.0;
        let width = (2.0 * MARGIN + head + column * self.zones.len() as f32).max(320.0);
        let mut title = Group::new("");
        let mut top = MARGIN;
        for (style, text) in [(Style::BOLD, &self.title), (Style::FAINT, &self.about)] {
            for line in font::wrapped(text, width - 2.0 * MARGIN, style.size, style.weight) {
                title.text(MARGIN, top, style, line);
                top += style.line() + 2.0;
            }
        }
        top += 6.0;
        let mut groups = vec![title];
        let mut heads = Group::new("");
        for index in 0..self.zones.len() {
            let left = MARGIN + head + column * index as f32;
            let frame = Frame::new(left, top, column, row);
            heads.centred(frame, Style::FAINT, (index + 1).to_string());
        }
        top += row;
        for name in &names {
            heads.text(MARGIN, top + 4.0, Style::PLAIN, name);
            top += row;
        }
        groups.push(heads);
        let start = top - row * names.len() as f32;
        for (index, cell) in self.cells.iter().enumerate() {
            let (down, across) = (index / self.zones.len(), index % self.zones.len());
            let (left, top) = (MARGIN + head + column * across as f32, start + row * down as f32);
            let frame = Frame::new(left, top, column, row);
            groups.push(self.cell(cell.as_ref(), (down, across), frame));
        }
        Picture {
            title: self.title.clone(),
            description: self.description(),
            width,
            height: top + MARGIN,
            groups,
        }
    }

    fn cell(&self, mark: Option<&Mark>, (from, to): (usize, usize), frame: Frame) -> Group {
        let Some(mark) = mark else {
            let mut group = Group::new("");
            group.shape(frame, 0.0, Fill::Page, Stroke::Faint);
            return group;
        };
        let mut group =
            Group::new(format!("{} to {}: {}", self.zones[from], self.zones[to], mark.words));
        group.anchor.clone_from(&mark.anchor);
        let (fill, ink) = match mark.strong {
            true => (Fill::Allowed, Ink::OnAllowed),
            false => (Fill::Page, Ink::Plain),
        };
        group.shape(frame, 0.0, fill, Stroke::Faint);
        group.centred(frame, Style { ink, ..Style::BOLD }, &mark.text);
        group
    }

    fn description(&self) -> String {
        let all = self.cells.iter().enumerate().filter_map(|(index, cell)| {
            let mark = cell.as_ref()?;
            let zone = |index: usize| self.zones.get(index).map_or("", String::as_str);
            let (from, to) = (index / self.zones.len(), index % self.zones.len());
            Some(format!("{} to {}: {}", zone(from), zone(to), mark.words))
        });
        let all: Vec<String> = all.collect();
        if all.is_empty() {
            format!("{} Nothing.", self.about)
        } else {
            format!("{}.", all.join("; "))
        }
    }
}
