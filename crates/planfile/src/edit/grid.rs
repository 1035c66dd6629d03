//! Edits the matrix: reads the drawn grid, and draws it again, aligned, with its comments.

use super::{EditProblem, table_of};
use bastium_core::name::nearest;
use std::fmt;
use toml_edit::{DocumentMut, Item, TableLike, Value};

/// How far a zone is trusted; the internet ranks below all.
type Trust = u8;

/// A line of the drawing.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Line {
    /// A comment, or an empty line.
    Other(String),
    /// A row, with what stands behind its cells.
    Row { zone: String, cells: Vec<String>, comment: String },
}

/// The word for every zone.
const ANY: &str = "any";

/// The matrix as it is drawn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grid {
    before: Vec<String>,
    columns: Vec<String>,
    comment: String,
    lines: Vec<Line>,
}

/// What the plan says about its zones.
pub(super) struct Zones {
    /// Name, trust, and whether anything can pass between two places of the zone.
    known: Vec<(String, Trust, bool)>,
}

/// Reads the zones of a plan, as far as they can be read.
fn zones(document: &DocumentMut) -> Zones {
    let entries = |kind: &str| document.get(kind).and_then(Item::as_table_like);
    let in_zone = |kind: &str, zone: &str| {
        let Some(all) = entries(kind) else { return 0 };
        let zones = all.iter().filter_map(|(_, entry)| entry.get("zone")?.as_str());
        zones.filter(|own| *own == zone).count()
    };
    let zones = entries("zone").into_iter().flat_map(|all| all.iter());
    let known = zones.map(|(name, entry)| {
        let trust = match entry.get("trust").and_then(Item::as_str) {
            Some("high") => 4,
            Some("medium") => 3,
            Some("low") => 2,
            _ => 1,
        };
        let tunnels = in_zone("tunnel", name);
        let places = in_zone("network", name) + 2 * tunnels + in_zone("route", name);
        (name.to_owned(), trust, places > 1)
    });
    Zones { known: known.collect() }
}

impl Zones {
    fn trust(&self, zone: &str) -> Trust {
        self.known.iter().find(|entry| entry.0 == zone).map_or(0, |entry| entry.1)
    }

    /// What a first matrix says: higher may open towards lower, the rest is blocked, between equals and
    /// within a zone as well.
    fn cell(&self, from: &str, to: &str) -> &'static str {
        if from == to {
            let within = self.known.iter().any(|entry| entry.0 == from && entry.2);
            return if within { "block" } else { "-" };
        }
        if self.trust(from) > self.trust(to) { "allow" } else { "block" }
    }
}

/// The matrix of a plan, drafted from trust.
pub fn draft_grid(document: &DocumentMut) -> Grid {
    let zones = zones(document);
    let names = zones.known.iter().map(|entry| entry.0.clone());
    let columns: Vec<String> = names.chain(["internet".to_owned()]).collect();
    let row = |from: &String| Line::Row {
        zone: from.clone(),
        cells: columns.iter().map(|to| zones.cell(from, to).to_owned()).collect(),
        comment: String::new(),
    };
    let lines = columns.iter().map(row).collect();
    Grid { before: Vec::new(), columns, comment: String::new(), lines }
}

/// The widest column that is drawn, in characters: no name is longer (`Name::LONGEST`), and what is none makes no other
/// line longer.
const WIDEST: usize = 63;

/// Changes the grid of a plan, and draws it again.
pub(super) fn change(
    document: &mut DocumentMut,
    with: impl FnOnce(&mut Grid, &Zones),
) -> Result<(), EditProblem> {
    let zones = zones(document);
    let text = document.get("matrix").and_then(|matrix| matrix.get("grid")).and_then(Item::as_str);
    let mut grid = Grid::read(text.ok_or(EditProblem::NoGrid)?).ok_or(EditProblem::NoGrid)?;
    with(&mut grid, &zones);
    write(table_of(document, "matrix")?, &grid.to_string());
    Ok(())
}

/// Writes a drawing as a text of several lines.
pub(super) fn write(matrix: &mut dyn TableLike, drawing: &str) {
    let quoted = format!("'''\n{drawing}'''");
    // A comment in the grid may hold three quotes; then the other kind of text has to do.
    let value = quoted.parse::<Value>().unwrap_or_else(|_| Value::from(drawing));
    super::values::put(matrix, "grid", Some(value));
}

