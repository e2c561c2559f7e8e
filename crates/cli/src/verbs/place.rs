//! `pennine team` and `pennine project`.

use super::yard;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::ThingKind;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::dispatch::PoolAccess;
use pennine_core::time::Micros;
use pennine_wire::{NewProject, NewTeam, Page, Place, PlaceChange, ProjectPool, ProjectView};

#[derive(Subcommand)]
pub enum TeamVerb {
    /// List the teams.
    List,
    /// Add a team.
    Add {
        /// Its name.
        name: String,
        /// The path of its parent team.
        #[arg(long, value_name = "TEAM")]
        parent: Option<String>,
    },
}

#[derive(Subcommand)]
pub enum ProjectVerb {
    /// List the projects.
    List,
    /// Show one project: the pools that it may use, and whom to ask for the others.
    Show {
        /// Its path, or its name if that is unique.
        name: String,
    },
    /// Add a project.
    Add {
        /// Its name.
        name: String,
        /// The path of its team.
        #[arg(long)]
        team: String,
    },
}

#[derive(Subcommand)]
pub enum PlaceVerb {
    /// Change the share, limit, give-up time or audiences of a team or project.
    Set {
        /// Its path, or its name if that is unique.
        path: String,
        /// Its share relative to its siblings, 1 to 1000.
        #[arg(long)]
        weight: Option<u32>,
        /// The most slots that it may hold at once, including everything below it; none removes the limit.
        #[arg(long, value_name = "SLOTS|none", value_parser = or_none::<u32>)]
        limit: Option<ValueOrNone<u32>>,
        /// How long its jobs wait at most, unless set per job: 20m, 2h; none removes the limit.
        #[arg(long, value_name = "TIME|none", value_parser = patience)]
        give_up: Option<ValueOrNone<Micros>>,
        /// An audience for which its jobs may get identity tokens, besides no other; may be given several times. any allows all.
        #[arg(long = "audience", value_name = "NAME|any")]
        audiences: Vec<String>,
    },
    /// Move a team or project, with everything below it, to another team.
    Move {
        /// Its path.
        path: String,
        /// The path of the team; the root when not given.
        #[arg(
            long,
            default_value = "",
            hide_default_value = true,
            value_name = "TEAM"
        )]
        below: String,
    },
    /// Remove a team or project that holds no places, pools or jobs.
    Remove {
        /// Its path.
        path: String,
    },
}

/// The word for no limit of audiences.
const ANY_AUDIENCE: &str = "any";

/// A value, or the word none.
pub type ValueOrNone<T> = Box<Option<T>>;

fn or_none<T: std::str::FromStr>(text: &str) -> Result<ValueOrNone<T>, String> {
    match text {
        "none" => Ok(Box::new(None)),
        text => match text.parse() {
            Ok(value) => Ok(Box::new(Some(value))),
            Err(_) => Err("give a number, or none".to_owned()),
        },
    }
}

fn patience(text: &str) -> Result<ValueOrNone<Micros>, String> {
    match text {
        "none" => Ok(Box::new(None)),
        text => view::time(text).map(|time| Box::new(Some(time.into()))),
    }
}

/// `pennine place`.
pub async fn place(client: &Client, json: bool, verb: PlaceVerb) -> Result<(), Error> {
    let (path, change) = match verb {
        PlaceVerb::Set {
            path,
            weight,
            limit,
            give_up,
            audiences,
        } => {
            let change = PlaceChange {
                audiences: (!audiences.is_empty()).then(|| {
                    let named = audiences.into_iter();
                    named.filter(|audience| audience != ANY_AUDIENCE).collect()
                }),
                weight,
                limit: limit.map(|limit| *limit),
                give_up_us: give_up.map(|give_up| *give_up),
                parent: None,
            };
            (path, change)
        }
        PlaceVerb::Move { path, below } => {
            let change = PlaceChange {
                parent: Some(below),
                ..PlaceChange::default()
            };
            (path, change)
        }
        PlaceVerb::Remove { path } => {
            client.remove_place(&path).await?;
            return view::line(format!("Removed {path}."));
        }
    };
    let place = client.change_place(&path, &change).await?;
    let kind = match place.kind.as_str() {
        "team" => ThingKind::Team,
        _ => ThingKind::Project,
    };
    yard::remind(client, kind, &place.path).await;
    if json {
        return view::json(&place);
    }
    view::print(&table(std::slice::from_ref(&place)))
}

