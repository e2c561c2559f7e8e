//! A person's own account.

use crate::access::{Origin, Principal};
use crate::app::App;
use crate::http::answer::{Answer, HoldsSecret, created_secret};
use crate::http::body::JsonBody;
use crate::operations::people::account as operations;
use crate::views;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{
    Account, NewSecondFactor, PasswordChange, PasswordProof, Problem, RecoveryCodes,
    SecondFactorCode,
};
use uuid::Uuid;

/// Your account, where you are signed in as a person.
#[utoipa::path(get, operation_id = "show_account", path = "/account", tag = "session",
    responses((status = 200, body = Account), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn show(State(app): State<App>, who: Principal) -> Answer<Json<Account>> {
    Ok(Json(views::people::person::account(&app, &who).await?))
}

/// Change your password. Your other sign-ins end.
#[utoipa::path(post, operation_id = "change_password", path = "/account/password", tag = "session", request_body = PasswordChange,
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change_password(
    State(app): State<App>,
    who: Principal,
    origin: Origin,
    JsonBody(change): JsonBody<PasswordChange>,
) -> Answer<StatusCode> {
    operations::change_password(&app, &who, change, &origin).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Begin a second factor. It counts once it is confirmed with a code.
#[utoipa::path(post, operation_id = "begin_second_factor", path = "/account/second-factor", tag = "session", request_body = PasswordProof,
    responses((status = 201, body = NewSecondFactor), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn begin_second_factor(
    State(app): State<App>,
    who: Principal,
    origin: Origin,
    JsonBody(proof): JsonBody<PasswordProof>,
) -> Answer<(StatusCode, HoldsSecret, Json<NewSecondFactor>)> {
    let made = operations::begin_second_factor(&app, &who, &proof.password, &origin).await?;
    Ok(created_secret(made))
}

/// Confirm the second factor with its first code: from now on each sign-in needs one. The answer holds recovery codes, this
/// once.
#[utoipa::path(post, operation_id = "confirm_second_factor", path = "/account/second-factor/confirm", tag = "session", request_body = SecondFactorCode,
    responses((status = 201, body = RecoveryCodes), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn confirm_second_factor(
    State(app): State<App>,
    who: Principal,
    JsonBody(sent): JsonBody<SecondFactorCode>,
) -> Answer<(StatusCode, HoldsSecret, Json<RecoveryCodes>)> {
    let codes = operations::confirm_second_factor(&app, &who, &sent.code).await?;
    Ok(created_secret(codes))
}

/// Remove the second factor.
#[utoipa::path(post, operation_id = "remove_second_factor", path = "/account/second-factor/remove", tag = "session", request_body = PasswordProof,
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove_second_factor(
    State(app): State<App>,
    who: Principal,
    origin: Origin,
    JsonBody(proof): JsonBody<PasswordProof>,
) -> Answer<StatusCode> {
    operations::remove_second_factor(&app, &who, &proof.password, &origin).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// End one of your sign-ins.
#[utoipa::path(delete, operation_id = "end_session", path = "/account/sessions/{session}", tag = "session",
    params(("session" = Uuid, Path, description = "its id")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn end_session(
    State(app): State<App>,
    who: Principal,
    Path(session): Path<Uuid>,
) -> Answer<StatusCode> {
    operations::end_session(&app, &who, session).await?;
    Ok(StatusCode::NO_CONTENT)
}
