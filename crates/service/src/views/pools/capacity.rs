//! How pools get machines: the policy, what would be decided, what was, and the relief.

use crate::access::Principal;
use crate::app::{App, FreshIds};
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::{capacity_state, dispatch_state, search};
use pennine_core::capacity::{Money, pool_line};
use pennine_core::dispatch::{Event, Price};
use pennine_core::engine::Engine;
use pennine_core::time::Moment;
use pennine_store::capacity::{DecisionFilter, StoredDecision};
use pennine_store::maintenance::Calendar;
use pennine_store::pool::{self, OwnedPool};
use pennine_store::{Connection, Db, capacity as record, machine, supplier};
use pennine_wire::{CapacityDecision, Page, Relief, SupplyStanding};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;

/// Decisions in one answer.
const PAGE: i64 = 100;

/// How many decisions the relief marks.
const MARKED: i64 = 300;

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

/// What the keeper would decide now, if a pool were like this.
pub async fn foresee(
    app: &App,
    connection: &mut Connection,
    next: &OwnedPool,
) -> Result<Vec<CapacityDecision>> {
    let now = app.clock.now();
    let calendar = Calendar::read(connection, now).await?;
    let (mut state, _) = dispatch_state::read(connection, &calendar, now, |_| {}).await?;
    let suppliers = supplier::list(connection).await?;
    let mut pools = pool::list(connection).await?;
    for pool in &mut pools {
        if pool.pool.id == next.pool.id {
            pool.clone_from(next);
        }
    }
    let view = calendar.pool(next, now);
    state.apply(Event::Pool(Box::new(view)), now);
    let managed_pools: Vec<_> = pools
        .iter()
        .filter_map(|pool| {
            capacity_state::managed_pool(pool, calendar.pool(pool, now).paused, &suppliers)
        })
        .collect();
    let machines = machine::existing(connection).await?;
    let keeper =
        capacity_state::read(connection, &managed_pools, &suppliers, &machines, now).await?;
    let mut engine = Engine::new(state, keeper, now);
    // What can start is started first, as the leader would.
    let _ = engine.assign(now, &mut FreshIds(app));
    let settlement = engine.settle(now, &mut FreshIds(app));
    let notes = settlement.decided.notes.into_iter();
    Ok(notes
        .filter(|note| note.pool == next.pool.id.0)
        .map(|note| CapacityDecision {
            at: now,
            pool: next.pool.name.clone(),
            verb: note.verb.to_owned(),
            machines: note.machines,
            message: note.message,
            numbers: note.numbers,
        })
        .collect())
}

fn shown(kept: StoredDecision) -> CapacityDecision {
    CapacityDecision {
        at: kept.at.0,
        pool: kept.pool,
        verb: kept.verb,
        machines: kept.machines.max(0).unsigned_abs(),
        message: kept.message,
        numbers: kept.numbers.0,
    }
}

/// Which decisions.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct DecisionParams {
    /// Only this pool.
    pool: Option<String>,
    /// Only decisions whose message contains this text, in upper or lower case: at most 200 bytes.
    search: Option<String>,
    /// The `next` of the page before.
    cursor: Option<String>,
}

/// What was decided about machines, newest first.
pub async fn decisions(
    app: &App,
    who: &Principal,
    which: DecisionParams,
) -> Result<Page<CapacityDecision>> {
    let mut connection = app.store.people().await?;
    let pool = match &which.pool {
        None => None,
        Some(name) => Some(find(&mut connection, who, name).await?.pool.id.0),
    };
    let before = match &which.cursor {
        None => i64::MAX,
        Some(text) => text
            .parse()
            .map_err(|_| ServiceError::invalid("cursor", "invalid cursor"))?,
    };
    let filter = DecisionFilter {
        pool,
        visible: who.sees.paths(),
        search: search::text(which.search.as_deref())?,
        before,
        since: Moment::from_micros(0),
        limit: PAGE + 1,
    };
    let mut kept = record::decisions(&mut connection, filter).await?;
    let more = kept.len() > usize::try_from(PAGE).unwrap_or(usize::MAX);
    kept.truncate(usize::try_from(PAGE).unwrap_or(usize::MAX));
    let next = kept.last().filter(|_| more).map(|last| last.id.to_string());
    Ok(Page {
        items: kept.into_iter().map(shown).collect(),
        next,
    })
}

/// The pool of this name that the principal may see.
pub async fn find(connection: &mut Connection, who: &Principal, name: &str) -> Result<OwnedPool> {
    let found = pool::find(connection, name).await?;
    found
        .filter(|owned| who.sees_pool(owned))
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
pub async fn relief(app: &App, who: &Principal, name: &str, window: Window) -> Result<Relief> {
    let minutes = window.minutes.unwrap_or(60);
    if !(1..=10_080).contains(&minutes) {
        return Err(ServiceError::invalid("minutes", "minutes is 1 to 10080"));
    }
    let length = Duration::from_secs(minutes * 60);
    let now = app.clock.now();
    let from = now - length;
    let mut connection = app.store.people().await?;
    let pool = find(&mut connection, who, name).await?;
    let id = pool.pool.id.0;
    // What a pool costs, and what was decided about its machines, is its owner's.
    let whole = who.sees.includes(&pool.owner);
    let readings = record::levels(&mut connection, id, from).await?;
    let step = views::installation::status::step_of(length);
    let steps = views::installation::status::steps(&readings, now, step);
    let marked = DecisionFilter {
        pool: Some(id),
        visible: who.sees.paths(),
        search: "",
        before: i64::MAX,
        since: from,
        limit: MARKED,
    };
    let decisions = record::decisions(&mut connection, marked).await?;
    let lives = match whole {
        true => machine::lives(&mut connection, id, from).await?,
        false => Vec::new(),
    };
    let cost = views::installation::status::ends(now, step)
        .map(|end| {
            let begin = end - step;
            let paid = lives.iter().map(|(price, ordered, ended)| {
                paid(*price, (*ordered).max(begin), ended.unwrap_or(now).min(end))
            });
            Money(paid.fold(0, u64::saturating_add))
        })
        .collect();
    let (spent_day, spent_month) = match whole {
        true => spent(&mut connection, &pool, now).await?,
        false => Default::default(),
    };
    let level = readings.last().map(|(_, level)| *level).unwrap_or_default();
    let numbers = pool.supply().map(|_| {
        let supplied = pool.supplied();
        supplied.map(|one| one.numbers.0).unwrap_or_default()
    });
    let short = pool.supplied().and_then(|one| one.short.as_deref());
    let answer = pool_line(name, &level, numbers.as_ref(), short);
    Ok(Relief {
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
    })
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
) -> Result<(Money, Money)> {
    let Some(care) = capacity_state::managed_pool(pool, false, &[]) else {
        return Ok(Default::default());
    };
    let there = machine::existing(connection).await?;
    let mine: Vec<_> = there
        .into_iter()
        .filter(|machine| machine.pool_id == Db(care.id))
        .collect();
    let id = care.id;
    let keeper = capacity_state::read(connection, &[care], &[], &mine, now).await?;
    Ok(keeper.spent(id, now))
}
