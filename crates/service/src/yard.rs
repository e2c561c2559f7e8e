//! The yard as handlers look at it: pools and runners as they stand, with their states as people see them.

use pennine_core::dispatch::{
    EligibilityCounts, Limit, Origin, PoolView, RunnerView, SeatNeeds, SeatReservation,
    SeatStanding, below,
};
use pennine_core::fact::{Facts, Subject};
use pennine_core::id::{PoolId, RunnerId};
use pennine_core::lifecycle::runner::{DesiredState, RunnerEvent, RunnerState};
use pennine_core::requirement::{Hint, Requirement, Vocabulary};
use pennine_core::time::Moment;
use pennine_store::maintenance::{Calendar, Maintenance};
use pennine_store::place::{self, Place};
use pennine_store::pool::{self, OwnedPool};
use pennine_store::runner::{self, Runner};
use pennine_store::seat::{self, Holding, Seat};
use pennine_store::share::{self, ProjectUsage};
use pennine_store::{Connection, Error};
use pennine_wire::RunnerCounts;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// Every pool, and every runner that is not retired, with what else decides who runs.
#[derive(Clone)]
pub struct Yard {
    pub pools: Vec<OwnedPool>,
    pub runners: Vec<Runner>,
    pub places: Vec<Place>,
    pub seats: Vec<Seat>,
    pub holdings: Vec<Holding>,
    /// Slots that each project holds.
    held: Vec<ProjectUsage>,
    /// Maintenance that is on or to come, and when it was looked at.
    pub calendar: Calendar,
    pub now: Moment,
    views: Vec<RunnerView>,
    pool_views: HashMap<PoolId, PoolView>,
    /// The words that the runners which have joined know, once they were asked for.
    words: OnceLock<Vocabulary>,
    /// Which runners satisfy the requirements that were asked about.
    satisfying: Satisfying,
}

/// Requirements up to which it is remembered who satisfies them.
const REMEMBERED: usize = 2000;

/// Positions of runners among a yard's views, by requirement. A copy of a yard is made to be changed: it begins empty.
#[derive(Default)]
struct Satisfying(Mutex<HashMap<String, Arc<[usize]>>>);

impl Clone for Satisfying {
    fn clone(&self) -> Self {
        Satisfying::default()
    }
}

/// The state as people see it: a connected runner that takes work is busy when its slots are all used.
pub fn shown_state(runner: &Runner) -> RunnerState {
    let last = runner.single_use && runner.state.0 == RunnerState::Draining;
    if !matches!(runner.state.0, RunnerState::Available | RunnerState::Busy) && !last {
        return runner.state.0;
    }
    // What a single-use runner executes is its last; people see that it is busy.
    let desired_state = if runner.single_use && runner.used() > 0 {
        DesiredState::Work
    } else {
        runner.desired_state.0
    };
    let seen = RunnerEvent::Seen {
        desired_state,
        used: runner.used(),
        slots: runner.room(),
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
                free + runner.room().saturating_sub(runner.used()),
            )
        })
}

impl Yard {
    /// Reads the yard.
    pub async fn read(connection: &mut Connection, now: Moment) -> Result<Yard, Error> {
        let pools = pool::list(connection).await?;
        let runners = runner::list(connection, None).await?;
        let mut yard = Yard {
            pools,
            runners,
            places: place::all(connection).await?,
            seats: seat::list(connection).await?,
            holdings: seat::holdings(connection).await?,
            held: share::held(connection).await?,
            calendar: Calendar::read(connection, now).await?,
            now,
            views: Vec::new(),
            pool_views: HashMap::new(),
            words: OnceLock::new(),
            satisfying: Satisfying::default(),
        };
        yard.look();
        Ok(yard)
    }

    fn look(&mut self) {
        let (calendar, now) = (&self.calendar, self.now);
        let views = self.runners.iter().map(|one| calendar.runner(one, now));
        self.views = views.collect();
        self.words = OnceLock::new();
        self.satisfying = Satisfying::default();
        let views = self
            .pools
            .iter()
            .map(|pool| (pool.pool.id.0, calendar.pool(pool, now)));
        self.pool_views = views.collect();
    }

