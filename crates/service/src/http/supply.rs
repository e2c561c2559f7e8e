//! How pools get machines: the policy, what would be decided, what was, and the relief.

use super::answer::Answer;
use super::auth::Principal;
use super::body::Params;
use super::status;
use crate::app::App;
use crate::error::ServiceError;
use crate::leader::capacity;
use crate::leader::rebuild;
use crate::supply::offer;
use axum::Json;
use axum::extract::{Path, State};
use jiff::tz::TimeZone;
use pennine_core::capacity::{Money, Supply, pool_line};
use pennine_core::dispatch::{Event, Price};
use pennine_core::id::{AttemptId, MachineId, PoolId, RunnerId};
use pennine_core::time::Moment;
use pennine_store::capacity::{self as record, Kept};
use pennine_store::maintenance::Calendar;
use pennine_store::pool::OwnedPool;
use pennine_store::{Connection, Db, machine, pool, supplier};
use pennine_wire::{CapacityDecision, Page, Problem, Relief, SupplyChange, SupplyStanding};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;

/// The most machines of one pool.
const MOST: u32 = 10_000;
/// The longest dwell.
const LONGEST_DWELL: Duration = Duration::from_secs(7 * 86_400);
/// Decisions in one answer.
const PAGE: i64 = 100;
/// How many decisions the relief marks.
const MARKED: i64 = 300;
/// The settings of machines that one pool may give.
const SETTINGS: usize = 64;

/// How a pool stands, where it gets machines.
pub fn standing(owned: &OwnedPool) -> Option<SupplyStanding> {
    owned.supply()?;
    let view = owned.view();
    Some(SupplyStanding {
        numbers: owned
            .supplied()
            .map(|standing| standing.numbers.0)
            .unwrap_or_default(),
        price: owned.price(),
        known: view.makes.is_some(),
        short: view.short,
        full: view.full.is_some(),
    })
}

/// The policy that comes of a change. Everything about it is checked.
pub async fn changed(
    connection: &mut Connection,
    before: Option<Supply>,
    change: Option<&SupplyChange>,
) -> Answer<Option<Supply>> {
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
                    let said = format!("there is no setting {other:?} to clear");
                    return Err(ServiceError::invalid("supply.clear", said));
                }
            }
        }
    }
    check(connection, &supply).await?;
    Ok(Some(supply))
}

async fn check(connection: &mut Connection, supply: &Supply) -> Answer<()> {
    let invalid =
        |field: &str, said: String| Err(ServiceError::invalid(&format!("supply.{field}"), said));
    if supply.supplier.is_empty() {
        return invalid(
            "supplier",
            "a pool that gets machines needs a supplier".to_owned(),
        )
        .map_err(|failure: ServiceError| {
            failure.mend("pennine supplier list shows those that exist")
        });
    }
    if supplier::find(connection, &supply.supplier)
        .await?
        .is_none()
    {
        return Err(ServiceError::unknown("supplier", &supply.supplier).field("supply.supplier"));
    }
    if supply.ceiling > MOST {
        return invalid("ceiling", format!("a pool has {MOST} machines at most"));
    }
    let floors = supply.week.times.iter().filter_map(|times| times.floor);
    if let Some(floor) = floors
        .chain([supply.floor])
        .find(|floor| *floor > supply.ceiling)
    {
        let said = format!(
            "a floor of {floor} is above the ceiling of {}",
            supply.ceiling
        );
        return invalid("floor", said);
    }
    if Duration::from(supply.dwell_us) > LONGEST_DWELL {
        return invalid("dwell_us", "a machine dwells 7 days at most".to_owned());
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
        return invalid("week", "at most 100 stretches of the week".to_owned());
    }
    if let Err(error) = supply.week.check() {
        return invalid("week", error.to_string());
    }
    if !supply.week.zone.is_empty() && TimeZone::get(&supply.week.zone).is_err() {
        let said = format!(
            "{:?} is no time zone of the IANA database, such as Europe/Dublin",
            supply.week.zone
        );
        return invalid("week.zone", said);
    }
    Ok(())
}

