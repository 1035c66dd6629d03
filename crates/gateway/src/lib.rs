//! What gateways read and write: each format with its writer and its reader side by side.
//!
//! Rules for a Linux gateway ([`nftables`]), access control lists ([`acl_json`], RFC 8519), leases and names
//! ([`dnsmasq`]), lists that somebody else wrote ([`foreign`]), and the log of blocked packets ([`read_packet_log`]).
//! Whatever is written is read back from its bytes and compared with the plan before anybody gets it: the functions
//! that write files return proof tokens ([`nftables::ProvenFile`], [`ProvenLists`], [`ServedFile`]), which nothing else
//! can make.

#![forbid(unsafe_code)]

mod acl_json;
mod clean;
mod dnsmasq;
pub mod foreign;
pub mod nftables;
mod packet_log;

pub use acl_json::{
    AclFile, Decides, HeldLists, ListFault, ProvenLists, Unsaid, Why, acl_json, proven_lists,
    rule_of,
};
pub use clean::{clean, escape_hidden, shell_word};
pub use dnsmasq::{LOCAL_DOMAIN, ServedFile, dnsmasq, proven_served};
pub use packet_log::read_packet_log;
