//! `pennine variable`.

use super::place_argument::PlaceArgument;
use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::access::place_name;
use pennine_core::time::Moment;
use pennine_wire::{NewPlaceVariable, PlaceVariable, PlaceVariableRemoval};

#[derive(Subcommand)]
pub enum Verb {
    /// Set a variable of a place, in the open. Jobs that are assigned from now on get it.
    Set {
        /// Its name: letters, digits and _.
        name: String,
        /// Its value.
        value: String,
        #[command(flatten)]
        place: PlaceArgument,
    },
    /// List the variables of the places that you see, or the ones that a project's jobs get.
    List {
        /// Only what this project's jobs get, also from the places above it.
        #[arg(long)]
        project: Option<String>,
    },
    /// Remove a variable of a place.
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        place: PlaceArgument,
    },
}

/// `pennine variable`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Set { name, value, place } => {
            let new = NewPlaceVariable {
                place: place.at,
                name,
                value,
            };
            let set = client.set_variable(&new).await?;
            if json {
                return view::json(&set);
            }
            view::line(format!(
                "Set {} of {}: jobs that are assigned from now on get it.",
                set.name,
                place_name(&set.place)
            ))
        }
        Verb::List { project } => {
            let variables = client.variables(project.as_deref()).await?;
            if json {
                return view::json(&variables);
            }
            let now = client.status().await?.now;
            view::print(&table(&variables.items, now))
        }
        Verb::Remove { name, place } => {
            let removal = PlaceVariableRemoval {
                place: place.at,
                name,
            };
            client.remove_variable(&removal).await?;
            if json {
                return view::json(&removal);
            }
            view::line(format!(
                "Removed {} of {}.",
                removal.name,
                place_name(&removal.place)
            ))
        }
    }
}

fn table(variables: &[PlaceVariable], now: Moment) -> String {
    if variables.is_empty() {
        return "No variables yet. Set one with: pennine variable set NAME VALUE --at PLACE\n"
            .to_owned();
    }
    let rows = variables.iter().map(|one| {
        vec![
            one.name.clone(),
            view::cut(&one.value, view::roomy(40)),
            place_name(&one.place).to_owned(),
            format!("{} by {}", view::ago(one.set_at, now), one.set_by),
        ]
    });
    view::table(&["variable", "value", "at", "set"], rows)
}
