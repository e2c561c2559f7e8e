//! People: accounts, and the roles that they have at places.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, HoldsSecret, created_secret};
use crate::http::body::{JsonBody, Params};
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_core::access::Grant;
use pennine_wire::{
    GrantRemoval, MadeLink, NewLink, NewPerson, Page, Permission, Person, PersonChange, Problem,
};
use serde::Deserialize;
use utoipa::IntoParams;

/// You, and the people who have a role at a place where you manage access.
#[utoipa::path(get, operation_id = "list_people", path = "/people", tag = "access", responses((status = 200, body = Page<Person>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Person>>> {
    Ok(Json(views::people::person::list(&app, &who).await?))
}

/// Add a person with a first role. The answer holds a link with which the person sets a password, this once.
#[utoipa::path(post, operation_id = "add_person", path = "/people", tag = "access", request_body = NewPerson,
    responses((status = 201, body = MadeLink), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewPerson>,
) -> Answer<(StatusCode, HoldsSecret, Json<MadeLink>)> {
    Ok(created_secret(
        operations::people::person::add(&app, &who, new).await?,
    ))
}

/// One person.
#[utoipa::path(get, operation_id = "show_person", path = "/people/{person}", tag = "access",
    params(("person" = String, Path, description = "the name with which the person signs in")),
    responses((status = 200, body = Person), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Person>> {
    Ok(Json(views::people::person::show(&app, &who, &name).await?))
}

/// Change a person's name for others, disable the account or enable it again.
#[utoipa::path(patch, operation_id = "change_person", path = "/people/{person}", tag = "access", request_body = PersonChange,
    params(("person" = String, Path, description = "the name with which the person signs in")),
    responses((status = 200, body = Person), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<PersonChange>,
) -> Answer<Json<Person>> {
    Ok(Json(
        operations::people::person::change(&app, &who, &name, change).await?,
    ))
}

/// Make a link with which a person sets another password. The answer holds it, this once; earlier links are no longer valid.
#[utoipa::path(post, operation_id = "add_person_link", path = "/people/{person}/link", tag = "access", request_body = NewLink,
    params(("person" = String, Path, description = "the name with which the person signs in")),
    responses((status = 201, body = MadeLink), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn link(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(asked): JsonBody<NewLink>,
) -> Answer<(StatusCode, HoldsSecret, Json<MadeLink>)> {
    Ok(created_secret(
        operations::people::person::link(&app, &who, &name, asked).await?,
    ))
}

/// Give a person a role at a place, instead of the one that the person had there.
#[utoipa::path(post, operation_id = "grant_role", path = "/people/{person}/grants", tag = "access", request_body = Grant,
    params(("person" = String, Path, description = "the name with which the person signs in")),
    responses((status = 200, body = Person), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn grant(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(grant): JsonBody<Grant>,
) -> Answer<Json<Person>> {
    Ok(Json(
        operations::people::person::grant(&app, &who, &name, grant).await?,
    ))
}

/// Take the role of a person at a place away.
#[utoipa::path(post, operation_id = "revoke_role", path = "/people/{person}/grants/revoke", tag = "access", request_body = GrantRemoval,
    params(("person" = String, Path, description = "the name with which the person signs in")),
    responses((status = 200, body = Person), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn revoke(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(removal): JsonBody<GrantRemoval>,
) -> Answer<Json<Person>> {
    Ok(Json(
        operations::people::person::revoke(&app, &who, &name, removal).await?,
    ))
}

/// What is asked of a permission.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct Asked {
    /// An action, by its word in the table of docs/access.md: `submit-job`.
    action: String,
    /// The path of a team or project; the root when not given.
    #[serde(default)]
    place: String,
}

/// Whether a person may do something at a place, and by which grant.
#[utoipa::path(get, operation_id = "show_permission", path = "/people/{person}/permission", tag = "access",
    params(("person" = String, Path, description = "the name with which the person signs in"), Asked),
    responses((status = 200, body = Permission), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn permission(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    Params(asked): Params<Asked>,
) -> Answer<Json<Permission>> {
    let Asked { action, place } = asked;
    Ok(Json(
        views::people::person::permission(&app, &who, &name, &action, &place).await?,
    ))
}
