//! Real packets: probes that a machine sends, and listeners that answer them.
//!
//! Nothing here knows of plans. A [`probe::Task`] says what to try, a [`probe::Sight`] what came back.
//! Everything works without privilege where the system allows that.

#![forbid(unsafe_code)]

pub mod answer;
pub mod here;
pub mod probe;
