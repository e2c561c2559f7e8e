//! `pennine-load`: a crowd of light runners and submitters over the real protocol, for benchmarks and fault tests.
//!
//! Its own runners join, poll, acknowledge and report as `pennine-runner` does, and run nothing. Only loopback addresses are
//! taken.

mod baseline;
mod chaos;
mod crowd;
mod figures;

use clap::{Parser, Subcommand};
use std::process::ExitCode;
use std::time::Duration;

/// What can go wrong.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("{0}")]
    Client(#[from] pennine_client::ClientError),
    #[error("{0} is not on this machine: load is only ever put on loopback addresses")]
    NotLoopback(String),
    #[error("the database: {0}")]
    Database(#[from] tokio_postgres::Error),
    #[error("HTTP: {0}")]
    Http(#[from] reqwest::Error),
    #[error("{0}")]
    Machine(#[from] std::io::Error),
    #[error("{0}")]
    Chaos(String),
}

/// Puts load on a service on this machine.
#[derive(Parser)]
#[command(name = "pennine-load", version, about)]
struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

#[derive(Subcommand)]
enum Verb {
    /// Whole cycles: submitted, assigned, started, finished, each durable, over the real protocol.
    Cycles {
        #[arg(long, env = "PENNINE_URL")]
        url: String,
        #[arg(long, env = "PENNINE_TOKEN", hide_env_values = true)]
        token: String,
        #[command(flatten)]
        size: Size,
        /// Jobs that are submitted each second; as many as are taken when not given.
        #[arg(long)]
        rate: Option<u32>,
    },
    /// Kill and stop replicas, runners and PostgreSQL at random while jobs come and go, then check that nothing was lost.
    /// Everything is started by the test itself, from the repository's folder. See scripts/chaos.
    Chaos(chaos::Chaos),
    /// The same cycles with a plain queue in PostgreSQL behind an HTTP front: one row with FOR UPDATE SKIP LOCKED.
    Baseline {
        /// A database on loopback; a table is made in it and dropped again.
        #[arg(long)]
        database: String,
        #[command(flatten)]
        size: Size,
        /// Connections to the database.
        #[arg(long, default_value_t = 8)]
        connections: usize,
    },
}

/// How much load.
#[derive(clap::Args, Clone, Copy)]
pub struct Size {
    /// Runners of one slot each.
    #[arg(long, default_value_t = 1000, value_parser = clap::value_parser!(u32).range(1..=20_000))]
    pub runners: u32,
    /// Seconds.
    #[arg(long = "for", default_value_t = 120, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub seconds: u64,
    /// Requests to submit that are under way at once.
    #[arg(long, default_value_t = 16, value_parser = clap::value_parser!(u32).range(1..=256))]
    pub submitters: u32,
}

impl Size {
    fn time(self) -> Duration {
        Duration::from_secs(self.seconds)
    }
}

/// Refuses addresses that are not on this machine.
pub fn on_loopback(url: &str) -> Result<(), Error> {
    let parsed = reqwest::Url::parse(url).ok();
    let host = parsed.as_ref().and_then(reqwest::Url::host_str);
    match host {
        Some("127.0.0.1" | "localhost" | "[::1]") => Ok(()),
        _ => Err(Error::NotLoopback(url.to_owned())),
    }
}

#[tokio::main]
async fn main() -> ExitCode {
    let done = match Arguments::parse().verb {
        Verb::Cycles {
            url,
            token,
            size,
            rate,
        } => crowd::run(&url, &token, size, rate).await,
        Verb::Chaos(chaos) => chaos::run(chaos).await,
        Verb::Baseline {
            database,
            size,
            connections,
        } => baseline::run(&database, size, connections).await,
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("pennine-load: {error}");
            ExitCode::FAILURE
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn load_is_only_put_on_loopback_addresses() {
        for url in [
            "http://127.0.0.1:7117",
            "http://localhost/base",
            "postgres://me@[::1]/db",
        ] {
            assert!(on_loopback(url).is_ok(), "{url}");
        }
        for url in [
            "http://192.0.2.7",
            "http://127.0.0.1.example",
            "postgres://db/x",
            "127.0.0.1",
            "",
        ] {
            assert!(
                matches!(on_loopback(url), Err(Error::NotLoopback(_))),
                "{url}"
            );
        }
    }

    #[test]
    fn the_size_of_a_crowd_is_bounded() {
        let parse = |more: &[&str]| {
            let words = [
                "pennine-load",
                "cycles",
                "--url",
                "http://127.0.0.1:1",
                "--token",
                "t",
            ];
            Arguments::try_parse_from(words.iter().chain(more)).is_ok()
        };
        assert!(parse(&[
            "--runners",
            "20000",
            "--for",
            "3600",
            "--submitters",
            "256"
        ]));
        assert!(!parse(&["--runners", "20001"]));
        assert!(!parse(&["--for", "0"]));
        assert!(!parse(&["--submitters", "257"]));
    }
}
