//! Environment variables of the jobs of a place or of a pool.

use super::place;
use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use pennine_store::variable::{self, Variable as Row};
use pennine_wire::{Page, Variable};
use serde::Deserialize;
use utoipa::IntoParams;

/// Which variables are asked for.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct VariableParams {
    /// Only what this project's jobs get, from it and from the places above it.
    project: Option<String>,
}

fn shown(row: Row) -> Variable {
    Variable {
        place: row.place,
        pool: row.pool,
        name: row.name,
        value: row.value,
        set_at: row.set_at.0,
        set_by: row.set_by,
    }
}

/// The variables of the visible places and their pools; or the ones that a visible project's jobs get, also from places above it.
///
/// # Errors
/// Unknown where the project is not visible.
pub async fn list(app: &App, who: &Principal, asked: VariableParams) -> Result<Page<Variable>> {
    let mut connection = app.store.people().await?;
    let rows = match &asked.project {
        None => variable::list(&mut connection, who.sees.paths()).await?,
        Some(name) => {
            let found = place::project(app, &mut connection, who, name).await;
            let path = found.map_err(|error| error.field("project"))?.path;
            variable::in_effect(&mut connection, &path).await?
        }
    };
    Ok(Page {
        items: rows.into_iter().map(shown).collect(),
        next: None,
    })
}
