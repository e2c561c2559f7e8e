//! `pennine listener`.

use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::alert::AlertKind;
use pennine_core::time::Moment;
use pennine_wire::{Listener, ListenerChange, MadeListener, NewListener};

#[derive(Subcommand)]
pub enum Verb {
    /// List the listeners and their delivery status.
    List,
    /// Add a listener: an address that receives each alert as a signed event. Its secret is shown once.
    Add {
        /// Its name.
        name: String,
        /// Where events are sent: http:// or https://.
        #[arg(long)]
        to: String,
        /// The kinds of alerts that it receives; may be given several times [default: all]
        #[arg(long = "kind", value_name = "KIND", value_parser = view::word::<AlertKind>)]
        kinds: Vec<AlertKind>,
    },
    /// Change a listener. Delivery is retried at once.
    Set {
        /// Its name.
        name: String,
        /// Its new address.
        #[arg(long)]
        to: Option<String>,
        /// The kinds of alerts that it receives; may be given several times.
        #[arg(long = "kind", value_name = "KIND", value_parser = view::word::<AlertKind>)]
        kinds: Vec<AlertKind>,
        /// Receive all kinds.
        #[arg(long, conflicts_with = "kinds")]
        all_kinds: bool,
        /// Pause or resume delivery. Events of the pause are sent afterwards.
        #[arg(long, value_name = "true|false")]
        paused: Option<bool>,
    },
    /// Renew a listener's secret, which is shown once. For a day, events are signed with the previous secret as well.
    Renew {
        /// Its name.
        name: String,
    },
    /// Send a listener a test event, and show the result.
    Try {
        /// Its name.
        name: String,
    },
    /// Remove a listener.
    Remove {
        /// Its name.
        name: String,
    },
}

/// `pennine listener`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List => {
            let listeners = client.listeners().await?;
            if json {
                return view::json(&listeners);
            }
            if listeners.items.is_empty() {
                return view::line(
                    "No listeners yet. Add one with: pennine listener add NAME --to URL",
                );
            }
            let now = client.status().await?.now;
            view::print(&table(&listeners.items, now))
        }
        Verb::Add { name, to, kinds } => {
            let new = NewListener {
                name,
                url: to,
                kinds: kinds.iter().map(ToString::to_string).collect(),
            };
            made(&client.add_listener(&new).await?, json)
        }
        Verb::Set {
            name,
            to,
            kinds,
            all_kinds,
            paused,
        } => {
            let given = !kinds.is_empty() || all_kinds;
            let change = ListenerChange {
                url: to,
                kinds: given.then(|| kinds.iter().map(ToString::to_string).collect()),
                paused,
            };
            let listener = client.change_listener(&name, &change).await?;
            if json {
                return view::json(&listener);
            }
            let now = client.status().await?.now;
            view::print(&table(&[listener], now))
        }
        Verb::Renew { name } => made(&client.renew_listener(&name).await?, json),
        Verb::Try { name } => {
            let tried = client.try_listener(&name).await?;
            if json {
                view::json(&tried)?;
            } else if tried.taken {
                view::line(format!("{name} accepted the event: {}.", tried.message))?;
            }
            if tried.taken {
                return Ok(());
            }
            Err(Error::Here(format!(
                "{name} did not accept the event: {}",
                tried.message
            )))
        }
        Verb::Remove { name } => {
            client.remove_listener(&name).await?;
            view::line(format!("Removed the listener {name}."))
        }
    }
}

fn made(made: &MadeListener, json: bool) -> Result<(), Error> {
    if json {
        return view::json(made);
    }
    view::line(format!(
        "{} is sent events at {}.\nIts secret, shown this once: {}\nTry it with: pennine listener try {}",
        made.listener.name, made.listener.url, made.secret, made.listener.name
    ))
}

fn table(listeners: &[Listener], now: Moment) -> String {
    let rows = listeners.iter().map(|one| {
        let state = match (&one.failure, one.paused) {
            (_, true) => "paused".to_owned(),
            (Some(failure), _) => format!(
                "FAILS since {}: {}; next try {}",
                view::ago(failure.since, now),
                view::cut(&failure.message, 60),
                view::due(failure.retry_at, now)
            ),
            (None, false) => "well".to_owned(),
        };
        let last = match one.sent_at {
            Some(at) => format!("{}, the last {}", one.sent, view::ago(at, now)),
            None => "none".to_owned(),
        };
        let kinds = match one.kinds.as_slice() {
            [] => "all".to_owned(),
            kinds => kinds.join(", "),
        };
        vec![
            one.name.clone(),
            view::cut(&one.url, 40),
            view::cut(&kinds, 30),
            last,
            state,
        ]
    });
    view::table(&["listener", "to", "hears of", "sent", "state"], rows)
}
