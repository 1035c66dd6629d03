//! All sheets of a plan together: as a workbook (Office Open XML), a Markdown document, a JSON object, or CSV files.

mod layout;

use crate::sheets::{
    AddressSheet, ChecklistSheet, GroupSheet, MatrixSheet, PortSheet, RuleSheet, ServiceSheet,
    System, Worksheet as TypeSheet,
};
use crate::{Cell, Column, Table, csv, markdown};
use bastium_gateway::clean;
use layout::Layout;
use rust_xlsxwriter::{DocProperties, Workbook, XlsxError};
use serde_json::{Map, Value};

/// The most units of UTF-16 that a cell holds (ECMA-376, 18.3.1.96), some of them left for what is said of the rest.
const MOST_OF_CELL: usize = 32_767 - 64;

/// One of the sheets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// Networks, subnets, pools and fixed addresses.
    Addresses,
    /// Groups, domains and hours.
    Groups,
    /// The services that the plan names.
    Services,
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
    pub const ALL: [Self; 8] = [
        Self::Addresses,
        Self::Groups,
        Self::Services,
        Self::Ports,
        Self::Matrix,
        Self::Rules,
        Self::Worksheet,
        Self::Checklist,
    ];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Addresses => "addresses",
            Self::Groups => "groups",
            Self::Services => "services",
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
    /// Groups, domains and hours.
    pub groups: GroupSheet,
    /// The services that the plan names.
    pub services: ServiceSheet,
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
    /// The system whose commands stand in a workbook.
    pub system: System,
}

impl Book {
    /// The tables of a sheet.
    pub fn tables(&self, part: Part) -> Vec<Table> {
        match part {
            Part::Addresses => self.addresses.tables(false),
            Part::Groups => self.groups.tables(),
            Part::Services => self.services.tables(),
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
                Part::Groups => serde_json::to_value(&self.groups),
                Part::Services => serde_json::to_value(&self.services),
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

    /// Sheets as one workbook: a worksheet each, with tables that can be filtered and headings that stay. What has more
    /// columns than fit a page goes on in a second row.
    /// Every cell of text is written as text, so that none can be a formula.
    ///
    /// # Errors
    /// When a sheet has more rows than a worksheet takes.
    pub fn xlsx(&self, parts: &[Part]) -> Result<Vec<u8>, XlsxError> {
        let mut book = Workbook::new();
        let about = DocProperties::new().set_title(held(&self.site)).set_author("Bastium");
        book.set_properties(&about);
        for part in parts {
            let sheet = book.add_worksheet();
            sheet.set_name(part.word())?;
            let tables = match part {
                Part::Checklist => self.checklist.tables_on(self.system),
                part => self.tables(*part),
            };
            let tables = joined(tables, part.title());
            // Rows and columns of the matrix belong together.
            let folds = *part != Part::Matrix;
            let layout = Layout::of(&tables, folds);
            let mut row = 0;
            for table in &tables {
                row = layout.place(sheet, table, row)?;
            }
            // Headings stay in sight, and in the matrix the names of rows as well.
            let heading = tables.first().map_or(1, |table| layout.lines(table).len());
            let heading = u32::try_from(heading).unwrap_or(u32::MAX);
            sheet.set_freeze_panes(heading, u16::from(*part == Part::Matrix))?;
            // Of several tables each has headings of its own.
            let repeated = (tables.len() == 1).then_some(heading);
            layout.on_paper(sheet, &self.site, (part.word(), repeated))?;
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
