//! The capacity keeper as the record has it: what a new leader begins with, and what a question about capacity is answered
//! from.

use crate::supplier_calls;
use jiff::tz::TimeZone;
use pennine_core::capacity::{Event, Keeper, ManagedPool, Meter, Supply};
use pennine_core::time::Moment;
use pennine_store::Connection;
use pennine_store::machine::{self, Machine};
use pennine_store::pool::OwnedPool;
use pennine_store::supplier::Supplier as Row;

/// The time zone of a pool's week.
pub fn zone(supply: &Supply) -> TimeZone {
    match supply.week.zone.as_str() {
        "" => TimeZone::UTC,
        name => TimeZone::get(name).unwrap_or(TimeZone::UTC),
    }
}

/// A pool as the keeper sees it, if it makes machines.
pub fn managed_pool(pool: &OwnedPool, paused: bool, suppliers: &[Row]) -> Option<ManagedPool> {
    let supply = pool.supply()?;
    let supplier = suppliers.iter().find(|row| row.name == supply.supplier);
    Some(ManagedPool {
        id: pool.pool.id.0,
        name: pool.pool.name.clone(),
        supplier: supplier.map(|row| row.id.0).unwrap_or_default(),
        supply: supply.clone(),
        zone: zone(supply),
        price: pool.price(),
        paused,
    })
}

/// A keeper loaded from the database: suppliers, machines and spending. Its pools are added separately.
pub async fn read(
    connection: &mut Connection,
    managed_pools: &[ManagedPool],
    suppliers: &[Row],
    machines: &[Machine],
    now: Moment,
) -> pennine_store::Result<Keeper> {
    let mut keeper = Keeper::default();
    for row in suppliers {
        keeper.apply(Event::Supplier(supplier_calls::maker(row)), now);
        if let Some(((message, since), until)) =
            row.failure.clone().zip(row.failing_since).zip(row.retry_at)
            && until.0 > now
        {
            keeper.resume_backoff(row.id.0, message, since.0, until.0);
        }
    }
    for care in managed_pools {
        let (day, month) = Meter::windows(now, &care.zone);
        let (day, month) = (
            machine::paid(connection, care.id, day).await?,
            machine::paid(connection, care.id, month).await?,
        );
        keeper.apply(Event::Pool(Box::new(care.clone())), now);
        keeper.paid_before(care.id, day, month);
    }
    for machine in machines {
        keeper.apply(Event::Machine(machine.view()), now);
        if machine.runner_retired {
            keeper.apply(Event::Left(machine.id.0), now);
        }
    }
    Ok(keeper)
}