/// Sets what an hour of a pool's machines costs, as its supplier says.
pub async fn set_price(
    connection: &mut Connection,
    pool: PoolId,
    supply: &Supply,
    now: Moment,
) -> Answer<()> {
    let row = supplier::find(connection, &supply.supplier).await?;
    let price = row.and_then(|row| offer(&row).sizes.get(&supply.size).copied());
    if let Some(price) = price {
        pool::set_price(connection, pool, price, now).await?;
    }
    Ok(())
}

/// What the keeper would decide now, if a pool were like this.
pub async fn foresee(
    app: &App,
    connection: &mut Connection,
    next: &OwnedPool,
) -> Answer<Vec<CapacityDecision>> {
    let now = app.clock.now();
    let calendar = Calendar::read(connection, now).await?;
    let (mut state, _) = rebuild::rebuild(connection, &calendar, now, |_| {}).await?;
    let suppliers = supplier::list(connection).await?;
    let mut pools = pool::list(connection).await?;
    for pool in &mut pools {
        if pool.pool.id == next.pool.id {
            pool.clone_from(next);
        }
    }
    let view = calendar.pool(next, now);
    state.apply(Event::Pool(Box::new(view)), now);
    let cares: Vec<_> = pools
        .iter()
        .filter_map(|pool| capacity::care(pool, calendar.pool(pool, now).paused, &suppliers))
        .collect();
    let machines = machine::existing(connection).await?;
    let mut keeper = capacity::keeper(connection, &cares, &suppliers, &machines, now).await?;
    // What can start is started first, as the leader would.
    let _ = state.start(now, &mut || AttemptId(app.fresh_id()));
    let decided = keeper.decide(&mut state, now, &mut || {
        (MachineId(app.fresh_id()), RunnerId(app.fresh_id()))
    });
    let notes = decided.notes.into_iter();
    Ok(notes
        .filter(|note| note.pool == next.pool.id.0)
        .map(|note| CapacityDecision {
            at: now,
            pool: next.pool.name.clone(),
            verb: note.verb.to_owned(),
            machines: note.machines,
            said: note.said,
            numbers: note.numbers,
        })
        .collect())
}

fn shown(kept: Kept) -> CapacityDecision {
    CapacityDecision {
        at: kept.at.0,
        pool: kept.pool,
        verb: kept.verb,
        machines: kept.machines.max(0).unsigned_abs(),
        said: kept.said,
        numbers: kept.numbers.0,
    }
}

/// Which decisions.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct Which {
    /// Of this pool alone.
    pool: Option<String>,
    /// The `next` of the page before.
    cursor: Option<String>,
}

/// What was decided about machines, newest first.
#[utoipa::path(get, operation_id = "list_decisions", path = "/capacity/decisions", tag = "machines", params(Which),
    responses((status = 200, body = Page<CapacityDecision>), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn decisions(
    State(app): State<App>,
    _: Principal,
    Params(which): Params<Which>,
) -> Answer<Json<Page<CapacityDecision>>> {
    let mut connection = app.store.get().await?;
    let pool = match &which.pool {
        None => None,
        Some(name) => Some(find(&mut connection, name).await?.pool.id.0),
    };
    let before = match &which.cursor {
        None => i64::MAX,
        Some(text) => text
            .parse()
            .map_err(|_| ServiceError::invalid("cursor", "the cursor is not one of this list's"))?,
    };
    let since = Moment::from_micros(0);
    let mut kept = record::decisions(&mut connection, pool, before, since, PAGE + 1).await?;
    let more = kept.len() > usize::try_from(PAGE).unwrap_or(usize::MAX);
    kept.truncate(usize::try_from(PAGE).unwrap_or(usize::MAX));
    let next = kept.last().filter(|_| more).map(|last| last.id.to_string());
    Ok(Json(Page {
        items: kept.into_iter().map(shown).collect(),
        next,
    }))
}

/// The pool of this name.
pub async fn find(connection: &mut Connection, name: &str) -> Answer<OwnedPool> {
    pool::find(connection, name)
        .await?
        .ok_or_else(|| ServiceError::unknown("pool", name))
}

/// Which stretch of time to draw.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct Window {
    /// The length of the window in minutes: 1 to 10080, 60 when not given.
    minutes: Option<u64>,
}

