//! Tables on a terminal.

use crate::session::Look;
use bastium_gateway::clean;

use bastium_report::{Table, Tone};
use comfy_table::{
    Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, LineStyle,
    Table as Grid, TableStyle, Width,
};

/// A line below the headings, and nothing else that is drawn.
const PLAIN: TableStyle =
    TableStyle::new().header_separator(LineStyle::none().fill('─').junction('─'));

/// The longest word that keeps a column from getting narrower.
const LONGEST_WORD: usize = 40;

/// Draws a table within a width. Words are wrapped, never cut off.
pub(crate) fn draw(table: &Table, look: Look, gap: u16) -> String {
    let mut grid = grid(table, look, gap);
    grid.set_header(
        table
            .columns
            .iter()
            .map(|column| Cell::new(clean(&column.heading)).add_attribute(Attribute::Bold)),
    );
    lines(&grid)
}

/// Draws the rows of a table without its headings.
pub(crate) fn draw_rows(table: &Table, look: Look) -> String {
    lines(&grid(table, look, 2))
}

fn lines(grid: &Grid) -> String {
    grid.lines().map(|line| format!("{}\n", line.trim_end())).collect()
}

fn grid(table: &Table, look: Look, gap: u16) -> Grid {
    let mut grid = Grid::new();
    grid.load_style(PLAIN)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(look.width);
    if look.colour {
        grid.enforce_styling();
    } else {
        grid.force_no_tty();
    }
    for row in &table.rows {
        grid.add_row(row.iter().map(cell));
    }
    for (index, column) in table.columns.iter().enumerate() {
        let Some(drawn) = grid.column_mut(index) else { continue };
        // The gap between two columns is one blank and the padding; behind the last one is none.
        let padding = if index + 1 < table.columns.len() { gap.saturating_sub(1) } else { 0 };
        drawn.set_padding((0, padding));
        if column.numbers {
            drawn.set_cell_alignment(CellAlignment::Right);
        }
        if column.whole {
            drawn.set_constraint(ColumnConstraint::ContentWidth);
        } else {
            let cells = table.rows.iter().filter_map(|row| row.get(index));
            let words =
                cells.flat_map(|cell| cell.text.split_whitespace()).map(|w| w.chars().count());
            let longest = columns(words.max().unwrap_or(0).min(LONGEST_WORD));
            drawn.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(longest + padding)));
        }
    }
    grid
}

/// How wide a table is if nothing is wrapped.
pub(crate) fn natural_width(table: &Table, gap: u16) -> u16 {
    let widths = table.columns.iter().enumerate().map(|(index, column)| {
        let cells =
            table.rows.iter().filter_map(|row| row.get(index)).map(|cell| cell.text.as_str());
        let longest = cells.chain([column.heading.as_str()]).map(|text| text.chars().count()).max();
        columns(longest.unwrap_or(0)).saturating_add(gap)
    });
    widths.fold(0_u16, u16::saturating_add).saturating_sub(gap)
}

/// A number of columns on a terminal; as many as there can be where it is more.
pub(crate) fn columns(count: usize) -> u16 {
    u16::try_from(count).unwrap_or(u16::MAX)
}

fn cell(cell: &bastium_report::Cell) -> Cell {
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

#[cfg(test)]
mod tests {
    use super::*;
    use bastium_report::Column;

    /// A matrix of 1,100 zones with long names is wider than sixteen bits can say.
    #[test]
    fn a_table_of_any_width_is_measured() {
        let columns = |count: usize, name: usize| {
            Table::new((0..count).map(|_| Column::text("z".repeat(name))))
        };
        assert_eq!(natural_width(&columns(3, 5), 2), 3 * 5 + 2 * 2);
        assert_eq!(natural_width(&columns(0, 5), 2), 0);
        assert_eq!(natural_width(&columns(1_100, 63), 2), u16::MAX - 2);
        assert_eq!(natural_width(&columns(2, 70_000), 2), u16::MAX - 2);
    }
}
