//! Targets.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::views::measures::target_standings::standings;
use crate::yard::Yard;
use pennine_core::target::TargetStanding;
use pennine_core::visibility::Visibility;
use pennine_store::Connection;
use pennine_store::pool::{self, OwnedPool};
use pennine_store::target::{self, Target as Row};
use pennine_wire::{Page, Target};

fn shown(row: Row, standing: TargetStanding) -> Target {
    let promise = row.promise();
    Target {
        settings_version: row.version(),
        name: row.name,
        pool: row.pool,
        place: row.place,
        promise,
        message: promise.describe(),
        standing,
        created_at: row.created_at.0,
        created_by: row.created_by,
    }
}

async fn read(app: &App, connection: &mut Connection, rows: Vec<Row>) -> Result<Vec<Target>> {
    let yard = Yard::read(connection, app.clock.now()).await?;
    let all = standings(app, connection, &yard, rows).await?;
    let shown = all.into_iter().map(|(row, standing)| shown(row, standing));
    Ok(shown.collect())
}

pub async fn one(
    app: &App,
    connection: &mut Connection,
    who: &Principal,
    name: &str,
) -> Result<Target> {
    let row = find(connection, who, name).await?;
    let mut all = read(app, connection, vec![row]).await?;
    all.pop()
        .ok_or_else(|| ServiceError::unknown("target", name))
}

/// The path of the place that a target belongs to: its own, or that of the owner of its pool; otherwise the root's.
pub fn place_of(row: &Row, pools: &[OwnedPool]) -> String {
    let owner = |pool| {
        let mut owned = pools.iter().filter(|owned| owned.pool.id == pool);
        owned.next().map(|owned| owned.owner.clone())
    };
    let of_pool = row.pool_id.and_then(owner);
    of_pool.or_else(|| row.place.clone()).unwrap_or_default()
}

/// The targets of visible places.
pub async fn visible(connection: &mut Connection, sees: &Visibility) -> Result<Vec<Row>> {
    let mut rows = target::list(connection).await?;
    if !sees.is_whole() {
        let pools = pool::list(connection).await?;
        rows.retain(|row| sees.includes(&place_of(row, &pools)));
    }
    Ok(rows)
}

/// The target with this name, where the principal may see the place that it belongs to.
pub async fn find(connection: &mut Connection, who: &Principal, name: &str) -> Result<Row> {
    let rows = visible(connection, &who.sees).await?;
    let found = rows.into_iter().find(|row| row.name == name);
    found.ok_or_else(|| ServiceError::unknown("target", name))
}

/// The targets that the principal may see, and how they stand.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Target>> {
    let mut connection = app.store.people().await?;
    let rows = visible(&mut connection, &who.sees).await?;
    let items = read(app, &mut connection, rows).await?;
    Ok(Page { items, next: None })
}
