//! All sheets of a plan together: as one workbook (Office Open XML), one Markdown document, one JSON
//! object, or a file of CSV each.

use crate::sheets::{
    AddressSheet, ChecklistSheet, MatrixSheet, PortSheet, RuleSheet, Worksheet as TypeSheet,
};
use crate::{Cell, Column, Table, Tone, csv, markdown};
use bastium_gateway::clean;
use rust_xlsxwriter::{
    Color, Format, FormatAlign, Table as SheetTable, TableColumn, TableStyle, Workbook, Worksheet,
    XlsxError,
};
use serde_json::{Map, Value};

/// The most rows that a worksheet takes, heading included.
const MOST_ROWS: usize = 1_048_576;
/// The widest column, in characters.
const WIDEST: f64 = 60.0;

/// The height of a line of text, in points.
const LINE_HEIGHT: f64 = 15.0;
/// The most lines of text that a row shows; a row cannot be higher than 409 points.
const MOST_LINES: f64 = 27.0;
/// The most units of UTF-16 that a cell holds (ECMA-376, 18.3.1.96), some of them left for what is said of the rest.
const MOST_OF_CELL: usize = 32_767 - 64;
/// How much of the site's name stands on top of a page, in characters.
const MOST_OF_NAME: usize = 80;

/// One of the sheets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// Networks, subnets, pools and fixed addresses.
    Addresses,
    /// What is set on each port and Wi-Fi name.
    Ports,
    /// Who may talk to whom.
    Matrix,
    /// The ordered rules.
    Rules,
    /// Everything to type, step by step.
    Worksheet,
    /// The tests to make.
    Checklist,
}

impl Part {
    /// All of them, in the order of the work.
    pub const ALL: [Self; 6] =
        [Self::Addresses, Self::Ports, Self::Matrix, Self::Rules, Self::Worksheet, Self::Checklist];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Addresses => "addresses",
            Self::Ports => "ports",
            Self::Matrix => "matrix",
            Self::Rules => "rules",
            Self::Worksheet => "worksheet",
            Self::Checklist => "checklist",
        }
    }

    /// What the titles of several tables of one kind are.
    fn title(self) -> &'static str {
        match self {
            Self::Rules => "list",
            Self::Worksheet => "step",
            Self::Checklist => "place",
            _ => "part",
        }
    }
}

/// All sheets of a plan.
#[derive(Clone, Debug)]
pub struct Book {
    /// The site's name.
    pub site: String,
    /// Networks, subnets, pools and fixed addresses.
    pub addresses: AddressSheet,
    /// What is set on each port and Wi-Fi name.
    pub ports: PortSheet,
    /// Who may talk to whom.
    pub matrix: MatrixSheet,
    /// The ordered rules.
    pub rules: RuleSheet,
    /// Everything to type, step by step.
    pub worksheet: TypeSheet,
    /// The tests to make.
    pub checklist: ChecklistSheet,
}

impl Book {
    /// The tables of a sheet.
    pub fn tables(&self, part: Part) -> Vec<Table> {
        match part {
            Part::Addresses => self.addresses.tables(false),
            Part::Ports => self.ports.tables(false),
            Part::Matrix => self.matrix.tables(),
            Part::Rules => self.rules.tables(),
            Part::Worksheet => self.worksheet.tables(),
            Part::Checklist => self.checklist.tables(),
        }
    }

    /// A sheet as CSV.
    pub fn csv(&self, part: Part) -> String {
        csv(&self.tables(part), part.title())
    }

    /// Sheets as one Markdown document.
    pub fn markdown(&self, parts: &[Part]) -> String {
        let heading = markdown(&[Table::new([]).titled(self.site.clone())]);
        let heading = heading.lines().next().unwrap_or_default().trim_start_matches('#');
        let mut text = format!("#{heading}\n");
        for part in parts {
            text.push_str(&format!("\n## {}\n\n", part.word()));
            // Titles within a sheet stand one level below its own.
            for line in markdown(&self.tables(*part)).lines() {
                let deeper = if line.starts_with("## ") { "#" } else { "" };
                text.push_str(&format!("{deeper}{line}\n"));
            }
        }
        text
    }

    /// Sheets as one JSON object, each as its own command prints it.
    ///
    /// # Errors
    /// Never, as all of it is plain data.
    pub fn json(&self, parts: &[Part]) -> serde_json::Result<Value> {
        let mut all = Map::new();
        all.insert("bastium".to_owned(), crate::sheets::EDITION.into());
        for part in parts {
            let sheet = match part {
                Part::Addresses => serde_json::to_value(&self.addresses),
                Part::Ports => serde_json::to_value(&self.ports),
                Part::Matrix => serde_json::to_value(&self.matrix),
                Part::Rules => serde_json::to_value(&self.rules),
                Part::Worksheet => serde_json::to_value(&self.worksheet),
                Part::Checklist => serde_json::to_value(&self.checklist),
            };
            all.insert(part.word().to_owned(), sheet?);
        }
        Ok(Value::Object(all))
    }

