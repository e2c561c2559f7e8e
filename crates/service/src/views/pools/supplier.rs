//! Suppliers: added, changed, checked, removed. Their secrets go in and are never shown.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::supplier_calls;
use pennine_store::supplier::{self, Supplier as Row};
use pennine_store::{Connection, machine, pool};
use pennine_wire::{Page, Supplier, SupplierFailure};

pub async fn shown(connection: &mut Connection, rows: &[Row]) -> Result<Vec<Supplier>> {
    let machines = machine::existing(connection).await?;
    let pools = pool::list(connection).await?;
    Ok(rows
        .iter()
        .map(|row| Supplier {
            settings_version: row.version(),
            name: row.name.clone(),
            kind: row.kind.clone(),
            settings: row.settings.0.clone(),
            secrets: row.secrets.0.keys().cloned().collect(),
            quota: row.quota.map(|quota| quota.max(0).unsigned_abs()),
            boot_limit_us: row.boot_limit_us.map(|limit| limit.0),
            offer: row.offer.as_ref().map(|_| supplier_calls::offer(row)),
            failure: row
                .failure
                .clone()
                .zip(row.failing_since)
                .zip(row.retry_at)
                .map(|((message, since), retry_at)| SupplierFailure {
                    message,
                    since: since.0,
                    retry_at: retry_at.0,
                }),
            machines: u32::try_from(
                machines
                    .iter()
                    .filter(|machine| machine.supplier_id == row.id)
                    .count(),
            )
            .unwrap_or(u32::MAX),
            pools: pools
                .iter()
                .filter(|pool| {
                    pool.supply()
                        .is_some_and(|supply| supply.supplier == row.name)
                })
                .map(|pool| pool.pool.name.clone())
                .collect(),
            created_at: row.created_at.0,
            created_by: row.created_by.clone(),
        })
        .collect())
}

pub async fn one(connection: &mut Connection, name: &str) -> Result<Supplier> {
    let row = find(connection, name).await?;
    let mut shown = shown(connection, &[row]).await?;
    shown
        .pop()
        .ok_or_else(|| ServiceError::unknown("supplier", name))
}

pub async fn find(connection: &mut Connection, name: &str) -> Result<Row> {
    supplier::find(connection, name)
        .await?
        .ok_or_else(|| ServiceError::unknown("supplier", name))
}

/// The suppliers, for those who see the whole installation.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Supplier>> {
    if !who.sees.is_whole() {
        return Ok(Page {
            items: Vec::new(),
            next: None,
        });
    }
    let mut connection = app.store.people().await?;
    let rows = supplier::list(&mut connection).await?;
    let items = shown(&mut connection, &rows).await?;
    Ok(Page { items, next: None })
}

/// One supplier.
pub async fn show(app: &App, who: &Principal, name: &str) -> Result<Supplier> {
    if !who.sees.is_whole() {
        return Err(ServiceError::unknown("supplier", name));
    }
    let mut connection = app.store.people().await?;
    one(&mut connection, name).await
}
