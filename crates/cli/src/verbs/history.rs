//! `pennine history`: jobs that are over, as CSV.

use super::trends::moment;
use crate::error::Error;
use crate::terminal;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::size::ByteSize;
use pennine_core::time::Moment;
use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// Print every finished attempt, and every wait without an attempt, as CSV.
    Export {
        /// How far back: 30d, 365d.
        #[arg(long, value_name = "TIME", value_parser = view::time, default_value = "30d", conflicts_with = "from")]
        last: Duration,
        /// From when: 2026-11-01T00:00:00Z.
        #[arg(long, value_name = "MOMENT", value_parser = moment)]
        from: Option<Moment>,
        /// Until when; now when not given.
        #[arg(long, value_name = "MOMENT", value_parser = moment)]
        until: Option<Moment>,
    },
    /// Import jobs that ran elsewhere: all lines of a CSV file, or none.
    ///
    /// Required columns: project, pool, ready, started, finished, result. Optional: title, where, runner, assigned,
    /// exit_code, processor_us, peak_memory_bytes. Other columns are ignored. Times have the form 2026-11-23T06:00:00Z.
    Import {
        /// The file.
        file: PathBuf,
    },
}

/// `pennine history`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Export { last, from, until } => {
            let until = match until {
                Some(until) => until,
                None => client.status().await?.now,
            };
            let mut answer = client
                .export_history(from.unwrap_or(until - last), until)
                .await?;
            let mut written = ByteSize(0);
            while let Some(part) = answer.chunk().await.map_err(|error| {
                Error::Here(format!(
                    "the export was interrupted: {error}; the output is incomplete"
                ))
            })? {
                written.0 += part.len() as u64;
                let shown = std::io::stdout().is_terminal();
                if shown {
                    if !view::write(&part)? {
                        return Ok(());
                    }
                    continue;
                }
                terminal::set_progress(|| format!("Exported {written}"));
                match std::io::stdout().write_all(&part) {
                    Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => return Ok(()),
                    other => other?,
                }
            }
            std::io::stdout().flush()?;
            Ok(())
        }
        Verb::Import { file } => {
            let bytes = std::fs::read(&file)
                .map_err(|error| Error::Usage(format!("{}: {error}", file.display())))?;
            let imported = client.import_history(bytes).await?;
            if json {
                return view::json(&imported);
            }
            let skipped = match imported.on_record {
                0 => String::new(),
                n => format!(" {} on record already, skipped.", view::job_count(n)),
            };
            view::line(format!(
                "Imported {}. The jobs of the file became ready between {} and {}.{skipped}",
                view::job_count(imported.jobs),
                imported.first,
                imported.last
            ))
        }
    }
}
