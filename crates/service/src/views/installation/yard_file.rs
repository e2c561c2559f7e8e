//! The applied yard file, whose entries are marked as managed.

use crate::access::Principal;
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

/// The yard file that was applied last; none where none ever was. The entries are listed for those who see the whole
/// installation.
pub async fn show(app: &App, who: &Principal) -> Result<Option<YardFile>> {
    let mut connection = app.store.people().await?;
    let mut file = yard_file::read(&mut connection).await?.map(shown);
    if let Some(file) = file.as_mut().filter(|_| !who.sees.is_whole()) {
        file.things.clear();
    }
    Ok(file)
}
