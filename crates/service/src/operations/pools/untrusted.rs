//! Which pools may take untrusted jobs, and which machines may join those.

use crate::error::{Result, ServiceError};
use crate::supplier_calls::kind::SupplierKind;
use pennine_core::capacity::{MachineSeparation, UnfitForUntrusted, check_untrusted};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::Runner;
use pennine_store::{Connection, supplier};

/// Runners named in a refusal.
const NAMED: usize = 5;

/// Checks a pool that takes untrusted jobs: that its machines are fit for them, and that no runner in it stays after a job.
/// A pool that takes trusted jobs only passes.
///
/// Errors: `takes_untrusted` invalid, with what to change; a conflict that names the runners.
pub async fn check(
    connection: &mut Connection,
    pool: &OwnedPool,
    runners: &[Runner],
) -> Result<()> {
    if !pool.pool.takes_untrusted {
        return Ok(());
    }
    let separation = match pool.supply() {
        Some(supply) => supplier::find(connection, &supply.supplier)
            .await?
            .and_then(|row| row.kind.parse::<SupplierKind>().ok())
            .map_or(MachineSeparation::SharedHost, SupplierKind::separation),
        None => MachineSeparation::SharedHost,
    };
    let name = &pool.pool.name;
    check_untrusted(pool.supply(), separation, &pool.pool.jobs.0).map_err(|error| {
        let remedy = match error {
            UnfitForUntrusted::NoSupplier => {
                format!(
                    "give it a supplier: pennine pool set {name} --supplier NAME --single-use true"
                )
            }
            UnfitForUntrusted::NotSingleUse => {
                format!("pennine pool set {name} --single-use true --slots 1")
            }
            UnfitForUntrusted::NotSandboxed => {
                format!("pennine pool set {name} --isolation sandbox")
            }
        };
        let remedy = format!("{remedy}, or let it take trusted jobs only: --takes-untrusted false");
        ServiceError::invalid("takes_untrusted", error.to_string()).remedy(remedy)
    })?;
    let staying: Vec<&str> = runners
        .iter()
        .filter(|one| one.pool_id.0 == pool.pool.id.0 && !one.single_use)
        // A machine that has not joined yet is refused when it does.
        .filter(|one| one.state.0 != RunnerState::Awaited)
        .map(|one| one.name.as_str())
        .collect();
    if staying.is_empty() {
        return Ok(());
    }
    let more = match staying.len().saturating_sub(NAMED) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    let named = staying.iter().take(NAMED).copied().collect::<Vec<_>>();
    let message = format!(
        "{}{more} in {name} would take further jobs after an untrusted one",
        named.join(", ")
    );
    Err(ServiceError::conflict(
        "standing-runners",
        "The pool has runners that are not single-use",
        message,
    )
    .field("takes_untrusted")
    .remedy("retire them first: pennine runner retire NAME"))
}

/// Refuses a machine that people bring to a pool that takes untrusted jobs: it would take further jobs after one.
pub fn refuse_standing(pool: &OwnedPool) -> Result<()> {
    if !pool.pool.takes_untrusted {
        return Ok(());
    }
    let name = &pool.pool.name;
    let message =
        format!("{name} takes untrusted jobs: only single-use machines of its supplier join it");
    Err(ServiceError::conflict(
        "pool-takes-untrusted",
        "The pool takes untrusted jobs",
        message,
    )
    .remedy(format!(
        "choose another pool, or let it take trusted jobs only: pennine pool set {name} --takes-untrusted false"
    )))
}
