//! What every supplier has to hold to. Each one's tests run this.

use crate::{Join, Order, SuppliedMachine, SuppliedState, Supplier};
use pennine_core::id::MachineId;
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

/// How long anything may take.
const PATIENCE: Duration = Duration::from_secs(60);

/// What a supplier did wrong.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct ConformanceFailure(pub String);

/// An order whose machine never joins.
pub fn some_order(installation: Uuid, number: u128) -> Order {
    Order {
        installation,
        machine: MachineId(Uuid::from_u128(
            0x019a_0000_0000_7000_8000_0000_0000_0000 + number,
        )),
        name: format!("trial-{number}"),
        pool: "trial".into(),
        image: String::new(),
        size: String::new(),
        settings: BTreeMap::new(),
        join: Join {
            server: "http://127.0.0.1:9".into(),
            ticket: "pen-ticket-none".into(),
            authority: None,
            slots: 1,
        },
    }
}

async fn listed(
    supplier: &dyn Supplier,
    machine: MachineId,
) -> Result<Vec<SuppliedMachine>, ConformanceFailure> {
    let found = supplier
        .list()
        .await
        .map_err(|fault| ConformanceFailure(format!("it cannot list: {fault}")))?;
    Ok(found
        .into_iter()
        .filter(|found| found.machine == machine)
        .collect())
}

/// Waits until the machine is listed so often.
async fn until(
    supplier: &dyn Supplier,
    machine: MachineId,
    times: usize,
) -> Result<(), ConformanceFailure> {
    let waited = tokio::time::timeout(PATIENCE, async {
        loop {
            if listed(supplier, machine).await?.len() == times {
                return Ok(());
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    });
    waited
        .await
        .map_err(|_| ConformanceFailure(format!("{machine} is not listed {times} times")))?
}

/// Goes through everything that a supplier has to hold to. `order` makes an order of this number that the supplier takes;
/// `other` is the same supplier for another installation.
pub async fn hold(
    supplier: &dyn Supplier,
    other: &dyn Supplier,
    order: impl Fn(u128) -> Order,
) -> Result<(), ConformanceFailure> {
    let failed = |what: &str, fault: crate::Fault| ConformanceFailure(format!("{what}: {fault}"));
    supplier
        .offer()
        .await
        .map_err(|fault| failed("it cannot say what it offers", fault))?;
    let first = order(1);

    // An order makes one machine, however often it is repeated.
    let placed = supplier
        .order(&first)
        .await
        .map_err(|fault| failed("an order", fault))?;
    let again = supplier
        .order(&first)
        .await
        .map_err(|fault| failed("an order repeated", fault))?;
    if placed.reference != again.reference {
        let message = format!("a repeated order is {again:?}, and was {placed:?}");
        return Err(ConformanceFailure(message));
    }
    until(supplier, first.machine, 1).await?;
    if !supplier.sees(&placed.reference) {
        return Err(ConformanceFailure("it does not see what it made".into()));
    }

    // What is of another installation is not listed.
    if !listed(other, first.machine).await?.is_empty() {
        return Err(ConformanceFailure(
            "it lists what is another installation's".into(),
        ));
    }

    // Orders at once are machines of their own.
    let second = order(2);
    let third = order(3);
    let (one, two) = tokio::join!(supplier.order(&second), supplier.order(&third));
    one.map_err(|fault| failed("one of two orders", fault))?;
    two.map_err(|fault| failed("the other of two orders", fault))?;
    until(supplier, second.machine, 1).await?;
    until(supplier, third.machine, 1).await?;

    // What it printed can be asked for, while it is there and after.
    supplier
        .console(first.machine)
        .await
        .map_err(|fault| failed("a console", fault))?;

    // Removing removes that one, and twice is fine.
    for turn in ["removing", "removing again"] {
        supplier
            .remove(first.machine)
            .await
            .map_err(|fault| failed(turn, fault))?;
    }
    until(supplier, first.machine, 0).await?;
    if listed(supplier, second.machine).await?.is_empty() {
        return Err(ConformanceFailure(
            "it removed another machine than requested".into(),
        ));
    }
    // What was never there is removed as well.
    supplier
        .remove(order(9).machine)
        .await
        .map_err(|fault| failed("removing what never was", fault))?;
    for rest in [second.machine, third.machine] {
        supplier
            .remove(rest)
            .await
            .map_err(|fault| failed("removing", fault))?;
        until(supplier, rest, 0).await?;
    }
    Ok(())
}

/// Whether a machine runs, by its supplier's list.
pub async fn stage(supplier: &dyn Supplier, machine: MachineId) -> Option<SuppliedState> {
    let found = listed(supplier, machine).await.ok()?;
    found.first().map(|found| found.stage)
}
