//! Suppliers as they are set: from their rows to what can be asked, and the hands that ask.

pub mod calls;
pub mod kind;

use crate::app::App;
use kind::{SupplierKind, UnknownKind};
use pennine_core::capacity::SupplierView;
use pennine_core::id::MachineId;
use pennine_store::supplier::Supplier as Row;
use pennine_suppliers::cloud::Cloud;
use pennine_suppliers::command::Command;
use pennine_suppliers::engine::Engine;
use pennine_suppliers::local::Local;
use pennine_suppliers::{Offer, Supplier};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

/// How long a machine may take to join when neither the supplier nor a person says it.
const BOOT_LIMIT: Duration = Duration::from_secs(300);

/// The name under which a supplier's secret is locked.
pub fn lock_name(supplier: &str, key: &str) -> String {
    format!("supplier/{supplier}/{key}")
}

/// What can be asked, from a supplier's row.
pub fn open(app: &App, row: &Row) -> Result<Arc<dyn Supplier>, String> {
    let mut settings = row.settings.0.clone();
    for (key, locked) in &row.secrets.0 {
        let opened = app.encryption.open(&lock_name(&row.name, key), locked);
        let opened =
            opened.map_err(|error| format!("its secret {key:?} cannot be read: {error}"))?;
        settings.insert(key.clone(), opened);
    }
    make(app, &row.name, &row.kind, settings)
}

/// What can be asked, from a kind and its settings.
pub fn make(
    app: &App,
    name: &str,
    kind: &str,
    settings: BTreeMap<String, String>,
) -> Result<Arc<dyn Supplier>, String> {
    let installation = app.installation.id;
    let kind: SupplierKind = kind
        .parse()
        .map_err(|error: UnknownKind| error.to_string())?;
    Ok(match kind {
        SupplierKind::Local => {
            let data = std::path::absolute(&app.config.data_dir).map_err(|e| e.to_string())?;
            let folder = data.join("machines").join(name);
            let program = app.programs.own().ok_or(
                "this replica has no pennine-runner: put it beside pennined, or name its folder in programs_dir",
            )?;
            Arc::new(Local::new(folder, data, program, installation, &settings)?)
        }
        SupplierKind::Engine => Arc::new(Engine::new(installation, app.programs.own(), settings)?),
        SupplierKind::Command => Arc::new(Command::new(installation, settings)?),
        SupplierKind::StandinCloud => Arc::new(Cloud::new(installation, &settings, &app.outgoing)?),
    })
}

/// What a supplier said that it can do, when it was last asked.
pub fn offer(row: &Row) -> Offer {
    let told = row.offer.clone().map(serde_json::from_value);
    told.and_then(Result::ok).unwrap_or_default()
}

/// The supplier as the keeper sees it.
pub fn maker(row: &Row) -> SupplierView {
    let offer = offer(row);
    let own = row.quota.map(|quota| quota.max(0).unsigned_abs());
    let quota = match (own, offer.quota) {
        (Some(own), Some(its)) => Some(own.min(its)),
        (own, its) => own.or(its),
    };
    SupplierView {
        id: row.id.0,
        name: row.name.clone(),
        quota,
        boot_limit: row
            .boot_limit_us
            .map(|limit| Duration::from(limit.0))
            .or(offer.boot_limit_us.map(Duration::from))
            .unwrap_or(BOOT_LIMIT),
    }
}

/// Asks a supplier for the end of what a machine printed; empty when it cannot say.
pub async fn console(supplier: &dyn Supplier, machine: MachineId) -> String {
    let asked = tokio::time::timeout(Duration::from_secs(5), supplier.console(machine)).await;
    match asked {
        Ok(Ok(text)) => text,
        _ => String::new(),
    }
}