impl Grid {
    /// Reads a drawing; `None` where it has no first line of zones, or a row without them.
    fn read(text: &str) -> Option<Self> {
        let mut before = Vec::new();
        let mut head: Option<(Vec<String>, String)> = None;
        let mut lines = Vec::new();
        for line in text.lines() {
            let (code, comment) = line.find('#').map_or((line, ""), |at| line.split_at(at));
            let words: Vec<String> = code.split_whitespace().map(str::to_owned).collect();
            match (&head, words.as_slice()) {
                (None, []) => before.push(line.to_owned()),
                (None, _) => head = Some((words, comment.to_owned())),
                (Some(_), []) => lines.push(Line::Other(line.to_owned())),
                (Some((columns, _)), [zone, cells @ ..]) => {
                    if cells.len() != columns.len() {
                        return None;
                    }
                    let (zone, cells) = (zone.clone(), cells.to_vec());
                    lines.push(Line::Row { zone, cells, comment: comment.to_owned() });
                }
            }
        }
        let (columns, comment) = head?;
        Some(Self { before, columns, comment, lines })
    }

    fn unknown(&self, zone: &str) -> EditProblem {
        let nearest = nearest(zone, self.columns.iter().map(String::as_str)).map(str::to_owned);
        EditProblem::NotThere { name: zone.to_owned(), nearest }
    }

    /// Sets a cell; where `any` stands for a zone, those of all others, as far as anything can pass there.
    pub(super) fn set(&mut self, from: &str, to: &str, action: &str) -> Result<(), EditProblem> {
        if from != ANY && to != ANY {
            return self.set_one(from, to, action);
        }
        for own in [from, to].into_iter().filter(|zone| *zone != ANY) {
            if !self.columns.iter().any(|zone| zone == own) {
                return Err(self.unknown(own));
            }
        }
        let zones = self.columns.clone();
        for here in zones.iter().filter(|zone| from == ANY || *zone == from) {
            for there in zones.iter().filter(|zone| (to == ANY || *zone == to) && *zone != here) {
                if self.cell(here, there).is_some_and(|cell| cell != "-") {
                    self.set_one(here, there, action)?;
                }
            }
        }
        Ok(())
    }

    fn cell(&self, from: &str, to: &str) -> Option<&str> {
        let column = self.columns.iter().position(|zone| zone == to)?;
        self.lines.iter().find_map(|line| match line {
            Line::Row { zone, cells, .. } if zone == from => cells.get(column).map(String::as_str),
            _ => None,
        })
    }

    fn set_one(&mut self, from: &str, to: &str, action: &str) -> Result<(), EditProblem> {
        let column = self.columns.iter().position(|zone| zone == to);
        let column = column.ok_or_else(|| self.unknown(to))?;
        let unknown = self.unknown(from);
        let row = self.lines.iter_mut().find_map(|line| match line {
            Line::Row { zone, cells, .. } if zone == from => Some(cells),
            _ => None,
        });
        row.ok_or(unknown)?[column] = action.to_owned();
        Ok(())
    }

    /// Adds a row and a column, before those of the internet: blocked, inside as well, unless they are to be
    /// opened as trust says.
    pub(super) fn add_zone(&mut self, name: &str, zones: &Zones, by_trust: bool) {
        let cell = |from: &str, to: &str| match zones.cell(from, to) {
            "-" => "-".to_owned(),
            says if by_trust => says.to_owned(),
            _ => "block".to_owned(),
        };
        let last = |words: &[String]| {
            words.iter().position(|word| word == "internet").unwrap_or(words.len())
        };
        let column = last(&self.columns);
        self.columns.insert(column, name.to_owned());
        for line in &mut self.lines {
            if let Line::Row { zone, cells, .. } = line {
                cells.insert(column, cell(zone, name));
            }
        }
        let cells = self.columns.iter().map(|to| cell(name, to)).collect();
        let row = Line::Row { zone: name.to_owned(), cells, comment: String::new() };
        let is_internet =
            |line: &Line| matches!(line, Line::Row { zone, .. } if zone == "internet");
        let place = self.lines.iter().position(is_internet).unwrap_or(self.lines.len());
        self.lines.insert(place, row);
    }

