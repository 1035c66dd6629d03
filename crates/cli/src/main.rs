//! The program: takes the arguments, runs one command, and ends with its exit code.

use mimalloc::MiMalloc;
use std::process::ExitCode;

/// Packet sets are many small pieces of memory, taken and given back all the time.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

fn main() -> ExitCode {
    bastium::run()
}
