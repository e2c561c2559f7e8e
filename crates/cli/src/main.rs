//! `pennine`: the command line.

use std::process::ExitCode;

fn main() -> ExitCode {
    pennine_cli::main()
}
