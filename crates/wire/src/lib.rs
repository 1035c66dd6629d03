//! Rules onto a gateway by wire.
//!
//! Everything goes through the system's own `ssh`: its keys, its configuration, its known hosts. A [`Line`] takes a script for
//! a shell and brings back what it printed; [`Ssh`] is the one that reaches a gateway, and a test may have another. What runs
//! on the gateway is one script for a POSIX shell (`gateway.sh`); [`Loading`] takes its steps in their order.
//!
//! [`netconf`] speaks with gateways that take lists of RFC 8519, and [`standin`] is such a gateway, simulated.
//!
//! Whatever comes from the gateway is foreign text: bounded in [`Line`], taken apart in [`Answer`], and cleaned before it is
//! shown.

#![forbid(unsafe_code)]

mod answer;
mod line;
mod loading;
pub mod netconf;
mod restorable;
mod running;
mod script;
pub mod standin;

pub use answer::{Answer, Garbled};
pub use line::{Broken, Line, Reached, Ssh};
pub use loading::{
    Beside, BesideKind, Holder, LeftOver, Loading, Pending, Restorable, Staged, Status, Stopped,
    back, confirm, ruleset, status,
};
pub use restorable::same_program;
pub use running::{Addresses, Connection, Running};
pub use script::{LoadId, NotAnId};
