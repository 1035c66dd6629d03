//! What Bastium shows, as data: the sheets, and the formats that they are written in.
//!
//! A *sheet* ([`sheets`]) is what a command has to say, taken from the core once. Its fields are its
//! JSON; its [`Table`]s are what a terminal, CSV and Markdown show. So the four can never disagree.
//! Workbooks ([`Book`]), the pages to tick off ([`checklist_page`], [`worksheet_page`]), SARIF ([`sarif()`]) and JUnit ([`walk`]) are made
//! of the same sheets.

#![forbid(unsafe_code)]

mod csv;
pub mod document;
mod domains;
mod edition;
mod markdown;
mod page;
mod sarif;
pub mod schema;
pub mod sheets;
mod table;
pub mod walk;
mod workbook;

pub use bastium_core::words::{count, either};
pub use csv::{csv, safe};
pub use domains::{domains, unseen};
pub use markdown::markdown;
pub use page::{checklist_page, worksheet_page};
pub use sarif::sarif;
pub use table::{Cell, Column, Table, Tone};
pub use workbook::{Book, Part};
