//! How pools get machines: the policy, what would be decided, what was, and the relief.

use crate::error::{Result, ServiceError};
use crate::supplier_calls::offer;
use jiff::tz::TimeZone;
use pennine_core::capacity::Supply;
use pennine_core::id::PoolId;
use pennine_core::time::Moment;
use pennine_store::{Connection, pool, supplier};
use pennine_wire::SupplyChange;
use std::time::Duration;

/// The most machines of one pool.
const MOST: u32 = 10_000;

/// The longest dwell.
const LONGEST_DWELL: Duration = Duration::from_secs(7 * 86_400);

/// The settings of machines that one pool may give.
const SETTINGS: usize = 64;

/// The policy that comes of a change. Everything about it is checked.
pub async fn changed(
    connection: &mut Connection,
    before: Option<Supply>,
    change: Option<&SupplyChange>,
) -> Result<Option<Supply>> {
    let Some(change) = change else {
        return Ok(before);
    };
    if change.supplier.as_deref() == Some("") {
        return Ok(None);
    }
    let mut supply = before.unwrap_or_default();
    let set = |to: &mut String, from: &Option<String>| {
        if let Some(from) = from {
            to.clone_from(from);
        }
    };
    set(&mut supply.supplier, &change.supplier);
    set(&mut supply.image, &change.image);
    set(&mut supply.size, &change.size);
    supply.settings.extend(change.settings.clone());
    supply.floor = change.floor.unwrap_or(supply.floor);
    supply.ceiling = change.ceiling.unwrap_or(supply.ceiling);
    supply.spare = change.spare.unwrap_or(supply.spare);
    supply.dwell_us = change.dwell_us.unwrap_or(supply.dwell_us);
    supply.single_use = change.single_use.unwrap_or(supply.single_use);
    supply.slots = change.slots.unwrap_or(supply.slots);
    supply.price = change.price.or(supply.price);
    supply.budget.day = change.day_budget.or(supply.budget.day);
    supply.budget.month = change.month_budget.or(supply.budget.month);
    if let Some(week) = &change.week {
        supply.week.clone_from(week);
    }
    if let Some(facts) = &change.facts {
        supply.facts.clone_from(facts);
    }
    for name in &change.clear {
        match name.as_str() {
            "price" => supply.price = None,
            "day_budget" => supply.budget.day = None,
            "month_budget" => supply.budget.month = None,
            other => {
                if supply.settings.remove(other).is_none() {
                    let message = format!("unknown setting {other:?}");
                    return Err(ServiceError::invalid("supply.clear", message));
                }
            }
        }
    }
    check(connection, &supply).await?;
    Ok(Some(supply))
}

async fn check(connection: &mut Connection, supply: &Supply) -> Result<()> {
    let invalid = |field: &str, message: String| {
        Err(ServiceError::invalid(&format!("supply.{field}"), message))
    };
    if supply.supplier.is_empty() {
        return invalid(
            "supplier",
            "a pool with machines needs a supplier".to_owned(),
        )
        .map_err(|failure: ServiceError| {
            failure.remedy("pennine supplier list shows the known ones")
        });
    }
    if supplier::find(connection, &supply.supplier)
        .await?
        .is_none()
    {
        return Err(ServiceError::unknown("supplier", &supply.supplier).field("supply.supplier"));
    }
    if supply.ceiling > MOST {
        return invalid(
            "ceiling",
            format!("a pool can have {MOST} machines at most"),
        );
    }
    let floors = supply.week.times.iter().filter_map(|times| times.floor);
    if let Some(floor) = floors
        .chain([supply.floor])
        .find(|floor| *floor > supply.ceiling)
    {
        let message = format!(
            "a floor of {floor} is above the ceiling of {}",
            supply.ceiling
        );
        return invalid("floor", message);
    }
    if Duration::from(supply.dwell_us) > LONGEST_DWELL {
        return invalid("dwell_us", "dwell is 7 days at most".to_owned());
    }
    if !(1..=256).contains(&supply.slots) {
        return invalid("slots", "a machine has 1 to 256 slots".to_owned());
    }
    if supply.single_use && supply.slots != 1 {
        return invalid(
            "slots",
            "a single-use machine takes one job: it has one slot".to_owned(),
        );
    }
    for (field, text) in [("image", &supply.image), ("size", &supply.size)] {
        if text.len() > 500 || text.chars().any(char::is_control) {
            return invalid(field, format!("{field} is a line of up to 500 characters"));
        }
    }
    if supply.settings.len() > SETTINGS {
        return invalid("settings", format!("at most {SETTINGS} settings"));
    }
    for (name, value) in &supply.settings {
        if name.is_empty() || name.len() > 100 || value.len() > 10_000 || value.contains('\0') {
            return invalid(
                "settings",
                format!("the setting {name:?} is too long, or holds a zero byte"),
            );
        }
    }
    if supply.facts.len() > 200 {
        return invalid("facts", "at most 200 facts".to_owned());
    }
    if supply.week.times.len() > 100 {
        return invalid("week", "at most 100 periods of the week".to_owned());
    }
    if let Err(error) = supply.week.check() {
        return invalid("week", error.to_string());
    }
    if !supply.week.zone.is_empty() && TimeZone::get(&supply.week.zone).is_err() {
        let message = format!(
            "{:?} is not a time zone of the IANA database, such as Europe/Dublin",
            supply.week.zone
        );
        return invalid("week.zone", message);
    }
    Ok(())
}

/// Sets what an hour of a pool's machines costs, as its supplier says.
pub async fn set_price(
    connection: &mut Connection,
    pool: PoolId,
    supply: &Supply,
    now: Moment,
) -> Result<()> {
    let row = supplier::find(connection, &supply.supplier).await?;
    let price = row.and_then(|row| offer(&row).sizes.get(&supply.size).copied());
    if let Some(price) = price {
        pool::set_price(connection, pool, price, now).await?;
    }
    Ok(())
}
