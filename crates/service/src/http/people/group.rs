//! Roles of the people in a group of the OpenID provider.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::Answer;
use crate::http::body::JsonBody;
use crate::operations;
use crate::views;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use pennine_wire::{GroupGrant, GroupGrantRemoval, NewGroupGrant, Page, Problem};

/// The roles of groups at the places where you manage access.
#[utoipa::path(get, operation_id = "list_group_grants", path = "/groups", tag = "people",
    responses((status = 200, body = Page<GroupGrant>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<GroupGrant>>> {
    Ok(Json(views::people::group::list(&app, &who).await?))
}

/// Grant a role to the people in a group, in place of the one that it has at the same place.
#[utoipa::path(post, operation_id = "grant_to_group", path = "/groups", tag = "people", request_body = NewGroupGrant,
    responses((status = 200, body = GroupGrant), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn grant(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewGroupGrant>,
) -> Answer<Json<GroupGrant>> {
    Ok(Json(
        operations::people::group::grant(&app, &who, new).await?,
    ))
}

/// Take the role of a group at a place away.
#[utoipa::path(post, operation_id = "revoke_from_group", path = "/groups/revoke", tag = "people", request_body = GroupGrantRemoval,
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn revoke(
    State(app): State<App>,
    who: Principal,
    JsonBody(removal): JsonBody<GroupGrantRemoval>,
) -> Answer<StatusCode> {
    operations::people::group::revoke(&app, &who, removal).await?;
    Ok(StatusCode::NO_CONTENT)
}