/// A pool's relief: demand over capacity, what was decided meanwhile, and what it cost.
#[utoipa::path(get, operation_id = "show_relief", path = "/pools/{pool}/relief", tag = "machines",
    params(("pool" = String, Path, description = "its name"), Window),
    responses((status = 200, body = Relief), (status = "4XX", body = Problem, content_type = "application/problem+json")))]
pub async fn relief(
    State(app): State<App>,
    _: Principal,
    Path(name): Path<String>,
    Params(window): Params<Window>,
) -> Answer<Json<Relief>> {
    let minutes = window.minutes.unwrap_or(60);
    if !(1..=10_080).contains(&minutes) {
        return Err(ServiceError::invalid("minutes", "minutes is 1 to 10080"));
    }
    let length = Duration::from_secs(minutes * 60);
    let now = app.clock.now();
    let from = now - length;
    let mut connection = app.store.get().await?;
    let pool = find(&mut connection, &name).await?;
    let id = pool.pool.id.0;
    let readings = record::levels(&mut connection, id, from).await?;
    let step = status::step_of(length);
    let steps = status::steps(&readings, now, step);
    let decisions = record::decisions(&mut connection, Some(id), i64::MAX, from, MARKED).await?;
    let lives = machine::lives(&mut connection, id, from).await?;
    let cost = status::ends(now, step)
        .map(|end| {
            let begin = end - step;
            let paid = lives.iter().map(|(price, ordered, ended)| {
                paid(*price, (*ordered).max(begin), ended.unwrap_or(now).min(end))
            });
            Money(paid.fold(0, u64::saturating_add))
        })
        .collect();
    let (spent_day, spent_month) = spent(&mut connection, &pool, now).await?;
    let level = readings.last().map(|(_, level)| *level).unwrap_or_default();
    let numbers = pool.supply().map(|_| {
        let supplied = pool.supplied();
        supplied.map(|one| one.numbers.0).unwrap_or_default()
    });
    let short = pool.supplied().and_then(|one| one.short.as_deref());
    let answer = pool_line(&name, &level, numbers.as_ref(), short);
    Ok(Json(Relief {
        answer,
        now,
        window_us: length.into(),
        step_us: step.into(),
        level,
        steps,
        decisions: decisions.into_iter().map(shown).collect(),
        cost,
        ceiling_slots: pool
            .supply()
            .map(|supply| supply.ceiling.saturating_mul(supply.machine_slots())),
        spent_day,
        spent_month,
    }))
}

fn paid(price: Price, from: Moment, until: Moment) -> u64 {
    let exact = u128::from(price.0) * until.since(from).as_micros() / 3_600_000_000;
    u64::try_from(exact).unwrap_or(u64::MAX)
}

/// What a pool has spent today and this month.
async fn spent(
    connection: &mut Connection,
    pool: &OwnedPool,
    now: Moment,
) -> Answer<(Money, Money)> {
    let Some(care) = capacity::care(pool, false, &[]) else {
        return Ok(Default::default());
    };
    let there = machine::existing(connection).await?;
    let mine: Vec<_> = there
        .into_iter()
        .filter(|machine| machine.pool_id == Db(care.id))
        .collect();
    let id = care.id;
    let keeper = capacity::keeper(connection, &[care], &[], &mine, now).await?;
    Ok(keeper.spent(id, now))
}
