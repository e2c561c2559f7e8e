//! Teams and projects.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::yard::Yard;
use pennine_core::visibility::Visibility;
use pennine_store::{Connection, place};
use pennine_wire::{Page, Place};

pub fn shown(place: place::Place, held: u32) -> Place {
    Place {
        settings_version: place.version(),
        weight: place.weight.max(1).unsigned_abs(),
        limit: place.view().limit,
        give_up_us: place.give_up_us.map(|give_up| give_up.0),
        audiences: place.audiences,
        held,
        id: place.id.0,
        name: place.name,
        path: place.path,
        kind: place.kind,
        created_at: place.created_at.0,
    }
}

/// The one place of these kinds with this path or name that is visible.
pub async fn find(
    connection: &mut Connection,
    sees: &Visibility,
    kinds: &[&str],
    noun: &str,
    text: &str,
) -> Result<place::Place> {
    let mut found = place::find(connection, kinds, text).await?;
    found.retain(|place| sees.includes(&place.path));
    match found.len() {
        0 => Err(ServiceError::unknown(noun, text)),
        1 => Ok(found.remove(0)),
        _ => {
            let paths: Vec<String> = found.into_iter().map(|place| place.path).collect();
            Err(ServiceError::ambiguous(noun, text, &paths))
        }
    }
}

/// The path that a list is narrowed to: that of a project, or of a team with everything below it.
///
/// Errors: an unknown or ambiguous name, or both a project and a team.
pub async fn path(
    connection: &mut Connection,
    sees: &Visibility,
    project: Option<&str>,
    team: Option<&str>,
) -> Result<Option<String>> {
    let (kind, text) = match (project, team) {
        (None, None) => return Ok(None),
        (Some(text), None) => ("project", text),
        (None, Some(text)) => ("team", text),
        (Some(_), Some(_)) => {
            return Err(
                ServiceError::invalid("team", "both a project and a team are given")
                    .remedy("give the project alone"),
            );
        }
    };
    let found = find(connection, sees, &[kind], kind, text).await;
    Ok(Some(found.map_err(|failure| failure.field(kind))?.path))
}

/// The project with this name that the principal may see. What is found for those who see everything is cached for a
/// moment.
pub async fn project(
    app: &App,
    connection: &mut Connection,
    who: &Principal,
    text: &str,
) -> Result<place::Place> {
    if !who.sees.is_whole() {
        return find(connection, &who.sees, &["project"], "project", text).await;
    }
    if let Some(known) = app.projects.get(text) {
        return Ok(known);
    }
    let found = find(connection, &who.sees, &["project"], "project", text).await?;
    app.projects.insert(text.to_owned(), found.clone());
    Ok(found)
}

async fn list(app: &App, who: &Principal, kind: &str) -> Result<Page<Place>> {
    let mut connection = app.store.people().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let places = yard.places.iter().filter(|place| place.kind == kind);
    let places = places.filter(|place| who.sees.includes(&place.path));
    let items = places
        .map(|place| shown(place.clone(), yard.held(&place.path)))
        .collect();
    Ok(Page { items, next: None })
}

/// The teams.
pub async fn teams(app: &App, who: &Principal) -> Result<Page<Place>> {
    list(app, who, "team").await
}

/// The projects.
pub async fn projects(app: &App, who: &Principal) -> Result<Page<Place>> {
    list(app, who, "project").await
}
