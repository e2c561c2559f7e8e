//! `pennine`: the command line.

mod arguments;
mod connection;
mod error;
mod run;
mod terminal;
mod values;
mod verbs;
mod view;
mod yard_file;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
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
