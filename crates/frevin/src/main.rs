//! The `frevin` program.
#![forbid(unsafe_code)]

use std::process::ExitCode;

fn main() -> ExitCode {
    frevin::main()
}
