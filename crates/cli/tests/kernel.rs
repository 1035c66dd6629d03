//! The Linux kernel as a second opinion: generated plans are exported, loaded into a gateway in namespaces
//! of its own, and packets from around every border are put on its cables. What the kernel does with each
//! must be what the plan means, and the line that decides must belong to the rule that decides here.
//!
//! Short by default; `BASTIUM_KERNEL_PACKETS=200000 cargo test -p bastium --test kernel` is the long form.

#![allow(
    clippy::print_stderr,
    clippy::print_stdout,
    reason = "a test that runs by itself tells how it goes"
)]

#[cfg(target_os = "linux")]
#[path = "kernel/differences.rs"]
mod differences;
#[cfg(target_os = "linux")]
#[path = "../../core/tests/model/mod.rs"]
mod model;
#[cfg(target_os = "linux")]
#[path = "kernel/opinion.rs"]
mod opinion;
#[cfg(target_os = "linux")]
#[path = "kernel/rehearsals.rs"]
mod rehearsals;

#[cfg(target_os = "linux")]
fn main() {
    opinion::main();
}

#[cfg(not(target_os = "linux"))]
fn main() {}
