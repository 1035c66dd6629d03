//! Real packets: probes that a machine sends, and listeners that answer them.
//!
//! A [`probe::Task`] says what to try, a [`probe::Sight`] what came back.
//! Everything works without privilege where the system allows that.
//!
//! On Linux there is more: a whole [`site`] in the kernel, built from namespaces, in which
//! a gateway's rules are tried before anybody touches the gateway.

pub mod answer;
#[cfg(target_os = "linux")]
pub mod cable;
pub mod child;
pub mod here;
#[cfg(target_os = "linux")]
pub mod kernel;
#[cfg(target_os = "linux")]
pub mod layout;
pub mod probe;
pub mod rehearse;
#[cfg(target_os = "linux")]
pub mod site;
#[cfg(target_os = "linux")]
pub mod trunk;
