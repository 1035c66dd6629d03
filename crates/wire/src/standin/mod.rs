//! A simulated gateway: a NETCONF server on standard input and output, with the access lists of RFC 8519.
//!
//! It stands in for the device that nobody has at hand. What it holds is in a folder, so that any number of sessions, each a
//! process of its own as with a subsystem of `sshd`, share one gateway. It locks, validates, commits for a time and takes back
//! as RFC 6241 says, decides packets by its lists, counts and logs them, and fails on demand.

mod edit;
mod error;
mod packets;
mod session;
mod store;

pub use packets::{Decided, decide};
pub use session::{Fault, serve};
pub use store::Store;
