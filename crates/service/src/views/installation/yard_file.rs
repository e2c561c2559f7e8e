//! The applied yard file, whose entries are marked as managed.

use crate::app::App;
use crate::error::Result;
use pennine_store::yard_file::{self, YardFile as Row};
use pennine_wire::YardFile;

pub fn shown(row: Row) -> YardFile {
    YardFile {
        name: row.name,
        things: row.things.0,
        applied_at: row.applied_at.0,
        applied_by: row.applied_by,
    }
}

/// The yard file that was applied last; null where none ever was.
pub async fn show(app: &App) -> Result<Option<YardFile>> {
    let mut connection = app.store.people().await?;
    Ok(yard_file::read(&mut connection).await?.map(shown))
}
