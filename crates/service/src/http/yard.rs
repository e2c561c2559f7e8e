//! The yard as handlers look at it: pools and runners as they stand, with their states as people see them.

use super::answer::Answer;
use pennine_core::dispatch::{PoolView, RunnerView, Standing};
use pennine_core::id::PoolId;
use pennine_core::lifecycle::runner::{RunnerEvent, RunnerState};
use pennine_core::requirement::Requirement;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::Runner;
use pennine_store::{Connection, pool, runner};
use pennine_wire::RunnerCounts;
use std::collections::HashMap;

/// Every pool, and every runner that is not retired.
pub struct Yard {
    pub pools: Vec<OwnedPool>,
    pub runners: Vec<Runner>,
    views: Vec<RunnerView>,
    pool_views: HashMap<PoolId, PoolView>,
}

/// The state as people see it: a connected runner that takes work is busy when its slots are all used.
pub fn shown_state(runner: &Runner) -> RunnerState {
    if !runner.state.is_connected() {
        return runner.state.0;
    }
    let seen = RunnerEvent::Seen {
        wish: runner.wish.0,
        used: runner.used(),
        slots: runner.slots(),
    };
    runner.state.after(seen).unwrap_or(runner.state.0)
}

/// Counts runners by the state that people see.
pub fn counts<'a>(runners: impl IntoIterator<Item = &'a Runner>) -> RunnerCounts {
    let mut counts = RunnerCounts::default();
    for runner in runners {
        match shown_state(runner) {
            RunnerState::Awaited => counts.awaited += 1,
            RunnerState::Available => counts.available += 1,
            RunnerState::Busy => counts.busy += 1,
            RunnerState::Draining => counts.draining += 1,
            RunnerState::Paused => counts.paused += 1,
            RunnerState::Offline => counts.offline += 1,
            RunnerState::Retired => {}
        }
    }
    counts
}

/// Slots of connected runners that take work, and how many of them are free.
pub fn slots<'a>(runners: impl IntoIterator<Item = &'a Runner>) -> (u32, u32) {
    let takes = |runner: &&Runner| {
        matches!(
            shown_state(runner),
            RunnerState::Available | RunnerState::Busy
        )
    };
    runners
        .into_iter()
        .filter(takes)
        .fold((0, 0), |(all, free), runner| {
            (
                all + runner.slots(),
                free + runner.slots().saturating_sub(runner.used()),
            )
        })
}

impl Yard {
    /// Reads the yard.
    pub async fn read(connection: &mut Connection) -> Answer<Yard> {
        let pools = pool::list(connection).await?;
        let runners = runner::list(connection, None).await?;
        let views = runners.iter().map(Runner::view).collect();
        let pool_views = pools
            .iter()
            .map(|pool| (pool.pool.id.0, pool.view()))
            .collect();
        Ok(Yard {
            pools,
            runners,
            views,
            pool_views,
        })
    }

    /// Runners that have joined, with what dispatch knows of them.
    pub fn joined(&self) -> impl Iterator<Item = (&RunnerView, &PoolView)> + Clone {
        self.views
            .iter()
            .filter(|view| view.state != RunnerState::Awaited)
            .filter_map(|view| Some((view, self.pool_views.get(&view.pool)?)))
    }

    /// How a project's requirement stands here.
    pub fn standing(&self, requirement: &Requirement, project: &str) -> Standing {
        Standing::of(requirement, project, self.joined())
    }
}
