//! The layout of tables on a worksheet and on paper.

use super::held;
use crate::{Cell, Column, Table, Tone};
use bastium_gateway::clean;
use rust_xlsxwriter::{
    Color, DataValidation, Format, FormatAlign, FormatBorder, Table as SheetTable, TableColumn,
    TableStyle, Worksheet, XlsxError,
};

/// The most rows that a worksheet takes, heading included.
const MOST_ROWS: usize = 1_048_576;
/// The most columns of a page.
const MOST_COLUMNS: usize = 8;
/// The widest column, in characters.
const WIDEST: f64 = 60.0;
/// How many characters stand side by side on a page of A4 across whose letters are no smaller than 9 points.
const PAGE: f64 = 170.0;
/// The height of a line of text, in points.
const LINE_HEIGHT: f64 = 15.0;
/// The most lines of text that a row shows; a row cannot be higher than 409 points.
const MOST_LINES: f64 = 27.0;
/// How much of the site's name stands on top of a page, in characters.
const MOST_OF_NAME: usize = 80;
/// What a box to tick can hold.
const TICKS: [&str; 2] = ["[ ]", "[x]"];

/// Where the columns of the tables of a worksheet stand.
#[derive(Clone, Debug)]
pub(super) struct Layout {
    folds: bool,
    widths: Vec<f64>,
}

/// The columns of a line, each with where it stands.
type Line = Vec<(u16, usize)>;

impl Layout {
    /// The layout of all tables of a worksheet. Where it `folds`, columns that do not fit a page stand in further lines,
    /// below the second column.
    pub(super) fn of(tables: &[Table], folds: bool) -> Self {
        let mut layout = Self { folds, widths: Vec::new() };
        for table in tables {
            for (place, column) in layout.lines(table).into_iter().flatten() {
                let cells = table.rows.iter().filter_map(|row| row.get(column));
                let longest = cells.map(|cell| cell.text.chars().count()).max().unwrap_or(0);
                let heading = table.columns[column].heading.chars().count() + 3;
                let width = (longest.max(heading) as f64 + 2.0).min(WIDEST);
                let place = usize::from(place);
                layout.widths.resize(layout.widths.len().max(place + 1), 0.0);
                layout.widths[place] = layout.widths[place].max(width);
            }
        }
        if folds {
            layout.fit();
        }
        layout
    }

    /// Makes the widest columns narrower until all fit the page.
    fn fit(&mut self) {
        let mut widest = WIDEST;
        while self.widths.iter().sum::<f64>() > PAGE && widest > 10.0 {
            widest -= 1.0;
            self.widths.iter_mut().for_each(|width| *width = width.min(widest));
        }
    }

    /// The lines of a row of a table.
    pub(super) fn lines(&self, table: &Table) -> Vec<Line> {
        let count = table.columns.len();
        let first = if self.folds { count.min(MOST_COLUMNS) } else { count };
        let mut lines = vec![(0..).zip(0..first).collect()];
        let rest: Vec<usize> = (first..count).collect();
        let further = rest.chunks(MOST_COLUMNS - 1);
        lines.extend(further.map(|chunk| (1..).zip(chunk.iter().copied()).collect::<Line>()));
        lines
    }

    /// Writes a table from a row on, and gives the row at which the next one may begin.
    pub(super) fn place(
        &self,
        sheet: &mut Worksheet,
        table: &Table,
        top: usize,
    ) -> Result<usize, XlsxError> {
        let lines = self.lines(table);
        let bottom = top + (table.rows.len() + 1) * lines.len() - 1;
        let limit = |_| XlsxError::RowColumnLimitError;
        if bottom >= MOST_ROWS || table.columns.len() > usize::from(u16::MAX) {
            return Err(XlsxError::RowColumnLimitError);
        }
        let (first, last) =
            (u32::try_from(top).map_err(limit)?, u32::try_from(bottom).map_err(limit)?);
        for (place, width) in (0..).zip(&self.widths) {
            sheet.set_column_width(place, *width)?;
        }
        for (line, at) in lines.iter().zip(first..) {
            for (place, column) in line {
                let text = heading(&table.columns[*column]);
                sheet.write_string_with_format(at, *place, text, &look(Tone::Strong))?;
            }
        }
        let mut at = u32::try_from(top + lines.len()).map_err(limit)?;
        for row in &table.rows {
            for (number, line) in lines.iter().enumerate() {
                let begins = number == 0 && lines.len() > 1;
                self.write_line(sheet, at, (table, row), (line, begins))?;
                at += 1;
            }
        }
        self.add_ticks(sheet, table, (first, last))?;
        if lines.len() == 1 {
            add_filter(sheet, table, (first, last))?;
        }
        Ok(bottom + 2)
    }

