//! Machines.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::views::pools::capacity::find as find_pool;
use crate::views::pools::machine::{find, shown};
use crate::{secret, supplier_calls};
use pennine_core::access::Action;
use pennine_core::id::{MachineId, RunnerId};
use pennine_core::lifecycle::machine::{MachineEvent, MachineState};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_store::machine::{self, Detail, MachineFilter, NewMachine};
use pennine_store::{attempt, audit, place, runner, supplier};
use pennine_wire::{Machine, NewMachines, Page, StopMachine};
use serde_json::json;
use std::time::Duration;

/// The most machines that are started by hand at once.
const BY_HAND: u32 = 100;

/// Start machines by hand. Like other machines they are released after they were idle for the pool's dwell and no job wants
/// them.
pub async fn start(
    app: &App,
    who: &Principal,
    name: &str,
    new: NewMachines,
) -> Result<Page<Machine>> {
    let count = new.count.unwrap_or(1);
    if !(1..=BY_HAND).contains(&count) {
        let message = format!("1 to {BY_HAND} machines at once");
        return Err(ServiceError::invalid("count", message));
    }
    commit(app, async |connection| {
    let pool = find_pool(connection, who, name).await?;
    let permit = who.require(Action::ManageMachines, &pool.owner)?;
    let Some(policy) = pool.supply() else {
        let message = format!("{name} has no supplier: people bring its machines");
        return Err(
            ServiceError::conflict("no-supplier", "The pool has no supplier", message).remedy(format!(
                "pennine pool set {name} --supplier NAME, or add a machine with: pennine ticket add --pool {name}"
            )),
        );
    };
    let row = supplier::find(connection, &policy.supplier)
        .await?
        .ok_or_else(|| ServiceError::unknown("supplier", &policy.supplier))?;
    let all = MachineState::ALL.iter().copied();
    let existing: Vec<_> = all.filter(|state| state.exists()).collect();
    let id = pool.pool.id.0;
    let filter = MachineFilter {
        pool: Some(id),
        states: &existing,
        visible: None,
        before: i64::MAX,
    };
    let there = machine::list(connection, filter, i64::MAX).await?;
    let there = u32::try_from(there.len()).unwrap_or(u32::MAX);
    if there.saturating_add(count) > policy.ceiling {
        let message = format!(
            "{name} has {there} machines; its ceiling is {}",
            policy.ceiling
        );
        return Err(
            ServiceError::conflict("ceiling-reached", "The ceiling is reached", message).remedy(
                format!("raise it with: pennine pool set {name} --ceiling N"),
            ),
        );
    }
    let now = app.clock.now();
    let maker = supplier_calls::maker(&row);
    let new: Vec<NewMachine> = (0..count)
        .map(|_| {
            let machine = MachineId(app.fresh_id());
            NewMachine {
                id: machine,
                runner: RunnerId(app.fresh_id()),
                pool: id,
                supplier: row.id.0,
                price: pool.price(),
                single_use: policy.single_use,
                ticket: app.fresh_id(),
                secret_hash: secret::hash(&app.encryption.ticket(machine)),
                expires: now + maker.boot_limit + Duration::from_secs(60),
            }
        })
        .collect();
    let reason = format!("{} started it", who.name.clone());
    let made = machine::order(connection, &new, &who.name, &reason, now).await?;
    let names: Vec<&str> = made.iter().map(|one| one.name.as_str()).collect();
    let detail = json!({"machines": names});
    audit::write(
        connection,
        now,
        &permit,
        "machine.start",
        name,
        detail,
    )
    .await?;
    Ok(Page {
        items: made.iter().map(|row| shown(row, now)).collect(),
        next: None,
    })
    })
    .await
}

/// Stop a machine: it finishes its jobs and is removed; told to force it, at once. Its pool may order another if it is
/// wanted.
pub async fn stop(app: &App, who: &Principal, text: &str, how: StopMachine) -> Result<Machine> {
    commit(app, async |connection| {
        let found = find(connection, who, text).await?;
        let owner = place::of_pool(connection, found.pool_id.0).await?;
        let permit = who.require(Action::ManageMachines, &owner)?;
        let now = app.clock.now();
        if !found.state.0.exists() {
            let message = format!("{} is {} already", found.name, found.state.0);
            return Err(ServiceError::conflict(
                "wrong-state",
                "The machine has ended",
                message,
            ));
        }
        let busy = attempt::for_runner(connection, found.runner_id.0).await?;
        if found.state.0 == MachineState::Joined && !busy.is_empty() && !how.force {
            runner::set_desired_state(
                connection,
                found.runner_id.0,
                DesiredState::Drain,
                Some(&who.name),
                now,
            )
            .await?;
        } else {
            let reason = format!("{} stopped it", who.name.clone());
            let event = MachineEvent::Release;
            machine::step(
                connection,
                found.id.0,
                event,
                &reason,
                &Detail::default(),
                now,
            )
            .await?;
        }
        let detail = json!({"force": how.force, "jobs": busy.len()});
        audit::write(
            connection,
            now,
            &permit,
            "machine.stop",
            &found.name,
            detail,
        )
        .await?;
        let found = find(connection, who, &found.id.to_string()).await?;
        Ok(shown(&found, now))
    })
    .await
}