    /// What the machines are that pools would make, as far as it is known: their pool's labels at least.
    pub fn made(&self) -> Vec<Subject> {
        let makers = self.pools.iter().filter(|pool| pool.supply().is_some());
        makers
            .map(|owned| {
                let labels = owned.pool.labels.iter().map(String::as_str);
                let known = || owned.view().makes;
                known().unwrap_or_else(|| {
                    Subject::new("", &owned.pool.name, labels, &Facts::default())
                })
            })
            .collect()
    }

    /// The maintenance that keeps a runner from taking work, its own or its pool's.
    pub fn window_of(&self, runner: RunnerId, pool: PoolId) -> Option<&Maintenance> {
        let own = self.calendar.of_runner(runner, self.now);
        own.or_else(|| self.calendar.of_pool(pool, self.now))
    }

    /// The yard as it would be if a pool were like this.
    pub fn with_pool(&self, changed: &OwnedPool) -> Yard {
        let mut yard = self.clone();
        for pool in &mut yard.pools {
            if pool.pool.id == changed.pool.id {
                pool.clone_from(changed);
            }
        }
        for runner in &mut yard.runners {
            if runner.pool_id == changed.pool.id {
                runner.pool_labels.clone_from(&changed.pool.labels);
            }
        }
        yard.look();
        yard
    }

    /// A part of the yard: the pools that are wanted with their runners, the places that are wanted, and the seats that
    /// jobs of these hold.
    pub fn part(
        &self,
        wants_pool: impl Fn(&OwnedPool) -> bool,
        wants_place: impl Fn(&str) -> bool,
    ) -> Yard {
        let pools = self.pools.iter().filter(|pool| wants_pool(pool));
        let pools: Vec<OwnedPool> = pools.cloned().collect();
        let ids: BTreeSet<PoolId> = pools.iter().map(|pool| pool.pool.id.0).collect();
        let runners = self.runners.iter();
        let runners = runners.filter(|runner| ids.contains(&runner.pool_id.0));
        let places = self.places.iter().filter(|place| wants_place(&place.path));
        let holdings = self.holdings.iter();
        let holdings = holdings.filter(|holding| wants_place(&holding.project));
        let mut part = Yard {
            pools,
            runners: runners.cloned().collect(),
            places: places.cloned().collect(),
            seats: self.seats.clone(),
            holdings: holdings.cloned().collect(),
            held: self.held.clone(),
            calendar: self.calendar.clone(),
            now: self.now,
            views: Vec::new(),
            pool_views: HashMap::new(),
            words: OnceLock::new(),
            satisfying: Satisfying::default(),
        };
        part.look();
        part
    }

    /// The yard as it would be without a pool and its runners.
    pub fn without_pool(&self, id: PoolId) -> Yard {
        let mut yard = self.clone();
        yard.pools.retain(|pool| pool.pool.id.0 != id);
        yard.runners.retain(|runner| runner.pool_id.0 != id);
        yard.look();
        yard
    }

    /// The yard as it would be if a runner were like this, or gone.
    pub fn with_runner(&self, id: RunnerId, changed: Option<Runner>) -> Yard {
        let mut yard = self.clone();
        yard.runners.retain(|runner| runner.id.0 != id);
        yard.runners.extend(changed);
        yard.look();
        yard
    }

    /// Slots that are held at or below a place.
    pub fn held(&self, place: &str) -> u32 {
        let below = self.held.iter().filter(|held| below(place, &held.project));
        u32::try_from(below.map(|held| held.slots).sum::<i64>()).unwrap_or(0)
    }

    /// Seats of a name that are taken.
    pub fn taken(&self, seat: &str) -> u32 {
        let held = self
            .holdings
            .iter()
            .filter(|holding| holding.name == seat && holding.back_at.is_none());
        u32::try_from(held.map(|holding| holding.count).sum::<i64>()).unwrap_or(0)
    }

    /// The limit that a project has reached, its own or that of a team above it: the lowest.
    fn limit(&self, project: &str) -> Option<Limit> {
        let above = self
            .places
            .iter()
            .filter(|place| below(&place.path, project));
        above
            .filter_map(|place| {
                let limit = place.view().limit?;
                let held = self.held(&place.path);
                (held >= limit).then(|| Limit {
                    place: place.path.clone(),
                    held,
                    limit,
                })
            })
            .max_by_key(|limit| limit.place.len())
    }

