//! Suppliers: added, changed, checked, removed. Their secrets go in and are never shown.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::supplier_calls::kind::{SupplierKind, UnknownKind};
use crate::validation::check_name;
use crate::views::pools::supplier::{find, one};
use crate::{secret, supplier_calls};
use pennine_core::access::Action;
use pennine_core::id::{MachineId, SupplierId};
use pennine_core::time::{Micros, spoken};
use pennine_store::change_lock::lock_for_change;
use pennine_store::supplier::{self, Supplier as Row};
use pennine_store::types::Json as Jsonb;
use pennine_store::{Connection, Db, audit, trial};
use pennine_suppliers::{Join, Order};
use pennine_wire::{
    CheckStep, NewSupplier, Supplier, SupplierChange, SupplierCheck, SupplierChecked,
};
use serde_json::json;
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// The longest wait for a trial machine, so that the request is answered in time.
const TRIAL: Duration = Duration::from_secs(110);

/// How long a supplier that is added has to say what it can do.
const FIRST_OFFER: Duration = Duration::from_secs(5);

/// Checks what was set, all of it together.
fn check_settings(
    app: &App,
    name: &str,
    kind: &str,
    settings: &BTreeMap<String, String>,
    secrets: &BTreeMap<String, String>,
) -> Result<()> {
    let known: SupplierKind = kind
        .parse()
        .map_err(|error: UnknownKind| ServiceError::invalid("kind", error.to_string()))?;
    let settable = known.settings();
    for key in settings.keys().chain(secrets.keys()) {
        if !known.takes_any() && !settable.iter().any(|(one, _)| one == key) {
            let all: Vec<String> = settable
                .iter()
                .map(|(key, message)| format!("{key} ({message})"))
                .collect();
            let message = format!(
                "unknown setting {key:?} of {kind}; known: {}",
                all.join(", ")
            );
            return Err(ServiceError::invalid("settings", message));
        }
    }
    for (key, value) in settings.iter().chain(secrets) {
        if key.len() > 100 || value.len() > 20_000 {
            return Err(ServiceError::invalid(
                "settings",
                "a setting's name has up to 100 characters, its value up to 20000",
            ));
        }
    }
    let mut all = settings.clone();
    all.extend(secrets.clone());
    supplier_calls::make(app, name, kind, all)
        .map_err(|message| ServiceError::invalid("settings", message))?;
    Ok(())
}

fn locked(
    app: &App,
    name: &str,
    secrets: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>> {
    let lock = |(key, secret): (&String, &String)| {
        let locked = app
            .encryption
            .lock(&supplier_calls::lock_name(name, key), secret)?;
        Some((key.clone(), locked))
    };
    let locked: Option<_> = secrets.iter().map(lock).collect();
    locked.ok_or_else(|| {
        ServiceError::ours(&std::io::Error::other("a secret could not be encrypted"))
    })
}

fn check_limits(
    quota: Option<u32>,
    boot: Option<Micros>,
) -> Result<(Option<i32>, Option<Db<Micros>>)> {
    let quota = match quota.map(i32::try_from) {
        Some(Err(_)) => {
            return Err(ServiceError::invalid(
                "quota",
                "the number of machines is out of range",
            ));
        }
        Some(Ok(quota)) => Some(quota),
        None => None,
    };
    if boot.is_some_and(|limit| limit.0 == 0 || Duration::from(limit) > Duration::from_secs(86_400))
    {
        let message = "the boot limit is more than 0 and at most a day";
        return Err(ServiceError::invalid("boot_limit_us", message));
    }
    Ok((quota, boot.map(Db)))
}

/// Add a supplier.
pub async fn add(app: &App, who: &Principal, new: NewSupplier) -> Result<Supplier> {
    // It may run programs on the service's own host.
    let permit = who.require(Action::ManageSupplier, "")?;
    check_name("name", &new.name)?;
    check_settings(app, &new.name, &new.kind, &new.settings, &new.secrets)?;
    let (quota, boot_limit_us) = check_limits(new.quota, new.boot_limit_us)?;
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let row = Row {
        id: Db(SupplierId(app.fresh_id())),
        name: new.name.clone(),
        kind: new.kind.clone(),
        settings: Jsonb(new.settings.clone()),
        secrets: Jsonb(locked(app, &new.name, &new.secrets)?),
        quota,
        boot_limit_us,
        offer: None,
        offered_at: None,
        failure: None,
        failing_since: None,
        retry_at: None,
        created_at: Db(now),
        created_by: who.name.clone(),
    };
    match supplier::write(&mut connection, &row, now).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let message = format!("a supplier {:?} already exists", new.name);
            return Err(ServiceError::taken(message));
        }
        other => other?,
    }
    let secrets: Vec<&String> = new.secrets.keys().collect();
    let detail = json!({"kind": new.kind, "settings": new.settings, "secrets": secrets});
    audit::write(
        &mut connection,
        now,
        &permit,
        "supplier.add",
        &new.name,
        detail,
    )
    .await?;
    ask_offer(app, &mut connection, &row).await?;
    app.feed.kick();
    let shown = one(&mut connection, &new.name).await?;
    Ok(shown)
}

