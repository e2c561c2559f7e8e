//! Teams and projects.

use crate::access::Principal;
use crate::app::App;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::settings_version::ExpectedVersion;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{NewProject, NewTeam, Page, Place, PlaceChange, Problem, ProjectView};

/// The teams.
#[utoipa::path(get, operation_id = "list_teams", path = "/teams", tag = "tree", responses((status = 200, body = Page<Place>)))]
pub async fn teams(State(app): State<App>, who: Principal) -> Answer<Json<Page<Place>>> {
    Ok(Json(views::people::place::teams(&app, &who).await?))
}

/// Add a team.
#[utoipa::path(post, operation_id = "add_team", path = "/teams", tag = "tree", request_body = NewTeam,
    responses((status = 201, body = Place), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add_team(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewTeam>,
) -> Answer<(StatusCode, Json<Place>)> {
    Ok(created(
        operations::people::place::add_team(&app, &who, new).await?,
    ))
}

/// The projects.
#[utoipa::path(get, operation_id = "list_projects", path = "/projects", tag = "tree", responses((status = 200, body = Page<Place>)))]
pub async fn projects(State(app): State<App>, who: Principal) -> Answer<Json<Page<Place>>> {
    Ok(Json(views::people::place::projects(&app, &who).await?))
}

/// One project: the pools that it may use, by which grant, and whom to ask for the others.
#[utoipa::path(get, operation_id = "show_project", path = "/projects/{project}", tag = "tree",
    params(("project" = String, Path, description = "its path, each / written as %2F, or its name")),
    responses((status = 200, body = ProjectView), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show_project(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<ProjectView>> {
    Ok(Json(views::people::project::show(&app, &who, &name).await?))
}

/// Add a project to a team.
#[utoipa::path(post, operation_id = "add_project", path = "/projects", tag = "tree", request_body = NewProject,
    responses((status = 201, body = Place), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add_project(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewProject>,
) -> Answer<(StatusCode, Json<Place>)> {
    Ok(created(
        operations::people::place::add_project(&app, &who, new).await?,
    ))
}

/// Change a team's or project's weight, limit or patience, or move it to another team.
#[utoipa::path(patch, operation_id = "change_place", path = "/places/{path}", tag = "tree", request_body = PlaceChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("path" = String, Path, description = "its path, each / written as %2F, or its name")),
    responses((status = 200, body = Place), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    Path(path): Path<String>,
    JsonBody(change): JsonBody<PlaceChange>,
) -> Answer<Json<Place>> {
    Ok(Json(
        operations::people::place::change(&app, &who, &path, change, &expected).await?,
    ))
}

/// Remove a team or project that holds nothing: no places, pools or jobs.
#[utoipa::path(delete, operation_id = "remove_place", path = "/places/{path}", tag = "tree",
    params(("path" = String, Path, description = "its path, each / written as %2F, or its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(path): Path<String>,
) -> Answer<StatusCode> {
    operations::people::place::remove(&app, &who, &path).await?;
    Ok(StatusCode::NO_CONTENT)
}
