//! What Bastium shows, as data: the sheets, and the formats that they are written in.
//!
//! A *sheet* ([`sheets`]) is what a command has to say, taken from the core once. Its fields are its
//! JSON; its [`Table`]s are what a terminal, CSV and Markdown show. So the four can never disagree.

#![forbid(unsafe_code)]

mod acl_json;
mod clean;
mod csv;
mod dnsmasq;
pub mod foreign;
mod markdown;
pub mod nftables;
mod packet_log;
mod page;
mod sarif;
pub mod schema;
pub mod sheets;
mod table;
pub mod walk;
mod workbook;

pub use acl_json::{
    AclFile, Decides, HeldLists, ListFault, ProvenLists, Unsaid, Why, acl_json, proven_lists,
};
pub use clean::{clean, escape_hidden, shell_word};
pub use csv::{csv, safe};
pub use dnsmasq::{LOCAL_DOMAIN, ServedFile, dnsmasq, proven_served};
pub use markdown::markdown;
pub use packet_log::read_packet_log;
pub use page::checklist_page;
pub use sarif::sarif;
pub use table::{Cell, Column, Table, Tone};
pub use workbook::{Book, Part};
