//! This program's own log.

use crate::error::Error;
use crate::home::Home;
use std::io::IsTerminal;
use tracing_subscriber::filter::{LevelFilter, ParseError, Targets};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

/// Starts the log: to stderr, and to a file of its own, apart from its jobs' logs, which the service keeps: people look there when
/// they cannot ask the service.
pub fn start(home: &Home) -> Result<(), Error> {
    let levels = levels(std::env::var("PENNINE_RUNNER_LOG").unwrap_or_else(|_| "info".to_owned()))?;
    let (file, error) = match home.log_file() {
        Ok(file) => (Some(file), None),
        Err(error) => (None, Some(error)),
    };
    let file = file.map(|file| {
        tracing_subscriber::fmt::layer()
            .with_ansi(false)
            .with_writer(file)
    });
    let colours = std::io::stderr().is_terminal();
    let errors = tracing_subscriber::fmt::layer()
        .with_ansi(colours)
        .with_writer(std::io::stderr);
    tracing_subscriber::registry()
        .with(levels)
        .with(errors)
        .with(file)
        .init();
    if let Some(error) = error {
        tracing::warn!(
            "its own log cannot be written in {}: {error}",
            home.path().display()
        );
    }
    Ok(())
}

/// What is logged, by module.
fn levels(given: String) -> Result<Targets, Error> {
    // A word alone would be taken for a module, of which everything is logged.
    for word in given.split(',').filter(|part| !part.contains('=')) {
        if let Err(error) = word.parse::<LevelFilter>() {
            return Err(Error::Level(given.clone(), error.to_string()));
        }
    }
    let levels = given.parse();
    levels.map_err(|error: ParseError| Error::Level(given, error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_of_the_levels_is_checked() {
        for fits in ["info", "warn,pennine_runner=debug", "off"] {
            assert!(levels(fits.to_owned()).is_ok(), "{fits}");
        }
        for wrong in ["loud", "info,loud", "info,pennine_runner=loud"] {
            assert!(levels(wrong.to_owned()).is_err(), "{wrong}");
        }
    }
}
