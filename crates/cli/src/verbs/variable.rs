//! `pennine variable`.

use super::owner_arguments::{OwnerArguments, owner_name};
use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::time::Moment;
use pennine_wire::{NewVariable, Variable, VariableRemoval};

#[derive(Subcommand)]
pub enum Verb {
    /// Set a variable of a place or of a pool, in the open. Jobs that are assigned from now on get it.
    Set {
        /// Its name: letters, digits and _.
        name: String,
        /// Its value.
        value: String,
        #[command(flatten)]
        owner: OwnerArguments,
    },
    /// List the variables of the places that you see and of their pools, or the ones that a project's jobs get.
    List {
        /// Only what this project's jobs get, also from the places above it.
        #[arg(long)]
        project: Option<String>,
    },
    /// Remove a variable.
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        owner: OwnerArguments,
    },
}

/// `pennine variable`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Set { name, value, owner } => {
            let new = NewVariable {
                place: owner.place.at,
                pool: owner.pool,
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
                owner_name(&set.place, set.pool.as_deref())
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
        Verb::Remove { name, owner } => {
            let removal = VariableRemoval {
                place: owner.place.at,
                pool: owner.pool,
                name,
            };
            client.remove_variable(&removal).await?;
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

fn table(variables: &[Variable], now: Moment) -> String {
    if variables.is_empty() {
        return "No variables yet. Set one with: pennine variable set NAME VALUE --at PLACE\n"
            .to_owned();
    }
    let rows = variables.iter().map(|one| {
        vec![
            one.name.clone(),
            view::cut(&one.value, view::roomy(40)),
            owner_name(&one.place, one.pool.as_deref()),
            format!("{} by {}", view::ago(one.set_at, now), one.set_by),
        ]
    });
    view::table(&["variable", "value", "of", "set"], rows)
}
