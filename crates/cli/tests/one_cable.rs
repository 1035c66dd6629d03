//! A gateway in the kernel, tried by the built program from one cable that carries every network tagged: with the exported
//! rules as they are, and with faults in them.
//!
//! Short by default: `BASTIUM_CABLE_PLANS=200` tries so many generated plans (`BASTIUM_CABLE_PLAN=23`
//! only the one of that number), `BASTIUM_CABLE_FAULTS=150` seeds so
//! many faults, `BASTIUM_CABLE_ONLY=WORD` runs only tests with that word in
//! their name, and `BASTIUM_CABLE_SHOWN=FILE` writes down what is printed of some faults.

#![allow(
    clippy::print_stderr,
    clippy::print_stdout,
    reason = "a test that runs by itself tells how it goes"
)]

#[cfg(target_os = "linux")]
mod common;
#[cfg(target_os = "linux")]
#[path = "one_cable/faults.rs"]
mod faults;
#[cfg(target_os = "linux")]
#[path = "one_cable/leased.rs"]
mod leased;
#[cfg(target_os = "linux")]
#[path = "../../core/tests/model/mod.rs"]
mod model;
#[cfg(target_os = "linux")]
#[path = "one_cable/practice.rs"]
mod practice;
#[cfg(target_os = "linux")]
#[path = "one_cable/tried.rs"]
mod tried;
#[cfg(target_os = "linux")]
#[path = "one_cable/wild.rs"]
mod wild;

#[cfg(target_os = "linux")]
fn main() {
    tried::main();
}

#[cfg(not(target_os = "linux"))]
fn main() {}
