//! What gateways read and write: each format with its writer and its reader side by side.
//!
//! Rules for a Linux gateway ([`nftables`]), access control lists ([`acl_json`], RFC 8519), leases and names
//! ([`dnsmasq`]), lists that somebody else wrote ([`foreign`]), and the log of blocked packets ([`read_packet_log`]).
//! Whatever is written is read back from its bytes and compared with the plan before anybody gets it: the functions
//! that write files return proof tokens ([`nftables::ProvenFile`], [`ProvenLists`], [`ServedFile`]), which nothing else
//! can make.
//!
//! ```
//! use bastium_core::{meaning::Meaning, plan::Form, rules};
//! use bastium_gateway::nftables::{self, NftOptions};
//!
//! # let text = r#"
//! # bastium = 1
//! # [site]
//! # name = "Two networks"
//! # space = ["10.44.0.0/16"]
//! # tie = "third-octet"
//! # [uplink.fibre]
//! # port = "wan"
//! # address = "198.51.100.14/30"
//! # [zone.people]
//! # trust = "medium"
//! # uses-gateway-for = ["dns", "dhcp"]
//! # [zone.things]
//! # trust = "low"
//! # [gateway]
//! # ports = ["wan", "lan"]
//! # [network.desks]
//! # port = "lan"
//! # zone = "people"
//! # vlan = 24
//! # dhcp = "100-199"
//! # [network.printers]
//! # zone = "things"
//! # vlan = 48
//! # port = "lan"
//! # [host.paper-printer]
//! # network = "printers"
//! # address = "10.44.48.10"
//! # [matrix]
//! # grid = '''
//! #           people  things  internet
//! # people    -       block   allow
//! # things    block   -       block
//! # internet  block   block   -
//! # '''
//! # [exception.desks-print]
//! # from = "desks"
//! # to = "printers"
//! # service = "ipp"
//! # action = "allow"
//! # why = "People print"
//! # "#;
//! let plan = bastium_planfile::read("plan.toml", text.as_bytes()).expect("a plan");
//! let meaning = Meaning::new(&plan, "2026-06-01".parse()?).expect("one meaning");
//! let rules = rules::in_form(&meaning, Form::PerPair).expect("this form can say it");
//! // Read back from its own bytes, and the same over every packet; else there is no file.
//! let file = nftables::proven(&meaning, &rules, NftOptions::default()).expect("it is proved");
//! assert!(file.text().contains("exception.desks-print"));
//! # Ok::<(), jiff::Error>(())
//! ```

#![forbid(unsafe_code)]

mod acl_json;
pub mod boot;
mod clean;
mod dnsmasq;
pub mod foreign;
pub mod interfaces;
mod named;
pub mod nftables;
mod packet_log;

pub use acl_json::{
    AclFile, Decides, HeldLists, ListFault, ListVerdict, ProvenLists, Unsaid, Why, acl_json,
    decided_by_lists, list_problems, proven_lists, rule_of,
};
pub use clean::{clean, escape_hidden, shell_word};
pub use dnsmasq::{LOCAL_DOMAIN, ServedFile, dnsmasq, proven_served, refilled};
pub use packet_log::read_packet_log;
