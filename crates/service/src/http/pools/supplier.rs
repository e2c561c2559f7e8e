//! Suppliers: added, changed, checked, removed. Their secrets go in and are never shown.

use crate::access::Principal;
use crate::app::App;
use crate::error::ServiceError;
use crate::http::answer::{Answer, created};
use crate::http::body::JsonBody;
use crate::settings_version::ExpectedVersion;
use crate::{operations, views};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use pennine_wire::{
    NewSupplier, Page, Problem, Supplier, SupplierChange, SupplierCheck, SupplierChecked,
};

/// The suppliers.
#[utoipa::path(get, operation_id = "list_suppliers", path = "/suppliers", tag = "machines", responses((status = 200, body = Page<Supplier>)))]
pub async fn list(State(app): State<App>, who: Principal) -> Answer<Json<Page<Supplier>>> {
    Ok(Json(views::pools::supplier::list(&app, &who).await?))
}

/// One supplier.
#[utoipa::path(get, operation_id = "show_supplier", path = "/suppliers/{supplier}", tag = "machines",
    params(("supplier" = String, Path, description = "its name")),
    responses((status = 200, body = Supplier), (status = 404, body = Problem, content_type = "application/problem+json")))]
pub async fn show(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<Json<Supplier>> {
    Ok(Json(views::pools::supplier::show(&app, &who, &name).await?))
}

/// Add a supplier.
#[utoipa::path(post, operation_id = "add_supplier", path = "/suppliers", tag = "machines", request_body = NewSupplier,
    responses((status = 201, body = Supplier), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn add(
    State(app): State<App>,
    who: Principal,
    JsonBody(new): JsonBody<NewSupplier>,
) -> Answer<(StatusCode, Json<Supplier>)> {
    Ok(created(
        operations::pools::supplier::add(&app, &who, new).await?,
    ))
}

/// Change a supplier's settings and secrets.
#[utoipa::path(patch, operation_id = "change_supplier", path = "/suppliers/{supplier}", tag = "machines", request_body = SupplierChange,
    params(("If-Match" = Option<String>, Header, description = "the version that was read; refused with 412 where it is another by now"), ("supplier" = String, Path, description = "its name")),
    responses((status = 200, body = Supplier), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn change(
    State(app): State<App>,
    who: Principal,
    expected: ExpectedVersion,
    Path(name): Path<String>,
    JsonBody(change): JsonBody<SupplierChange>,
) -> Answer<Json<Supplier>> {
    Ok(Json(
        operations::pools::supplier::change(&app, &who, &name, change, &expected).await?,
    ))
}

/// Remove a supplier that no pool uses and that has no machines on record.
#[utoipa::path(delete, operation_id = "remove_supplier", path = "/suppliers/{supplier}", tag = "machines",
    params(("supplier" = String, Path, description = "its name")),
    responses((status = 204), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn remove(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
) -> Answer<StatusCode> {
    operations::pools::supplier::remove(&app, &who, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Check a supplier: what it offers, a trial machine that is ordered, says what it is, and is removed. Takes up to two
/// minutes.
#[utoipa::path(post, operation_id = "check_supplier", path = "/suppliers/{supplier}/check", tag = "machines", request_body = SupplierCheck,
    params(("supplier" = String, Path, description = "its name")),
    responses((status = 200, body = SupplierChecked), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn check(
    State(app): State<App>,
    who: Principal,
    Path(name): Path<String>,
    JsonBody(how): JsonBody<SupplierCheck>,
) -> Answer<Json<SupplierChecked>> {
    // A task of its own: where the client goes away, the trial machine is removed all the same.
    let check = async move { operations::pools::supplier::check(&app, &who, &name, how).await };
    let checked = tokio::spawn(check).await;
    Ok(Json(checked.map_err(|e| ServiceError::ours(&e))??))
}
