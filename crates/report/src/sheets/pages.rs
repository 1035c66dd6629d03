//! The explanations of errors and findings.

use super::EDITION;
use crate::{Cell, Column, Table, Tone};
use bastium_core::findings::explain::Page;
use schemars::JsonSchema;
use serde::Serialize;

/// The pages asked for.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PageSheet {
    /// The edition of this JSON.
    pub bastium: u8,
    /// The pages.
    pub pages: Vec<PageRow>,
}

/// One page.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PageRow {
    /// The name of the error or finding.
    pub name: &'static str,
    /// `error`, `warning` or `advice`.
    pub severity: &'static str,
    /// When it is reported, and why.
    pub text: &'static str,
}

impl PageSheet {
    /// Takes the sheet from pages.
    pub fn new<'p>(pages: impl IntoIterator<Item = &'p Page>) -> Self {
        let row = |page: &Page| PageRow {
            name: page.name,
            severity: page.severity.word(),
            text: page.text,
        };
        Self { bastium: EDITION, pages: pages.into_iter().map(row).collect() }
    }

    /// As a table.
    pub fn tables(&self) -> Vec<Table> {
        let mut table = Table::new([
            Column::whole("name"),
            Column::whole("severity"),
            Column::text("when, and why"),
        ]);
        for page in &self.pages {
            table.row([
                Cell::toned(page.name, Tone::Strong),
                page.severity.into(),
                page.text.into(),
            ]);
        }
        vec![table]
    }
}
