//! `pennined rebuild-rollups`.

use crate::config::Config;
use crate::installation::wait_for_database;
use pennine_store::Store;

/// Works the sums of trends out again from the record, and says what was counted.
pub async fn run(config: Config) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let now = wait_for_database(&store).await?;
    let mut connection = store.patient().await?;
    let found = pennine_store::measure::rebuild(&mut connection, now).await?;
    println!(
        "Added up {} attempts and waits, {} stretches of offered slots, {} machines.",
        found.work_spans, found.offers, found.machines
    );
    Ok(())
}
