//! `pennine`: the command line, as a library, so that the fuzz targets reach its parsers.

mod arguments;
mod connection;
mod error;
pub mod escapes;
mod repository;
mod run;
mod source_archive;
mod terminal;
mod values;
mod verbs;
mod view;
pub mod yard_file;

use clap::Parser;
use std::process::ExitCode;

/// Runs the program with the arguments of the process, and returns its exit status.
pub fn main() -> ExitCode {
    let arguments = arguments::Arguments::parse();
    let runtime = match tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(error) => {
            eprintln!("pennine: the runtime cannot start: {error}");
            return ExitCode::FAILURE;
        }
    };
    match runtime.block_on(run::run(arguments)) {
        Ok(code) => code,
        Err(error) => {
            terminal::clear_progress();
            eprintln!("{error}");
            ExitCode::from(error.exit_status())
        }
    }
}
