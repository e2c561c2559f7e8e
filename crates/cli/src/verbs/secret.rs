//! `pennine secret`.

use super::owner_arguments::{OwnerArguments, owner_name};
use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::secret::SecretText;
use pennine_core::time::Moment;
use pennine_wire::{NewSecret, Secret, SecretRemoval};
use std::io::{IsTerminal, Read};
use std::path::PathBuf;

#[derive(Subcommand)]
pub enum Verb {
    /// Set a secret of a place or of a pool. Its value is read from standard input, and never shown again.
    ///
    /// Jobs that name it (pennine job submit --secret NAME) and start from now on get it.
    Set {
        /// Its name: letters, digits and _.
        name: String,
        #[command(flatten)]
        owner: OwnerArguments,
        /// Read the value from this file.
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
        /// Fetch the value from the outside store, which calls it so, each time that a job starts.
        #[arg(long, value_name = "TEXT", conflicts_with = "file")]
        reference: Option<String>,
        /// Only jobs in this pool may receive it; may be given several times.
        #[arg(long = "only-in", value_name = "POOL")]
        only_in: Vec<String>,
    },
    /// List the secrets of the places that you see, or the ones that a project's jobs may name. Values are never shown.
    List {
        /// Only what this project's jobs may name, also from the places above it.
        #[arg(long)]
        project: Option<String>,
    },
    /// Remove a secret. Jobs that name it and have not started end with an error.
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        owner: OwnerArguments,
    },
}

/// The longest value that is read, in bytes; the service refuses this much.
const MOST: u64 = 1 << 20;

/// `pennine secret`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Set {
            name,
            owner,
            file,
            reference,
            only_in,
        } => {
            let value = match &reference {
                None => Some(SecretText(value(&name, file)?)),
                Some(_) => None,
            };
            let new = NewSecret {
                place: owner.place.at,
                pool: owner.pool,
                name,
                value,
                reference,
                pools: only_in,
            };
            let set = client.set_secret(&new).await?;
            if json {
                return view::json(&set);
            }
            view::line(format!(
                "Set {} of {}, version {}. Jobs that name it and start from now on get it.",
                set.name,
                owner_name(&set.place, set.pool.as_deref()),
                set.version
            ))
        }
        Verb::List { project } => {
            let secrets = client.secrets(project.as_deref()).await?;
            if json {
                return view::json(&secrets);
            }
            let now = client.status().await?.now;
            view::print(&table(&secrets.items, now))
        }
        Verb::Remove { name, owner } => {
            let removal = SecretRemoval {
                place: owner.place.at,
                pool: owner.pool,
                name,
            };
            client.remove_secret(&removal).await?;
            if json {
                return view::json(&removal);
            }
            view::line(format!(
                "Removed {} of {}.",
                removal.name,
                owner_name(&removal.place, removal.pool.as_deref())
            ))
        }
    }
}

/// Reads a value: from a file, from what is piped in, or from the terminal, where one line is the value.
fn value(name: &str, file: Option<PathBuf>) -> Result<String, Error> {
    let mut bytes = Vec::new();
    if let Some(path) = file {
        let wrong = |error| Error::Usage(format!("{} cannot be read: {error}", path.display()));
        let opened = std::fs::File::open(&path).map_err(wrong)?;
        opened.take(MOST).read_to_end(&mut bytes).map_err(wrong)?;
    } else if std::io::stdin().is_terminal() {
        return rpassword::prompt_password(format!("Value of {name} (not shown): "))
            .map_err(|error| Error::Usage(format!("the terminal cannot be read: {error}")));
    } else {
        let read = std::io::stdin().take(MOST).read_to_end(&mut bytes);
        read.map_err(|error| Error::Usage(format!("standard input cannot be read: {error}")))?;
        // The line end that echo adds.
        if bytes.ends_with(b"\n") && bytes.iter().filter(|byte| **byte == b'\n').count() == 1 {
            bytes.pop();
        }
    }
    String::from_utf8(bytes).map_err(|_| {
        Error::Usage("the value is not text in UTF-8: encode it, in base64 say".to_owned())
    })
}

fn table(secrets: &[Secret], now: Moment) -> String {
    if secrets.is_empty() {
        return "No secrets yet. Set one with: pennine secret set NAME --at PLACE <FILE\n"
            .to_owned();
    }
    let rows = secrets.iter().map(|one| {
        let pools = match one.pools.as_slice() {
            [] => "any".to_owned(),
            pools => pools.join(", "),
        };
        vec![
            one.name.clone(),
            owner_name(&one.place, one.pool.as_deref()),
            one.version.to_string(),
            pools,
            match &one.reference {
                Some(_) => "outside store".to_owned(),
                None => "here".to_owned(),
            },
            format!("{} by {}", view::ago(one.set_at, now), one.set_by),
            one.used_at
                .map_or_else(|| "never".to_owned(), |at| view::ago(at, now)),
        ]
    });
    view::table(
        &[
            "secret",
            "of",
            "version",
            "pools",
            "kept",
            "set",
            "last read",
        ],
        rows,
    )
}
