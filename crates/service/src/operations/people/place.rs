//! Teams and projects.

use crate::access::{Principal, place_above};
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::validation::check_name;
use crate::views::people::place::{find, shown};
use crate::yard::Yard;
use pennine_core::access::Action;
use pennine_core::dispatch::below;
use pennine_core::id::PlaceId;
use pennine_core::identity::check_audience;
use pennine_core::time::Moment;
use pennine_store::change_lock::lock_for_change;
use pennine_store::{Connection, Db, audit, place};
use pennine_wire::{NewProject, NewTeam, Place, PlaceChange};
use serde_json::json;

/// The most audiences that a place lists.
const MOST_AUDIENCES: usize = 50;

async fn add(
    app: &App,
    who: &Principal,
    kind: &str,
    name: String,
    parent: place::Place,
) -> Result<Place> {
    let permit = who.require(Action::AddPlace, &parent.path)?;
    check_name("name", &name)?;
    let path = if parent.path.is_empty() {
        name.clone()
    } else {
        format!("{}/{name}", parent.path)
    };
    let new = place::Place {
        id: Db(PlaceId(app.fresh_id())),
        kind: kind.to_owned(),
        name,
        path: path.clone(),
        parent_id: Some(parent.id.0.0),
        created_at: Db(app.clock.now()),
        weight: 1,
        slot_limit: None,
        give_up_us: None,
        audiences: Vec::new(),
    };
    commit(app, async |connection| {
        match place::insert(connection, &new).await {
            Err(pennine_store::Error::Duplicate(_)) => {
                let message = format!("a team or project {path:?} already exists");
                return Err(ServiceError::taken(message));
            }
            other => other?,
        }
        audit::write(
            connection,
            new.created_at.0,
            &permit,
            &format!("{kind}.add"),
            &path,
            json!({}),
        )
        .await?;
        app.projects.invalidate_all();
        Ok(shown(new, 0))
    })
    .await
}

/// Add a team.
pub async fn add_team(app: &App, who: &Principal, new: NewTeam) -> Result<Place> {
    let mut connection = app.store.people().await?;
    let parent = match new.parent.as_deref() {
        None | Some("") => place::root(&mut connection).await?,
        Some(path) => find(&mut connection, &who.sees, &["team"], "team", path)
            .await
            .map_err(|f| f.field("parent"))?,
    };
    drop(connection);
    add(app, who, "team", new.name, parent).await
}

/// Add a project to a team.
pub async fn add_project(app: &App, who: &Principal, new: NewProject) -> Result<Place> {
    let mut connection = app.store.people().await?;
    let team = find(&mut connection, &who.sees, &["team"], "team", &new.team)
        .await
        .map_err(|f| f.field("team"))?;
    drop(connection);
    add(app, who, "project", new.name, team).await
}

/// A change of a place's weight, limit, patience or team, checked.
fn checked(mut place: place::Place, change: &PlaceChange) -> Result<place::Place> {
    if let Some(weight) = change.weight {
        place.weight = i32::try_from(weight)
            .ok()
            .filter(|weight| (1..=1000).contains(weight))
            .ok_or_else(|| ServiceError::invalid("weight", "a weight is 1 to 1000"))?;
    }
    if let Some(limit) = change.limit {
        place.slot_limit = match limit {
            None => None,
            Some(limit) => Some(i32::try_from(limit).map_err(|_| {
                ServiceError::invalid("limit", "a limit is a number of slots; null removes it")
            })?),
        };
    }
    if let Some(give_up) = change.give_up_us {
        if give_up.is_some_and(|give_up| give_up.0 == 0) {
            return Err(ServiceError::invalid(
                "give_up_us",
                "the time is more than 0; null means no limit",
            ));
        }
        place.give_up_us = give_up.map(Db);
    }
    if let Some(audiences) = &change.audiences {
        if audiences.len() > MOST_AUDIENCES {
            let message = format!("at most {MOST_AUDIENCES} audiences");
            return Err(ServiceError::invalid("audiences", message));
        }
        for audience in audiences {
            check_audience(audience)
                .map_err(|error| ServiceError::invalid("audiences", error.to_string()))?;
        }
        place.audiences.clone_from(audiences);
    }
    Ok(place)
}