/// Asks a supplier that is new what it can do, so that its prices are known before anything is ordered. One that does not
/// answer is asked again by the leader.
async fn ask_offer(app: &App, connection: &mut Connection, row: &Row) -> Result<()> {
    let Ok(asked) = supplier_calls::open(app, row) else {
        return Ok(());
    };
    if let Ok(Ok(offer)) = tokio::time::timeout(FIRST_OFFER, asked.offer()).await {
        let told = serde_json::to_value(&offer).unwrap_or_default();
        supplier::set_offer(connection, row.id.0, &told, app.clock.now()).await?;
    }
    Ok(())
}

/// Change a supplier's settings and secrets.
pub async fn change(
    app: &App,
    who: &Principal,
    name: &str,
    change: SupplierChange,
    expected: &ExpectedVersion,
) -> Result<Supplier> {
    let permit = who.require(Action::ManageSupplier, "")?;
    commit(app, async |connection| {
        lock_for_change(connection, "supplier", name).await?;
        let mut row = find(connection, name).await?;
        expected
            .check(connection, &row, "supplier.change", name)
            .await?;
        let emptied = |changes: &BTreeMap<String, String>| -> Vec<String> {
            let empty = changes.iter().filter(|(_, value)| value.is_empty());
            empty.map(|(key, _)| key.clone()).collect()
        };
        row.settings.0.extend(change.settings.clone());
        for key in emptied(&change.settings) {
            row.settings.0.remove(&key);
        }
        row.secrets.0.extend(locked(app, name, &change.secrets)?);
        for key in emptied(&change.secrets) {
            row.secrets.0.remove(&key);
        }
        let opened: BTreeMap<String, String> = row
            .secrets
            .0
            .iter()
            .filter_map(|(key, locked)| {
                let opened = app
                    .encryption
                    .open(&supplier_calls::lock_name(name, key), locked);
                Some((key.clone(), opened.ok()?))
            })
            .collect();
        check_settings(app, name, &row.kind, &row.settings.0, &opened)?;
        let (quota, boot_limit_us) = check_limits(change.quota, change.boot_limit_us)?;
        for what in &change.clear {
            match what.as_str() {
                "quota" => row.quota = None,
                "boot_limit" => row.boot_limit_us = None,
                _ => {
                    return Err(ServiceError::invalid(
                        "clear",
                        format!("{what:?} is neither quota nor boot_limit"),
                    ));
                }
            }
        }
        row.quota = quota.or(row.quota);
        row.boot_limit_us = boot_limit_us.or(row.boot_limit_us);
        let now = app.clock.now();
        supplier::write(connection, &row, now).await?;
        let secrets: Vec<&String> = change.secrets.keys().collect();
        let detail =
            json!({"settings": change.settings, "secrets": secrets, "quota": change.quota});
        audit::write(connection, now, &permit, "supplier.change", name, detail).await?;
        one(connection, name).await
    })
    .await
}

/// Remove a supplier that no pool uses and that has no machines on record.
pub async fn remove(app: &App, who: &Principal, name: &str) -> Result<()> {
    let permit = who.require(Action::ManageSupplier, "")?;
    commit(app, async |connection| {
        let shown = one(connection, name).await?;
        if !shown.pools.is_empty() {
            let message = format!("{} uses it", shown.pools.join(", "));
            return Err(
                ServiceError::conflict("in-use", "The supplier is in use", message)
                    .remedy("pennine pool set POOL --supplier '' first"),
            );
        }
        let row = find(connection, name).await?;
        let now = app.clock.now();
        if !supplier::remove(connection, row.id.0, now).await? {
            let message = "its machines are still on record, until their history expires";
            return Err(ServiceError::conflict(
                "in-use",
                "The supplier is in use",
                message,
            ));
        }
        audit::write(connection, now, &permit, "supplier.remove", name, json!({})).await?;
        Ok(())
    })
    .await
}

