//! Pools.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::settings_version::ExpectedVersion;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{
    ApprovalWithdrawal, ChangedPool, NewPool, Page, Pool, PoolApproval, PoolChange, PoolRemoval,
    Problem,
};

/// The pools.
#[utoipa::path(get, operation_id = "list_pools", path = "/pools", tag = "yard", responses((status = 200, body = Page<Pool>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Pool>>> {
    Ok(Json(views::pools::pool::list(&app, &who).await?))
}

/// One pool.
#[utoipa::path(get, operation_id = "show_pool", path = "/pools/{pool}", tag = "yard", params(("pool" = String, Path, description = "its name")),
    responses((status = 200, body = Pool), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Pool>> {
    Ok(Json(views::pools::pool::show(&app, &who, &name).await?))
}

/// Add a pool.
#[utoipa::path(post, operation_id = "add_pool", path = "/pools", tag = "yard", request_body = NewPool,
    responses((status = 201, body = Pool), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewPool>,
) -> Answer<(StatusCode, Json<Pool>)> {
    Ok(created(
        operations::pools::pool::add(&app, &who, new).await?,
    ))
}

/// Change a pool: its owner, reach, labels, openness, or whether it is paused. Where jobs would be left that nothing can
/// run, it is refused with who they are, unless told to go on.
#[utoipa::path(patch, operation_id = "change_pool", path = "/pools/{pool}", tag = "yard", request_body = PoolChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("pool" = String, Path, description = "its name")),
    responses((status = 200, body = ChangedPool), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<PoolChange>,
) -> Answer<Json<ChangedPool>> {
    Ok(Json(
        operations::pools::pool::change(&app, &who, &name, change, &expected).await?,
    ))
}

/// Remove a pool. Its history is kept, and its name becomes free. Refused while the pool has runners, unless the
/// request retires them, and when jobs would remain that no other pool can run, unless the request confirms that.
#[utoipa::path(post, operation_id = "remove_pool", path = "/pools/{pool}/remove", tag = "yard", request_body = PoolRemoval,
    params(("pool" = String, Path, description = "its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(how): JsonBody<PoolRemoval>,
) -> Answer<StatusCode> {
    operations::pools::pool::remove(&app, &who, &name, how).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Approve a project's use of a pool for good, or that of one job that waits for approval.
#[utoipa::path(post, operation_id = "approve_use", path = "/pools/{pool}/approvals", tag = "yard", request_body = PoolApproval,
    params(("pool" = String, Path, description = "its name")),
    responses((status = 200, body = Pool), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn approve(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(approval): JsonBody<PoolApproval>,
) -> Answer<Json<Pool>> {
    let pool = operations::pools::approval::approve(&app, &who, &name, approval).await?;
    Ok(Json(pool))
}

/// Withdraw the approval of a project's use of a pool. Its jobs that run go on.
#[utoipa::path(post, operation_id = "withdraw_approval", path = "/pools/{pool}/approvals/withdraw", tag = "yard",
    request_body = ApprovalWithdrawal, params(("pool" = String, Path, description = "its name")),
    responses((status = 200, body = Pool), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn withdraw_approval(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(withdrawal): JsonBody<ApprovalWithdrawal>,
) -> Answer<Json<Pool>> {
    let pool = operations::pools::approval::withdraw(&app, &who, &name, withdrawal).await?;
    Ok(Json(pool))
}
