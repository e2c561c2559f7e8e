//! Pools.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::views;
use crate::yard::Yard;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::Runner;
use pennine_wire::{Page, Pool};

pub fn shown(owned: &OwnedPool, runners: &[Runner]) -> Pool {
    let mine = || {
        runners
            .iter()
            .filter(|runner| runner.pool_id == owned.pool.id)
    };
    let (slots, free) = crate::yard::slots(mine());
    Pool {
        settings_version: owned.version(),
        id: owned.pool.id.0,
        name: owned.pool.name.clone(),
        description: owned.pool.description.clone(),
        labels: owned.pool.labels.clone(),
        open: owned.pool.open,
        owner: owned.owner.clone(),
        narrow_to: owned.pool.narrow_to.clone(),
        widen_to: owned.pool.widen_to.clone(),
        takes_untrusted: owned.pool.takes_untrusted,
        paused: owned.pool.paused,
        needs: owned.pool.needs.clone(),
        jobs: owned.pool.jobs.0,
        supply: owned.supply().cloned(),
        standing: views::pools::capacity::standing(owned),
        runners: crate::yard::counts(mine()),
        slots,
        free,
        created_at: owned.pool.created_at.0,
    }
}

/// The pools.
pub async fn list(app: &App) -> Result<Page<Pool>> {
    let mut connection = app.store.people().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let items = yard
        .pools
        .iter()
        .map(|pool| shown(pool, &yard.runners))
        .collect();
    Ok(Page { items, next: None })
}

/// One pool.
pub async fn show(app: &App, name: &str) -> Result<Pool> {
    let mut connection = app.store.people().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let found = yard.pools.iter().find(|pool| pool.pool.name == name);
    found
        .map(|pool| shown(pool, &yard.runners))
        .ok_or_else(|| ServiceError::unknown("pool", name))
}
