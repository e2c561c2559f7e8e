//! Pools.

use super::answer::{Answer, Failure, created};
use super::auth::{Principal, Role};
use super::body::{JsonBody, check_labels, check_name};
use super::places;
use super::yard::{self, Yard};
use crate::app::App;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::id::PoolId;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::Runner;
use pennine_store::{Db, audit, place, pool};
use pennine_wire::{NewPool, Page, Pool, Problem};
use serde_json::json;

fn shown(owned: &OwnedPool, runners: &[Runner]) -> Pool {
    let mine = || {
        runners
            .iter()
            .filter(|runner| runner.pool_id == owned.pool.id)
    };
    let (slots, free) = yard::slots(mine());
    Pool {
        id: owned.pool.id.0,
        name: owned.pool.name.clone(),
        description: owned.pool.description.clone(),
        labels: owned.pool.labels.clone(),
        open: owned.pool.open,
        owner: owned.owner.clone(),
        runners: yard::counts(mine()),
        slots,
        free,
        created_at: owned.pool.created_at.0,
    }
}

/// The pools.
#[utoipa::path(get, operation_id = "list_pools", path = "/pools", tag = "yard", responses((status = 200, body = Page<Pool>)))]
pub async fn list(State(app): State<App>, _: Principal) -> Answer<Json<Page<Pool>>> {
    let mut connection = app.store.get().await?;
    let yard = Yard::read(&mut connection).await?;
    let items = yard
        .pools
        .iter()
        .map(|pool| shown(pool, &yard.runners))
        .collect();
    Ok(Json(Page { items, next: None }))
}

/// One pool.
#[utoipa::path(get, operation_id = "show_pool", path = "/pools/{pool}", tag = "yard", params(("pool" = String, Path, description = "its name")),
    responses((status = 200, body = Pool), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    _: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Pool>> {
    let mut connection = app.store.get().await?;
    let yard = Yard::read(&mut connection).await?;
    let found = yard.pools.iter().find(|pool| pool.pool.name == name);
    found
        .map(|pool| Json(shown(pool, &yard.runners)))
        .ok_or_else(|| Failure::unknown("pool", &name))
}

/// Add a pool.
#[utoipa::path(post, operation_id = "add_pool", path = "/pools", tag = "yard", request_body = NewPool,
    responses((status = 201, body = Pool), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewPool>,
) -> Answer<(StatusCode, Json<Pool>)> {
    who.require(Role::Operator)?;
    check_name("name", &new.name)?;
    let labels = check_labels("labels", &new.labels)?;
    if new.description.len() > 500 {
        return Err(Failure::invalid(
            "description",
            "a description has at most 500 bytes",
        ));
    }
    let mut connection = app.store.get().await?;
    let owner = match new.owner.as_deref() {
        None | Some("") => place::root(&mut connection).await?,
        Some(path) => places::find(&mut connection, &["team", "project"], "team", path)
            .await
            .map_err(|f| f.field("owner"))?,
    };
    let row = pool::Pool {
        id: Db(PoolId(app.fresh_id())),
        name: new.name.clone(),
        description: new.description,
        owner_id: owner.id,
        labels,
        open: new.open,
        policy_version: 1,
        created_at: Db(app.clock.now()),
    };
    match pool::insert(&mut connection, &row, &who.name).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let said = format!("there is a pool {:?} already", new.name);
            return Err(
                Failure::conflict("exists-already", "The name is taken", said).field("name"),
            );
        }
        other => other?,
    }
    let detail = json!({"labels": row.labels, "open": row.open, "owner": owner.path});
    audit::write(
        &mut connection,
        row.created_at.0,
        &who.name,
        "pool.add",
        &row.name,
        detail,
    )
    .await?;
    app.feed.kick();
    Ok(created(shown(
        &OwnedPool {
            pool: row,
            owner: owner.path,
        },
        &[],
    )))
}