/// Check a supplier: what it offers, a trial machine that is ordered, says what it is, and is removed. Takes up to two
/// minutes.
pub async fn check(
    app: &App,
    who: &Principal,
    name: &str,
    how: SupplierCheck,
) -> Result<SupplierChecked> {
    let permit = who.require(Action::CheckSupplier, "")?;
    let row = find(&mut *app.store.people().await?, name).await?;
    let asked = supplier_calls::open(app, &row).map_err(|message| {
        ServiceError::conflict(
            "supplier-unusable",
            "The supplier cannot be reached",
            message,
        )
    })?;
    let mut checked = SupplierChecked {
        well: true,
        steps: Vec::new(),
        facts: Default::default(),
        boot_us: None,
        console: String::new(),
    };
    let begun = Instant::now();
    let offer = asked.offer().await;
    let message = match &offer {
        Ok(offer) => {
            let mut parts = Vec::new();
            if let Some(quota) = offer.quota {
                parts.push(format!("makes up to {quota} machines"));
            }
            if !offer.sizes.is_empty() {
                let sizes: Vec<&str> = offer.sizes.keys().map(String::as_str).collect();
                parts.push(format!("sizes {}", sizes.join(", ")));
            }
            if !offer.zones.is_empty() {
                parts.push(format!("zones {}", offer.zones.join(", ")));
            }
            parts.extend(Some(offer.message.clone()).filter(|message| !message.is_empty()));
            parts.join("; ")
        }
        Err(fault) => fault.to_string(),
    };
    checked.note("reports what it can do", offer.is_ok(), message, begun);
    if offer.is_ok() {
        let machine = MachineId(app.fresh_id());
        let tried = try_out(app, &row, asked.as_ref(), machine, how, &mut checked).await;
        // Whatever came of it, nothing is left.
        let begun = Instant::now();
        let mut removed = asked.remove(machine).await;
        for _ in 0..5 {
            if removed.is_ok() {
                break;
            }
            tokio::time::sleep(Duration::from_secs(1)).await;
            removed = asked.remove(machine).await;
        }
        let message = match &removed {
            Ok(()) => "nothing is left behind".to_owned(),
            Err(fault) => fault.to_string(),
        };
        checked.note("removes the trial machine", removed.is_ok(), message, begun);
        trial::remove(&mut *app.store.people().await?, machine).await?;
        tried?;
    }
    let detail = json!({"well": checked.well});
    let (mut connection, now) = (app.store.people().await?, app.clock.now());
    audit::write(
        &mut connection,
        now,
        &permit,
        "supplier.check",
        name,
        detail,
    )
    .await?;
    Ok(checked)
}

trait NoteDifference {
    fn note(&mut self, what: &str, well: bool, message: String, begun: Instant);
}

impl NoteDifference for SupplierChecked {
    fn note(&mut self, what: &str, well: bool, message: String, begun: Instant) {
        self.well &= well;
        self.steps.push(CheckStep {
            what: what.to_owned(),
            well,
            message,
            took_us: begun.elapsed().into(),
        });
    }
}

/// Orders the trial machine and waits for it.
async fn try_out(
    app: &App,
    row: &Row,
    asked: &dyn pennine_suppliers::Supplier,
    machine: MachineId,
    how: SupplierCheck,
    checked: &mut SupplierChecked,
) -> Result<()> {
    let ticket = app.encryption.ticket(machine);
    let hash = secret::hash(&ticket);
    let mut connection = app.store.people().await?;
    trial::insert(&mut connection, machine, row.id.0, &hash, app.clock.now()).await?;
    drop(connection);
    let order = Order {
        installation: app.installation.id,
        machine,
        name: format!("trial-{}", &machine.0.simple().to_string()[24..]),
        pool: "trial".to_owned(),
        image: how.image,
        size: how.size,
        settings: how.settings,
        join: Join {
            server: app.public_url.clone(),
            ticket,
            authority: app.authority.clone(),
            slots: 1,
        },
    };
    let begun = Instant::now();
    let placed = asked.order(&order).await;
    let message = match &placed {
        Ok(placed) if placed.zone.is_empty() => format!("it is {}", placed.reference),
        Ok(placed) => format!("it is {} in {}", placed.reference, placed.zone),
        Err(fault) => fault.to_string(),
    };
    let ordered = placed.is_ok();
    checked.note(
        "accepts an order for a trial machine",
        ordered,
        message,
        begun,
    );
    if !ordered {
        return Ok(());
    }
    let limit = supplier_calls::maker(row).boot_limit.min(TRIAL);
    let joined = loop {
        let mut connection = app.store.people().await?;
        let found = trial::find(&mut connection, machine).await?;
        drop(connection);
        match found {
            Some(found) if found.joined_at.is_some() => break Some(found),
            _ if begun.elapsed() > limit => break None,
            _ => tokio::time::sleep(Duration::from_millis(50)).await,
        }
    };
    let came = joined.is_some();
    let message = match &joined {
        Some(found) => {
            let took = found
                .joined_at
                .map_or(Duration::ZERO, |at| at.0.since(found.created_at.0));
            checked.boot_us = Some(took.into());
            checked.facts = found.facts.clone().map(|facts| facts.0).unwrap_or_default();
            let from = found.peer.clone().unwrap_or_else(|| "somewhere".to_owned());
            format!(
                "it reached {} from {from} after {}",
                app.public_url,
                spoken(took)
            )
        }
        None => format!(
            "nothing joined within {}: can the machine reach {}?",
            spoken(limit),
            app.public_url
        ),
    };
    if !came {
        checked.console = supplier_calls::console(asked, machine).await;
    }
    checked.note("its runner reaches the service", came, message, begun);
    let begun = Instant::now();
    let listed = asked.list().await;
    let (well, message) = match &listed {
        Ok(found) if found.iter().any(|one| one.machine == machine) => {
            (true, format!("{} listed", found.len()))
        }
        // It may have ended by itself by now.
        Ok(_) if came => (true, "it has ended by itself".to_owned()),
        Ok(_) => (false, "the trial machine is not in its list".to_owned()),
        Err(fault) => (false, fault.to_string()),
    };
    checked.note("lists its machines", well, message, begun);
    Ok(())
}
