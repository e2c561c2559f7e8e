//! `pennined migrate-objects`.

use crate::config::Config;
use crate::objects::{Moved, Objects};
use anyhow::{Context, bail};
use pennine_core::size::ByteSize;
use pennine_store::{Store, installation};

/// Moves the objects of the data folder to the bucket of the configuration, and says how many. Replicas may run meanwhile.
pub async fn run(config: Config) -> anyhow::Result<()> {
    if config.objects.bucket.is_empty() {
        bail!("no bucket is configured (objects.bucket): the folder is where objects lie");
    }
    let objects = Objects::of(&config)?;
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let found = installation::find(&mut *store.tasks().await?).await?;
    let found = found.context("there is no installation in this database")?;
    objects.check(found.log_store).await?;
    let mut told = 0;
    let mut tell = |moved: Moved| {
        if moved.objects / 1000 > told {
            told = moved.objects / 1000;
            println!("Moved {} objects so far.", moved.objects);
        }
    };
    let moved = objects.migrate(&mut tell).await?;
    println!(
        "Moved {} objects ({}) to the bucket {}. Restart the replicas when it suits: they then read only there.",
        moved.objects,
        ByteSize(moved.bytes),
        config.objects.bucket
    );
    Ok(())
}
