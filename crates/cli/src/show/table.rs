//! Tables on a terminal.

use super::style::{STRONG, in_style};
use bastium_export::{Table, Tone, clean};
use comfy_table::{
    Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, LineStyle,
    Table as Grid, TableStyle, Width,
};

/// A line below the headings, and nothing else that is drawn.
const PLAIN: TableStyle =
    TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));

/// The longest word that keeps a column from getting narrower.
const LONGEST_WORD: usize = 26;

/// Draws a table within a width. Words are wrapped, never cut off.
pub fn draw(table: &Table, width: u16, gap: u16) -> String {
    let mut grid = Grid::new();
    grid.load_style(PLAIN)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(width + gap)
        .enforce_styling();
    grid.set_header(table.columns.iter().map(|column| {
        Cell::new(clean(&column.heading)).add_attribute(Attribute::Bold)
    }));
    for row in &table.rows {
        grid.add_row(row.iter().map(cell));
    }
    for (index, column) in table.columns.iter().enumerate() {
        let Some(drawn) = grid.column_mut(index) else { continue };
        drawn.set_padding((0, gap));
        if column.numbers {
            drawn.set_cell_alignment(CellAlignment::Right);
        }
        if column.whole {
            drawn.set_constraint(ColumnConstraint::ContentWidth);
        } else {
            let cells = table.rows.iter().filter_map(|row| row.get(index));
            let words = cells.flat_map(|cell| cell.text.split_whitespace()).map(|w| w.chars().count());
            let longest = words.max().unwrap_or(0).min(LONGEST_WORD) as u16;
            drawn.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(longest + gap)));
        }
    }
    let lines = grid.lines().map(|line| format!("{}\n", line.trim_end()));
    lines.collect()
}

/// A table with its title above.
pub fn draw_titled(table: &Table, width: u16) -> String {
    let drawn = draw(table, width, 2);
    match &table.title {
        Some(title) => format!("{}\n{drawn}", in_style(STRONG, &clean(title))),
        None => drawn,
    }
}

/// How wide a table is if nothing is wrapped.
pub fn natural_width(table: &Table, gap: u16) -> u16 {
    let widths = table.columns.iter().enumerate().map(|(index, column)| {
        let cells = table.rows.iter().filter_map(|row| row.get(index)).map(|cell| cell.text.as_str());
        let longest = cells.chain([column.heading.as_str()]).map(|text| text.chars().count()).max();
        longest.unwrap_or(0) as u16 + gap
    });
    widths.sum::<u16>().saturating_sub(gap)
}

fn cell(cell: &bastium_export::Cell) -> Cell {
    let lines: Vec<String> = cell.text.split('\n').map(|line| clean(line).into_owned()).collect();
    let drawn = Cell::new(lines.join("\n"));
    match cell.tone {
        Tone::Plain => drawn,
        Tone::Good => drawn.fg(Color::DarkGreen),
        Tone::Bad => drawn.fg(Color::DarkRed),
        Tone::Warn => drawn.fg(Color::DarkYellow),
        Tone::Faint => drawn.add_attribute(Attribute::Dim),
        Tone::Strong => drawn.add_attribute(Attribute::Bold),
    }
}
