//! Rules onto a gateway by wire: the built program, the system's ssh and its server, a gateway in the kernel, and an engineer in
//! another network of it.
//!
//! Needs the real root, since a server for ssh changes users. Short by default: `BASTIUM_LOAD_KILLS=100` kills so many loads,
//! `BASTIUM_LOAD_SEED=7` at other moments, `BASTIUM_LOAD_ONLY=WORD` runs only
//! tests with that word in their name, and `BASTIUM_LOAD_SHOWN=FILE` writes down what is printed.

#![allow(
    clippy::print_stderr,
    clippy::print_stdout,
    reason = "a test that runs by itself tells how it goes"
)]

#[cfg(target_os = "linux")]
#[path = "load/beside.rs"]
mod beside;
#[cfg(target_os = "linux")]
#[path = "load/broken.rs"]
mod broken;
#[cfg(target_os = "linux")]
mod common;
#[cfg(target_os = "linux")]
#[path = "load/cut.rs"]
mod cut;
#[cfg(target_os = "linux")]
#[path = "load/gateway.rs"]
mod gateway;
#[cfg(target_os = "linux")]
#[path = "load/refused.rs"]
mod refused;
#[cfg(target_os = "linux")]
#[path = "load/tried.rs"]
mod tried;

#[cfg(target_os = "linux")]
fn main() {
    tried::main();
}

#[cfg(not(target_os = "linux"))]
fn main() {}
