//! Targets.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::views::measures::target_standings::standings;
use crate::yard::Yard;
use pennine_core::target::TargetStanding;
use pennine_store::Connection;
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

pub async fn one(app: &App, connection: &mut Connection, name: &str) -> Result<Target> {
    let row = find(connection, name).await?;
    let mut all = read(app, connection, vec![row]).await?;
    all.pop()
        .ok_or_else(|| ServiceError::unknown("target", name))
}

pub async fn find(connection: &mut Connection, name: &str) -> Result<Row> {
    let rows = target::list(connection).await?;
    let found = rows.into_iter().find(|row| row.name == name);
    found.ok_or_else(|| ServiceError::unknown("target", name))
}

/// The targets, and how they stand.
pub async fn list(app: &App) -> Result<Page<Target>> {
    let mut connection = app.store.people().await?;
    let rows = target::list(&mut connection).await?;
    let items = read(app, &mut connection, rows).await?;
    Ok(Page { items, next: None })
}