    /// Runners that have joined, with what dispatch knows of them.
    pub fn joined(&self) -> impl Iterator<Item = (&RunnerView, &PoolView)> + Clone {
        self.views
            .iter()
            .filter(|view| view.state != RunnerState::Awaited)
            .filter_map(|view| Some((view, self.pool_views.get(&view.pool)?)))
    }

    /// The words of a requirement that no runner knows, each with the nearest known one.
    pub fn hints(&self, requirement: &Requirement) -> Vec<Hint> {
        let subjects = || self.joined().map(|(runner, _)| &runner.subject);
        let words = self.words.get_or_init(|| Vocabulary::of(subjects()));
        words.hints(requirement)
    }

    /// Runners that have joined and satisfy a requirement, their pool's openness included.
    pub fn satisfying(
        &self,
        requirement: &Requirement,
    ) -> impl Iterator<Item = (&RunnerView, &PoolView)> + Clone + use<'_> {
        let text = requirement.to_string();
        let known = || {
            let all = &self.satisfying.0;
            all.lock().unwrap_or_else(PoisonError::into_inner)
        };
        let found = known().get(&text).cloned();
        let found = found.unwrap_or_else(|| {
            let views = self.views.iter().enumerate();
            let satisfies = |view: &RunnerView| {
                let pool = self.pool_views.get(&view.pool);
                view.state != RunnerState::Awaited
                    && pool.is_some_and(|pool| pool.admits(requirement, &view.subject))
            };
            let found = views.filter(|(_, view)| satisfies(view));
            let found: Arc<[usize]> = found.map(|(at, _)| at).collect();
            let mut known = known();
            if known.len() < REMEMBERED {
                known.insert(text, found.clone());
            }
            found
        });
        let one = |at: usize| {
            let view = self.views.get(at)?;
            Some((view, self.pool_views.get(&view.pool)?))
        };
        (0..found.len()).filter_map(move |n| one(*found.get(n)?))
    }

    /// The pools with a runner that satisfies a requirement, or that could make one, by id: in reach or not.
    pub fn able(&self, requirement: &Requirement) -> BTreeMap<PoolId, &PoolView> {
        let made = self.pool_views.values().filter(|pool| {
            let makes = pool.makes.as_ref();
            makes.is_some_and(|makes| pool.admits(requirement, makes))
        });
        let there = self.satisfying(requirement);
        let all = made.chain(there.map(|(_, pool)| pool));
        all.map(|pool| (pool.id, pool)).collect()
    }

    /// Those of them that jobs from there may use.
    pub fn takers(&self, requirement: &Requirement, origin: Origin<'_>) -> BTreeSet<PoolId> {
        let able = self.able(requirement).into_iter();
        able.filter(|(_, pool)| pool.reaches(origin))
            .map(|(id, _)| id)
            .collect()
    }

    /// The eligibility counts of a requirement for any project.
    pub fn standing_of_anybody(&self, requirement: &Requirement) -> EligibilityCounts {
        let mut standing = EligibilityCounts::default();
        for (runner, pool) in self.joined() {
            if pool.admits(requirement, &runner.subject) {
                standing.count(true, pool.willingness(runner));
            }
        }
        standing
    }

    /// How a project's requirement stands here, with the seats that its jobs need: those of the job with this number.
    pub fn standing(
        &self,
        requirement: &Requirement,
        origin: Origin<'_>,
        needs: &SeatNeeds,
        job: Option<i64>,
    ) -> EligibilityCounts {
        let pools = self.pool_views.values();
        let mut standing =
            EligibilityCounts::of(requirement, origin, pools, self.satisfying(requirement));
        standing.limit = self.limit(origin.project);
        standing.seats = needs
            .iter()
            .map(|(name, wanted)| {
                let seat = self.seats.iter().find(|seat| seat.name == *name);
                let kept = seat.map_or(&[][..], |seat| &seat.reserved_for.0);
                let before = || kept.iter().take_while(|claim| Some(claim.number) != job);
                SeatStanding {
                    name: name.clone(),
                    wanted: *wanted,
                    count: seat.map_or(0, |seat| seat.count.max(0).unsigned_abs()),
                    taken: self.taken(name),
                    set_aside: before().map(|claim| claim.count).sum(),
                    set_aside_for: before().next().map(SeatReservation::name),
                }
            })
            .collect();
        standing
    }
}