    /// Sheets as one workbook: a worksheet each, with tables that can be filtered and headings that stay.
    /// Every cell of text is written as text, so that none can be a formula.
    ///
    /// # Errors
    /// When a sheet has more rows than a worksheet takes.
    pub fn xlsx(&self, parts: &[Part]) -> Result<Vec<u8>, XlsxError> {
        let mut book = Workbook::new();
        for part in parts {
            let sheet = book.add_worksheet();
            sheet.set_name(part.word())?;
            let mut row = 0;
            for table in joined(self.tables(*part), part.title()) {
                row = place(sheet, &table, row)?;
            }
            // Headings stay in sight, and in the matrix the names of rows as well.
            sheet.set_freeze_panes(1, u16::from(*part == Part::Matrix))?;
            on_paper(sheet, &self.site, *part)?;
        }
        book.save_to_buffer()
    }
}

/// Tables of the same columns in one, their titles in a column in front.
fn joined(tables: Vec<Table>, title: &str) -> Vec<Table> {
    let mut all: Vec<Table> = Vec::new();
    for table in tables {
        let mut columns = table.columns.clone();
        let mut rows = table.rows;
        if let Some(name) = &table.title {
            columns.insert(0, Column::whole(title));
            for row in &mut rows {
                row.insert(0, Cell::from(name));
            }
        }
        match all.last_mut().filter(|last| last.columns == columns) {
            Some(last) => last.rows.extend(rows),
            None => all.push(Table { title: None, columns, rows }),
        }
    }
    all
}

/// Writes a table from a row on, and gives the row at which the next one may begin.
fn place(sheet: &mut Worksheet, table: &Table, top: usize) -> Result<usize, XlsxError> {
    let bottom = top + table.rows.len();
    if bottom >= MOST_ROWS || table.columns.len() > usize::from(u16::MAX) {
        return Err(XlsxError::RowColumnLimitError);
    }
    let heading = |column: &Column| clean(&column.heading).into_owned();
    for (column, number) in table.columns.iter().zip(0u16..) {
        let text = heading(column);
        let cells = table.rows.iter().filter_map(|row| row.get(usize::from(number)));
        let longest = cells.map(|cell| cell.text.chars().count()).max().unwrap_or(0);
        let width = (longest.max(text.chars().count() + 3) as f64 + 2.0).min(WIDEST);
        if top == 0 {
            sheet.set_column_width(number, width)?;
        }
        sheet.write_string_with_format(top as u32, number, text, &look(Tone::Strong))?;
    }
    for (row, at) in table.rows.iter().zip(top as u32 + 1..) {
        for ((cell, column), number) in row.iter().zip(&table.columns).zip(0u16..) {
            let format = look(cell.tone);
            match cell.text.parse::<f64>().ok().filter(|n| column.numbers && n.is_finite()) {
                Some(value) => {
                    // Away from the text of the next column.
                    let format = format.set_align(FormatAlign::Right).set_indent(1);
                    sheet.write_number_with_format(at, number, value, &format)?
                }
                None => sheet.write_string_with_format(at, number, held(&cell.text), &format)?,
            };
        }
        let longest = row.iter().map(|cell| cell.text.chars().count()).max().unwrap_or(0);
        // Not every program makes room for text that is broken into lines.
        let lines = (longest as f64 / (WIDEST - 2.0)).ceil().min(MOST_LINES);
        if lines > 1.0 {
            sheet.set_row_height(at, lines * LINE_HEIGHT)?;
        }
    }
    if !table.rows.is_empty() && !table.columns.is_empty() {
        let columns: Vec<TableColumn> = table
            .columns
            .iter()
            .map(|c| {
                TableColumn::new().set_header(heading(c)).set_header_format(look(Tone::Strong))
            })
            .collect();
        let table_of = SheetTable::new().set_columns(&columns).set_style(TableStyle::Light1);
        let last = (table.columns.len() - 1) as u16;
        sheet.add_table(top as u32, 0, bottom as u32, last, &table_of)?;
    }
    Ok(bottom + 2)
}

/// Text as a cell can hold it; of what is longer, how much is missing.
fn held(text: &str) -> String {
    let text = clean(text);
    let mut units = 0;
    for (at, c) in text.char_indices() {
        units += c.len_utf16();
        if units > MOST_OF_CELL {
            return format!(
                "{} ... and {} characters more",
                &text[..at],
                text[at..].chars().count()
            );
        }
    }
    text.into_owned()
}

/// How a worksheet is printed: as wide as a page, its headings on each.
fn on_paper(sheet: &mut Worksheet, site: &str, part: Part) -> Result<(), XlsxError> {
    /// ISO A4, by its number in the format (ECMA-376 18.3.1.63).
    const A4: u8 = 9;
    sheet.set_landscape().set_paper_size(A4).set_print_fit_to_pages(1, 0);
    sheet.set_repeat_rows(0, 0)?;
    // What begins with an ampersand is an instruction there.
    let site: String = clean(site).chars().take(MOST_OF_NAME).collect();
    sheet.set_header(format!("&L{}&R{}", site.replace('&', "&&"), part.word()));
    sheet.set_footer("&R&P / &N");
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
