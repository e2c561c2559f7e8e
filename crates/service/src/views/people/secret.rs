//! Secrets of the jobs of a place or of a pool, without their values.

use super::place;
use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use pennine_store::secret::{self, Secret as Row};
use pennine_wire::{Page, Secret};
use serde::Deserialize;
use utoipa::IntoParams;

/// Which secrets are asked for.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct SecretParams {
    /// Only what this project's jobs may name, from it and from the places above it.
    project: Option<String>,
}

pub fn shown(row: Row) -> Secret {
    Secret {
        place: row.place,
        pool: row.pool,
        name: row.name,
        version: row.version.max(0).unsigned_abs(),
        reference: row.reference,
        pools: row.pools,
        set_at: row.set_at.0,
        set_by: row.set_by,
        used_at: row.used_at.map(|at| at.0),
    }
}

/// The secrets of the visible places and their pools; or the ones that a visible project's jobs may name, also from places above it.
///
/// # Errors
/// Unknown where the project is not visible.
pub async fn list(app: &App, who: &Principal, asked: SecretParams) -> Result<Page<Secret>> {
    let mut connection = app.store.people().await?;
    let rows = match &asked.project {
        None => secret::list(&mut connection, who.sees.paths()).await?,
        Some(name) => {
            let found = place::project(app, &mut connection, who, name).await;
            let path = found.map_err(|error| error.field("project"))?.path;
            secret::in_effect(&mut connection, &path).await?
        }
    };
    let items = rows.into_iter().map(|row| {
        let mut one = shown(row);
        // What the outside store calls it is its place's affair.
        if !who.sees.includes(&one.place) {
            one.reference = one.reference.map(|_| String::new());
        }
        one
    });
    Ok(Page {
        items: items.collect(),
        next: None,
    })
}