    /// Takes a row and a column out.
    pub(super) fn remove_zone(&mut self, name: &str) {
        self.lines.retain(|line| !matches!(line, Line::Row { zone, .. } if zone == name));
        let Some(column) = self.columns.iter().position(|zone| zone == name) else { return };
        self.columns.remove(column);
        for line in &mut self.lines {
            if let Line::Row { cells, .. } = line {
                cells.remove(column);
            }
        }
    }

    /// Gives a zone another name.
    pub(super) fn rename_zone(&mut self, old: &str, new: &str) {
        let rows = self.lines.iter_mut().filter_map(|line| match line {
            Line::Row { zone, .. } => Some(zone),
            Line::Other(_) => None,
        });
        for zone in self.columns.iter_mut().chain(rows).filter(|zone| *zone == old) {
            new.clone_into(zone);
        }
    }
}

impl fmt::Display for Grid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let rows = || {
            self.lines.iter().filter_map(|line| match line {
                Line::Row { zone, cells, .. } => Some((zone, cells)),
                Line::Other(_) => None,
            })
        };
        let heads = rows().map(|(zone, _)| zone.chars().count()).max().unwrap_or(0).min(WIDEST);
        let width = |index: usize| {
            let cells = rows().map(|(_, cells)| cells[index].chars().count());
            cells.chain([self.columns[index].chars().count()]).max().unwrap_or(0).min(WIDEST)
        };
        let widths: Vec<usize> = (0..self.columns.len()).map(width).collect();
        let draw = |f: &mut fmt::Formatter<'_>, head: &str, words: &[String], comment: &str| {
            let mut line = format!("{head:heads$}");
            for (word, width) in words.iter().zip(&widths) {
                line.push_str(&format!("  {word:width$}"));
            }
            let line = line.trim_end();
            if comment.is_empty() {
                writeln!(f, "{line}")
            } else {
                writeln!(f, "{line}  {comment}")
            }
        };
        for line in &self.before {
            writeln!(f, "{line}")?;
        }
        draw(f, "", &self.columns, &self.comment)?;
        for line in &self.lines {
            match line {
                Line::Other(text) => writeln!(f, "{text}")?,
                Line::Row { zone, cells, comment } => draw(f, zone, cells, comment)?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DRAWING: &str = "# who may\n     staff guests internet\nstaff - block allow # people\n\
                           guests block - allow\ninternet block block -\n";

    #[test]
    fn a_drawing_is_aligned_and_keeps_its_comments() {
        let grid = Grid::read(DRAWING).expect("a grid");
        let drawn = grid.to_string();
        assert_eq!(
            drawn,
            "# who may\n          staff  guests  internet\nstaff     -      block   allow  # people\n\
             guests    block  -       allow\ninternet  block  block   -\n"
        );
        assert_eq!(Grid::read(&drawn), Some(grid));
    }

    #[test]
    fn cells_and_zones_come_and_go() {
        let mut grid = Grid::read(DRAWING).expect("a grid");
        assert_eq!(grid.set("guests", "staff", "reject+log"), Ok(()));
        let known = vec![("tills".to_owned(), 3, false), ("guests".to_owned(), 1, false)];
        grid.add_zone("tills", &Zones { known }, true);
        grid.rename_zone("guests", "visitors");
        let drawn = grid.to_string();
        assert!(drawn.contains("tills     allow       allow     -      allow"), "{drawn}");
        assert!(drawn.contains("visitors  reject+log  -         block  allow"), "{drawn}");
        let known = vec![("lab".to_owned(), 4, true)];
        let mut shut = grid.clone();
        shut.add_zone("lab", &Zones { known }, false);
        let drawn = shut.to_string();
        assert!(drawn.contains("lab       block       block     block  block  block"), "{drawn}");
        grid.remove_zone("staff");
        assert!(!grid.to_string().contains("staff"));
        let nearest = Some("visitors".to_owned());
        let unknown = EditProblem::NotThere { name: "visitor".to_owned(), nearest };
        assert_eq!(grid.set("visitor", "tills", "allow"), Err(unknown));
    }
}
