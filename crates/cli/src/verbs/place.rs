//! `pennine team` and `pennine project`.

use crate::trouble::Trouble;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_wire::{NewProject, NewTeam, Page, Place};

#[derive(Subcommand)]
pub enum TeamVerb {
    /// List the teams.
    List,
    /// Add a team.
    Add {
        /// Its name.
        name: String,
        /// The path of the team that it lies in.
        #[arg(long, value_name = "TEAM")]
        parent: Option<String>,
    },
}

#[derive(Subcommand)]
pub enum ProjectVerb {
    /// List the projects.
    List,
    /// Add a project.
    Add {
        /// Its name.
        name: String,
        /// The path of its team.
        #[arg(long)]
        team: String,
    },
}

/// `pennine team`.
pub async fn team(client: &Client, json: bool, verb: TeamVerb) -> Result<(), Trouble> {
    match verb {
        TeamVerb::List => list(client.teams().await?, json, "team"),
        TeamVerb::Add { name, parent } => {
            added(client.add_team(&NewTeam { name, parent }).await?, json)
        }
    }
}

/// `pennine project`.
pub async fn project(client: &Client, json: bool, verb: ProjectVerb) -> Result<(), Trouble> {
    match verb {
        ProjectVerb::List => list(client.projects().await?, json, "project"),
        ProjectVerb::Add { name, team } => {
            added(client.add_project(&NewProject { name, team }).await?, json)
        }
    }
}

fn list(places: Page<Place>, json: bool, kind: &str) -> Result<(), Trouble> {
    if json {
        return view::json(&places);
    }
    if places.items.is_empty() {
        return view::line(format!(
            "There is no {kind} yet. Add one with: pennine {kind} add NAME"
        ));
    }
    places
        .items
        .iter()
        .try_for_each(|place| view::line(&place.path))
}

fn added(place: Place, json: bool) -> Result<(), Trouble> {
    if json {
        view::json(&place)
    } else {
        view::line(format!("Added the {} {}.", place.kind, place.path))
    }
}