/// Change a team's or project's weight, limit or patience, or move it to another team.
pub async fn change(
    app: &App,
    who: &Principal,
    path: &str,
    change: PlaceChange,
    expected: &ExpectedVersion,
) -> Result<Place> {
    commit(app, async |connection| {
        lock_for_change(connection, "place", "all").await?;
        let found = find(
            connection,
            &who.sees,
            &["team", "project"],
            "team or project",
            path,
        )
        .await?;
        let permit = who.require(Action::ChangePlace, place_above(&found.path))?;
        expected
            .check(connection, &found, "place.change", path)
            .await?;
        let mut changed = checked(found, &change)?;
        let at = app.clock.now();
        place::set(connection, &changed, at).await?;
        if let Some(parent) = &change.parent {
            changed = move_below(connection, who, changed, parent, at).await?;
        }
        let detail =
            json!({"weight": changed.weight, "limit": changed.slot_limit, "path": changed.path, "audiences": changed.audiences});
        audit::write(connection, at, &permit, "place.change", path, detail).await?;
        app.projects.invalidate_all();
        let held = Yard::read(connection, app.clock.now())
            .await?
            .held(&changed.path);
        Ok(shown(changed, held))
    })
    .await
}

async fn move_below(
    connection: &mut Connection,
    who: &Principal,
    place: place::Place,
    parent: &str,
    at: Moment,
) -> Result<place::Place> {
    let parent = match parent {
        "" => place::root(connection).await?,
        path => find(connection, &who.sees, &["team"], "team", path)
            .await
            .map_err(|failure| failure.field("parent"))?,
    };
    who.require(Action::AddPlace, &parent.path)?;
    if below(&place.path, &parent.path) {
        let message = format!(
            "{} is {} or is below it: a team cannot contain itself",
            parent.path, place.path
        );
        return Err(ServiceError::invalid("parent", message).remedy("choose a team outside it"));
    }
    match place::move_below(connection, &place, &parent, at).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let message = format!("{:?} already contains {:?}", parent.path, place.name);
            Err(ServiceError::taken(message).field("parent"))
        }
        other => Ok(other?),
    }
}

/// Remove a team or project that holds nothing: no places, pools or jobs.
pub async fn remove(app: &App, who: &Principal, path: &str) -> Result<()> {
    commit(app, async |connection| {
        let found = find(
            connection,
            &who.sees,
            &["team", "project"],
            "team or project",
            path,
        )
        .await?;
        let permit = who.require(Action::RemovePlace, place_above(&found.path))?;
        let contents = place::contents(connection, &found).await?;
        let parts = [
            (contents.places, "place", "remove them first"),
            (contents.pools, "pool", "change their owner first"),
            (contents.tokens, "token", "revoke them first"),
            (
                contents.jobs,
                "job",
                "its history needs it; set its limit to 0 to close it",
            ),
        ];
        if let Some((count, noun, remedy)) = parts.into_iter().find(|(count, ..)| *count > 0) {
            let s = if count == 1 { "" } else { "s" };
            let message = format!("{} has {count} {noun}{s}", found.path);
            return Err(ServiceError::conflict("not-empty", "Not empty", message).remedy(remedy));
        }
        let at = app.clock.now();
        let ended = place::belongings(connection, found.id.0).await?;
        place::remove(connection, &found, at).await?;
        let detail = json!({"ended": ended});
        audit::write(connection, at, &permit, "place.remove", &found.path, detail).await?;
        app.projects.invalidate_all();
        app.principals.invalidate_all();
        Ok(())
    })
    .await
}
