//! Pools.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::views;
use crate::yard::Yard;
use pennine_core::id::PoolId;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::Runner;
use pennine_store::{Connection, pool};
use pennine_wire::{Page, Pool};
use std::collections::HashMap;

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
        asks_approval: owned.pool.asks_approval,
        approved: owned.pool.approved.clone(),
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

/// A pool as the principal sees it: its users see of its reach only the teams and projects that they see.
fn shown_to(who: &Principal, owned: &OwnedPool, runners: &[Runner]) -> Pool {
    let mut pool = shown(owned, runners);
    if !who.sees.includes(&owned.owner) {
        pool.narrow_to.retain(|path| who.sees.includes(path));
        pool.widen_to.retain(|path| who.sees.includes(path));
        pool.approved.retain(|path| who.sees.includes(path));
    }
    pool
}

/// The pools that the principal may see, where that is not all of them.
pub struct VisiblePools(Option<HashMap<PoolId, bool>>);

impl VisiblePools {
    /// Reads which pools the principal may see.
    pub async fn read(connection: &mut Connection, who: &Principal) -> Result<VisiblePools> {
        if who.sees.is_whole() {
            return Ok(VisiblePools(None));
        }
        let pools = pool::list(connection).await?;
        let visible = pools.iter().filter(|owned| who.sees_pool(owned));
        let visible = visible.map(|owned| (owned.pool.id.0, who.sees.includes(&owned.owner)));
        Ok(VisiblePools(Some(visible.collect())))
    }

    /// The names of the pools that the principal may see.
    pub async fn names(connection: &mut Connection, who: &Principal) -> Result<Vec<String>> {
        let pools = pool::list(connection).await?;
        let visible = pools.into_iter().filter(|owned| who.sees_pool(owned));
        Ok(visible.map(|owned| owned.pool.name).collect())
    }

    /// Whether a pool may be seen, with its runners.
    pub fn includes(&self, pool: PoolId) -> bool {
        self.0
            .as_ref()
            .is_none_or(|pools| pools.contains_key(&pool))
    }

    /// Whether all that belongs to a pool may be seen: its owner's place is visible.
    pub fn includes_whole(&self, pool: PoolId) -> bool {
        self.0
            .as_ref()
            .is_none_or(|pools| pools.get(&pool) == Some(&true))
    }
}

/// The pools that the principal may see.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Pool>> {
    let mut connection = app.store.people().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let pools = yard.pools.iter().filter(|pool| who.sees_pool(pool));
    let items = pools
        .map(|pool| shown_to(who, pool, &yard.runners))
        .collect();
    Ok(Page { items, next: None })
}

/// One pool.
pub async fn show(app: &App, who: &Principal, name: &str) -> Result<Pool> {
    let mut connection = app.store.people().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let mut pools = yard.pools.iter().filter(|pool| who.sees_pool(pool));
    pools
        .find(|pool| pool.pool.name == name)
        .map(|pool| shown_to(who, pool, &yard.runners))
        .ok_or_else(|| ServiceError::unknown("pool", name))
}
