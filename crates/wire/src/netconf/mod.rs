//! NETCONF (RFC 6241) over anything that carries bytes, usually `ssh` (RFC 6242): messages, data, and the client.

mod client;
mod framing;
mod loading;
mod tree;
mod yang;

pub use client::{Client, Failed, Refusal};
pub use framing::{Framing, receive, send};
pub use loading::{Change, NetconfLoading};
pub use tree::{BASE, Element};
pub(crate) use yang::key_of;
pub use yang::{ACL, INTERFACES, MODULES, to_json, to_xml};