fn table(places: &[Place]) -> String {
    view::table(
        &["path", "weight", "holds", "limit", "gives up after"],
        places.iter().map(|place| {
            let none = || "none".to_owned();
            vec![
                place.path.clone(),
                place.weight.to_string(),
                place.held.to_string(),
                place.limit.map_or_else(none, |limit| limit.to_string()),
                place.give_up_us.map_or_else(none, view::length),
            ]
        }),
    )
}

/// `pennine team`.
pub async fn team(client: &Client, json: bool, verb: TeamVerb) -> Result<(), Error> {
    match verb {
        TeamVerb::List => list(client.teams().await?, json, "team"),
        TeamVerb::Add { name, parent } => {
            added(client.add_team(&NewTeam { name, parent }).await?, json)
        }
    }
}

/// `pennine project`.
pub async fn project(client: &Client, json: bool, verb: ProjectVerb) -> Result<(), Error> {
    match verb {
        ProjectVerb::List => list(client.projects().await?, json, "project"),
        ProjectVerb::Show { name } => {
            let found = client.project(&name).await?;
            if json {
                return view::json(&found);
            }
            view::print(&project_text(&found))
        }
        ProjectVerb::Add { name, team } => {
            added(client.add_project(&NewProject { name, team }).await?, json)
        }
    }
}

fn list(places: Page<Place>, json: bool, kind: &str) -> Result<(), Error> {
    if json {
        return view::json(&places);
    }
    if places.items.is_empty() {
        return view::line(format!(
            "No {kind}s yet. Add one with: pennine {kind} add NAME"
        ));
    }
    view::print(&table(&places.items))
}

fn project_text(found: &ProjectView) -> String {
    let project = &found.project;
    let jobs = match found.waiting {
        1 => "1 job waits".to_owned(),
        n => format!("{n} jobs wait"),
    };
    let slots = match project.held {
        1 => "1 slot".to_owned(),
        n => format!("{n} slots"),
    };
    let mut text = format!("{}: {jobs}; it uses {slots}\n\n", project.path);
    if found.pools.is_empty() {
        text += "It may use no pools yet.\n";
    } else {
        let rows = found.pools.iter().map(|pool| {
            vec![
                pool.pool.clone(),
                access(pool),
                format!("{} of {}", pool.free, pool.slots),
                pool.waiting.to_string(),
                pool.labels.join(", "),
                pool.machines.join(", "),
            ]
        });
        let heads = ["pool", "access", "free", "its jobs", "labels", "machines"];
        text += &view::table(&heads, rows);
    }
    for pool in found.pools.iter().filter(|pool| !pool.ask.is_empty()) {
        text += &format!("\nFor {}, ask {}\n", pool.pool, pool.ask);
    }
    if !found.out_of_reach.is_empty() {
        text += "\nOut of its reach:\n";
        let rows = found
            .out_of_reach
            .iter()
            .map(|pool| vec![pool.pool.clone(), pool.labels.join(", "), pool.ask.clone()]);
        text += &view::table(&["pool", "labels", "ask"], rows);
    }
    text
}

/// How a project may use a pool, in words.
fn access(pool: &ProjectPool) -> String {
    match pool.access {
        PoolAccess::OfOwner if pool.by.is_empty() => "for all teams".to_owned(),
        PoolAccess::OfOwner => format!("owned by {}", pool.by),
        PoolAccess::Narrowed => format!("narrowed to {}", pool.by),
        PoolAccess::Widened => format!("widened to {}", pool.by),
        PoolAccess::NeedsApproval => "needs approval".to_owned(),
        PoolAccess::OutOfReach => "out of reach".to_owned(),
    }
}

fn added(place: Place, json: bool) -> Result<(), Error> {
    if json {
        view::json(&place)
    } else {
        view::line(format!("Added the {} {}.", place.kind, place.path))
    }
}
