//! The program: takes the arguments, runs one command, and ends with its exit code.

use std::process::ExitCode;

fn main() -> ExitCode {
    bastium::run()
}