    fn write_line(
        &self,
        sheet: &mut Worksheet,
        at: u32,
        (table, row): (&Table, &[Cell]),
        (line, begins): (&Line, bool),
    ) -> Result<(), XlsxError> {
        let mut lines: f64 = 1.0;
        for (place, column) in line {
            let Some(cell) = row.get(*column) else { continue };
            let format = look(cell.tone);
            // Where an entry is several rows, a line shows where it begins.
            let format = if begins { format.set_border_top(FormatBorder::Hair) } else { format };
            let numbers = table.columns[*column].numbers;
            match cell.text.parse::<f64>().ok().filter(|n| numbers && n.is_finite()) {
                Some(value) => {
                    // Away from the text of the next column.
                    let format = format.set_align(FormatAlign::Right).set_indent(1);
                    sheet.write_number_with_format(at, *place, value, &format)?
                }
                None => sheet.write_string_with_format(at, *place, held(&cell.text), &format)?,
            };
            let room = (self.widths[usize::from(*place)] - 2.0).max(1.0);
            lines = lines.max((cell.text.chars().count() as f64 / room).ceil());
        }
        // Not every program makes room for text that is broken into lines.
        if lines > 1.0 {
            sheet.set_row_height(at, lines.min(MOST_LINES) * LINE_HEIGHT)?;
        }
        Ok(())
    }

    /// Boxes to tick are chosen from a list.
    fn add_ticks(
        &self,
        sheet: &mut Worksheet,
        table: &Table,
        (top, bottom): (u32, u32),
    ) -> Result<(), XlsxError> {
        let done = table.columns.iter().position(|column| column.heading == "done");
        let lines = self.lines(table);
        let mut first = lines[0].iter().filter(|(_, column)| Some(*column) == done);
        let Some((place, _)) = first.next() else { return Ok(()) };
        let ticks = DataValidation::new().allow_list_strings(&TICKS)?;
        for at in (top..=bottom).skip(lines.len()).step_by(lines.len()) {
            sheet.add_data_validation(at, *place, at, *place, &ticks)?;
        }
        Ok(())
    }

    /// How a worksheet is printed: as wide as a page, with so many rows of headings on each.
    pub(super) fn on_paper(
        &self,
        sheet: &mut Worksheet,
        site: &str,
        (part, headings): (&str, Option<u32>),
    ) -> Result<(), XlsxError> {
        /// ISO A4, by its number in the format (ECMA-376 18.3.1.63).
        const A4: u8 = 9;
        sheet.set_landscape().set_paper_size(A4).set_print_fit_to_pages(1, 0);
        sheet.set_margins(0.4, 0.4, 0.6, 0.6, 0.3, 0.3);
        if let Some(headings) = headings {
            sheet.set_repeat_rows(0, headings.saturating_sub(1))?;
        }
        // What begins with an ampersand is an instruction there.
        let site: String = clean(site).chars().take(MOST_OF_NAME).collect();
        sheet.set_header(format!("&L{}&R{part}", site.replace('&', "&&")));
        sheet.set_footer("&R&P / &N");
        Ok(())
    }
}

fn heading(column: &Column) -> String {
    clean(&column.heading).into_owned()
}

/// Lets a table be filtered by its headings.
fn add_filter(
    sheet: &mut Worksheet,
    table: &Table,
    (top, bottom): (u32, u32),
) -> Result<(), XlsxError> {
    if table.rows.is_empty() || table.columns.is_empty() {
        return Ok(());
    }
    let strong = look(Tone::Strong);
    let columns = table.columns.iter();
    let columns: Vec<TableColumn> = columns
        .map(|column| TableColumn::new().set_header(heading(column)).set_header_format(&strong))
        .collect();
    let last = u16::try_from(columns.len() - 1).map_err(|_| XlsxError::RowColumnLimitError)?;
    let table_of = SheetTable::new().set_columns(&columns).set_style(TableStyle::Light1);
    sheet.add_table(top, 0, bottom, last, &table_of)?;
    Ok(())
}

/// How a cell looks; the word in it says the same.
fn look(tone: Tone) -> Format {
    let format = Format::new().set_align(FormatAlign::Top).set_text_wrap();
    match tone {
        Tone::Plain => format,
        Tone::Good => format.set_background_color(Color::RGB(0x00D9_EAD3)),
        Tone::Bad => format.set_background_color(Color::RGB(0x00F4_CCCC)),
        Tone::Warn => format.set_background_color(Color::RGB(0x00FF_F2CC)),
        Tone::Faint => format.set_font_color(Color::RGB(0x0066_6666)),
        Tone::Strong => format.set_bold(),
    }
}
