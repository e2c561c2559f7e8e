//! `pennine-load history`: what went on in a made-up yard in the days before, put straight into the record.
//!
//! A scenario says who submitted what and how often, and which machines there were; the simulation loop of the core
//! decides, with the real dispatch, who waited for what. The record is written as the service would have written it,
//! except that past events are not kept and logs are empty.

mod record;
mod scenario;
mod world;

use crate::Trouble;
use pennine_core::dispatch::{SharePolicy, State};
use pennine_core::simulate::simulate;
use pennine_store::{Store, history, outbox, partition};
use rand::SeedableRng;
use rand::rngs::StdRng;
use scenario::Scenario;
use std::path::Path;
use std::time::Duration;

const DAY: Duration = Duration::from_secs(86_400);

/// Writes the scenario's history into the database of an installation that has no jobs yet.
pub async fn run(database: &str, file: &Path) -> Result<(), Trouble> {
    let scenario: Scenario = toml::from_str(&std::fs::read_to_string(file)?)
        .map_err(|e| Trouble::Scenario(format!("{}: {e}", file.display())))?;
    let store = Store::open(database, 2)?;
    let mut connection = store.get().await?;
    let jobs = history::jobs(&mut connection).await?;
    if jobs > 0 {
        return Err(Trouble::Scenario(format!(
            "{jobs} jobs are on record already: history comes before the first job"
        )));
    }
    let until = outbox::moment(&mut connection).await?;
    let from = until - DAY * scenario.days;
    partition::ensure(&mut connection, from, until).await?;

    let mut lots = StdRng::seed_from_u64(scenario.seed);
    let yard = record::Yard::read(&mut connection, &scenario, from, until, &mut lots).await?;
    let mut world = world::Past::new(&scenario, &yard, from, until, &mut lots)?;
    let mut state = State::new(SharePolicy::default());
    // What still runs or waits at the end is left out, so it goes on until everything has ended.
    let _ = simulate(&mut state, &mut world, until + DAY);
    let stays = world.stays(until);
    let (jobs, reasons, levels) = world.told(until);
    let count = jobs.len();
    let past = record::Past {
        jobs,
        reasons,
        levels,
        stays,
        left: yard.left(&scenario.left, until)?,
    };
    record::write(&mut connection, &yard, &past, until).await?;
    println!("{count} jobs of the last {} days", scenario.days);
    Ok(())
}
