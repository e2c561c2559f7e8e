//! Machines.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::supplier_calls;
use crate::views::pools::capacity::find as find_pool;
use pennine_core::access::Action;
use pennine_core::capacity::Money;
use pennine_core::id::ShortName;
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::time::Moment;
use pennine_store::machine::MachineFilter;
use pennine_store::{Connection, machine, place, supplier};
use pennine_wire::{Machine, MachineConsole, Page};
use serde::Deserialize;
use utoipa::IntoParams;

/// Machines in one answer.
const PAGE: i64 = 200;

pub fn shown(row: &machine::Machine, now: Moment) -> Machine {
    let until = row.ended_at.map_or(now, |at| at.0);
    let cost =
        u128::from(row.price().0) * until.since(row.ordered_at.0).as_micros() / 3_600_000_000;
    Machine {
        id: row.id.0,
        short: row.short(),
        name: row.name.clone(),
        pool: row.pool.clone(),
        supplier: row.supplier.clone(),
        state: row.state.0,
        since: row.state_since.0,
        reason: row.state_reason.clone(),
        runner: row.runner_id.0,
        runner_short: ShortName::Runner.name(row.runner_number),
        single_use: row.single_use,
        price: row.price(),
        cost: Money(u64::try_from(cost).unwrap_or(u64::MAX)),
        ordered_at: row.ordered_at.0,
        ordered_by: row.ordered_by.clone(),
        joined_at: row.joined_at.map(|at| at.0),
        released_at: row.released_at.map(|at| at.0),
        ended_at: row.ended_at.map(|at| at.0),
        failed: row.failed,
        zone: row.zone.clone(),
        reference: row.reference.clone(),
    }
}

/// The machine with this id, short name or, while it exists, name, where the principal may see all that belongs to its pool.
pub async fn find(
    connection: &mut Connection,
    who: &Principal,
    text: &str,
) -> Result<machine::Machine> {
    let mut found = machine::find(connection, text).await?;
    if let Some(machine) = &found
        && !who.sees.is_whole()
    {
        let owner = place::of_pool(connection, machine.pool_id.0).await?;
        found = found.filter(|_| who.sees.includes(&owner));
    }
    found.ok_or_else(|| {
        ServiceError::unknown("machine", text)
            .remedy("pennine machine list --all shows those on record")
    })
}

/// Which machines.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct MachineParams {
    /// Only this pool.
    pool: Option<String>,
    /// Only machines in these states, separated by commas [default: existing ones].
    state: Option<String>,
    /// The `next` of the page before.
    cursor: Option<String>,
}

/// Machines, newest first. By default only machines that exist.
pub async fn list(app: &App, who: &Principal, which: MachineParams) -> Result<Page<Machine>> {
    let mut connection = app.store.people().await?;
    let pool = match &which.pool {
        None => None,
        Some(name) => Some(find_pool(&mut connection, who, name).await?.pool.id.0),
    };
    let states = match &which.state {
        None => MachineState::ALL
            .iter()
            .copied()
            .filter(|state| state.exists())
            .collect(),
        Some(text) => text
            .split(',')
            .map(|word| word.trim().parse())
            .collect::<Result<Vec<MachineState>, String>>()
            .map_err(|message| ServiceError::invalid("state", message))?,
    };
    let before = match &which.cursor {
        None => i64::MAX,
        Some(text) => text
            .parse()
            .map_err(|_| ServiceError::invalid("cursor", "invalid cursor"))?,
    };
    let filter = MachineFilter {
        pool,
        states: &states,
        visible: who.sees.paths(),
        before,
    };
    let mut rows = machine::list(&mut connection, filter, PAGE + 1).await?;
    let page = usize::try_from(PAGE).unwrap_or(usize::MAX);
    let more = rows.len() > page;
    rows.truncate(page);
    let next = rows
        .last()
        .filter(|_| more)
        .map(|last| last.number.to_string());
    let now = app.clock.now();
    Ok(Page {
        items: rows.iter().map(|row| shown(row, now)).collect(),
        next,
    })
}

/// One machine.
pub async fn show(app: &App, who: &Principal, text: &str) -> Result<Machine> {
    let mut connection = app.store.people().await?;
    let found = find(&mut connection, who, text).await?;
    Ok(shown(&found, app.clock.now()))
}

/// The end of what a machine printed while it came up, as far as its supplier can say.
pub async fn console(app: &App, who: &Principal, text: &str) -> Result<MachineConsole> {
    let mut connection = app.store.people().await?;
    let found = find(&mut connection, who, text).await?;
    let owner = place::of_pool(&mut connection, found.pool_id.0).await?;
    who.require(Action::ManageMachines, &owner)?;
    if !found.state.0.exists() || !found.console.is_empty() {
        let (text, live) = (found.console, false);
        return Ok(MachineConsole { text, live });
    }
    let row = supplier::find(&mut connection, &found.supplier).await?;
    drop(connection);
    let row = row.ok_or_else(|| ServiceError::unknown("supplier", &found.supplier))?;
    let asked = supplier_calls::open(app, &row).map_err(|message| {
        ServiceError::conflict(
            "supplier-unusable",
            "The supplier cannot be reached",
            message,
        )
    })?;
    let text = supplier_calls::console(asked.as_ref(), found.id.0).await;
    Ok(MachineConsole { text, live: true })
}
