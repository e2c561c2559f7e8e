//! The yard as the record has it, and the record of what went on in it.

use crate::Error;
use crate::scenario::{Left, Scenario};
use pennine_core::access::ActorKind;
use pennine_core::dispatch::{Band, Event, Reason, RunnerView, SeatNeeds, Segment, StrandKey};
use pennine_core::fact::Subject;
use pennine_core::id::{JobId, PlaceId, PoolId, RunId, RunnerId, StrandId};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::requirement::Requirement;
use pennine_core::time::Moment;
use pennine_core::trust::Trust;
use pennine_store::audit::Actor;
use pennine_store::history::{self, PastJob, PastLevel, PastMachine, PastReason, PastRunner};
use pennine_store::job::{self, NewJob};
use pennine_store::place::Place;
use pennine_store::pool::OwnedPool;
use pennine_store::seat::Seat;
use pennine_store::{Connection, Db, connect, measure, place, pool, runner, seat, strand};
use rand::{Rng, RngExt};
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

/// A stretch in which a machine was there, or took work.
#[derive(Clone, Copy, Debug)]
pub struct StrandVisit {
    /// Its place in the scenario.
    pub machine: usize,
    pub from: Moment,
    pub until: Moment,
}

/// Rows that are written at once.
const AT_ONCE: usize = 2000;

/// A strand of the scenario's work.
pub struct Strand {
    pub id: StrandId,
    pub project: PlaceId,
    key: StrandKey,
    path: String,
}

/// The yard of that time.
pub struct Yard {
    places: Vec<Place>,
    pools: Vec<OwnedPool>,
    seats: Vec<Seat>,
    runners: Vec<PastRunner>,
    strands: Vec<Strand>,
}

impl Yard {
    /// Reads the places, pools and seats that the scenario is about, and makes its strands.
    pub async fn read(
        connection: &mut Connection,
        scenario: &Scenario,
        from: Moment,
        until: Moment,
        lots: &mut impl Rng,
    ) -> Result<Yard, Error> {
        let places = place::all(connection).await?;
        let pools = pool::list(connection).await?;
        let there = runner::list(connection, None).await?;
        let mut runners = Vec::new();
        for machine in &scenario.runners {
            let pool = named(&pools, &machine.pool)?;
            let fresh = RunnerId(Uuid::from_u128(lots.random()));
            let same = there
                .iter()
                .find(|one| one.pool == machine.pool && one.name == machine.name);
            runners.push(PastRunner {
                id: same.map_or(fresh, |one| one.id.0),
                pool: pool.pool.id.0,
                name: machine.name.clone(),
                slots: machine.slots,
                labels: machine.labels.clone(),
                facts: machine.facts.clone(),
                from,
                until,
                reason: "it belongs to the made-up history".to_owned(),
            });
        }
        let mut strands = Vec::new();
        for work in &scenario.work {
            let (project, key) = alike(
                &places,
                &work.project,
                &work.requirement,
                work.band,
                &work.seats,
            )?;
            let fresh = StrandId(Uuid::from_u128(lots.random()));
            strands.push(Strand {
                id: strand::ensure(connection, fresh, &key, from).await?,
                project: project.id.0,
                key,
                path: project.path.clone(),
            });
        }
        Ok(Yard {
            places,
            pools,
            seats: seat::list(connection).await?,
            runners,
            strands,
        })
    }

    /// The event of a strand.
    pub fn strand_event(&self, id: StrandId) -> Option<Event> {
        let strand = self.strands.iter().find(|strand| strand.id == id)?;
        Some(Event::Strand {
            id,
            key: strand.key.clone(),
            project: strand.path.clone(),
        })
    }

    /// How everything stood at the beginning.
    pub fn begin(&self) -> Vec<Event> {
        let places = self.places.iter().map(|place| Event::Place(place.view()));
        let seats = self.seats.iter().map(|seat| Event::Seats {
            name: seat.name.clone(),
            count: seat.count.max(0).unsigned_abs(),
        });
        let pools = self
            .pools
            .iter()
            .map(|pool| Event::Pool(Box::new(pool.view())));
        let runners =
            (0..self.runners.len()).filter_map(|at| self.runner(at, RunnerState::Available));
        places.chain(seats).chain(pools).chain(runners).collect()
    }

    /// One of the scenario's machines in some state.
    pub fn runner(&self, at: usize, state: RunnerState) -> Option<Event> {
        let one = self.runners.get(at)?;
        let pool = self.pools.iter().find(|pool| pool.pool.id.0 == one.pool)?;
        let labels = one.labels.iter().chain(&pool.pool.labels);
        let labels = labels.map(String::as_str);
        Some(Event::Runner(Box::new(RunnerView {
            id: one.id,
            subject: Subject::new(&one.name, &pool.pool.name, labels, &one.facts),
            name: one.name.clone(),
            pool: one.pool,
            slots: one.slots,
            state,
            desired_state: DesiredState::Work,
        })))
    }

    /// A pool, paused or not.
    pub fn pool(&self, name: &str, paused: bool) -> Result<Event, Error> {
        let mut view = named(&self.pools, name)?.view();
        view.paused = paused;
        Ok(Event::Pool(Box::new(view)))
    }

    /// The strand of one kind of work.
    pub fn strand(&self, work: usize) -> Option<&Strand> {
        self.strands.get(work)
    }

    /// Every strand.
    pub fn strands(&self) -> &[Strand] {
        &self.strands
    }

    /// What a supplier made for this stay, where its pool gets its machines so.
    fn machine(&self, stay: &StrandVisit) -> Option<PastMachine> {
        let runner = self.runners.get(stay.machine)?;
        let pool = self
            .pools
            .iter()
            .find(|pool| pool.pool.id.0 == runner.pool)?;
        let supply = pool.supply()?;
        Some(PastMachine {
            // Like everything here, the same on the same day.
            id: Uuid::new_v5(&runner.id.0, &stay.from.micros().to_be_bytes()),
            name: runner.name.clone(),
            pool: runner.pool,
            supplier: supply.supplier.clone(),
            runner: runner.id,
            policy_version: pool.pool.policy_version,
            price: pool.price(),
            ordered: stay.from - BOOT,
            joined: stay.from,
            released: stay.until,
            ended: stay.until + RELEASE,
        })
    }

    /// What waits still at the end, as it is submitted.
    pub fn left(&self, left: &[Left], until: Moment) -> Result<Vec<Waiting>, Error> {
        left.iter()
            .map(|one| {
                let (project, key) = alike(
                    &self.places,
                    &one.project,
                    &one.requirement,
                    one.band,
                    &one.seats,
                )?;
                let at = one.ready(until);
                let job = NewJob {
                    id: JobId(Uuid::now_v7()),
                    run: RunId(Uuid::now_v7()),
                    project: project.id.0,
                    strand: StrandId(Uuid::now_v7()),
                    title: one.title.clone(),
                    requirement: one.requirement.clone(),
                    command: one.command.clone(),
                    variables: BTreeMap::new(),
                    secrets: BTreeMap::new(),
                    time_limit: Duration::from_secs(3600).into(),
                    tries: 1,
                    band: one.band,
                    seats: one.seats.clone(),
                    trust: Trust::Trusted,
                    give_up: None,
                    fail_unmatched: false,
                    retries: None,
                    by: Actor::named(ActorKind::Token, "forge").at(""),
                    at,
                };
                Ok(Waiting {
                    job,
                    key,
                    reason: one.reason,
                })
            })
            .collect()
    }

    /// A machine's pool, and the policy that held.
    pub fn pool_of(&self, runner: RunnerId) -> Option<(PoolId, i32)> {
        let one = self.runners.iter().find(|one| one.id == runner)?;
        let pool = self.pools.iter().find(|pool| pool.pool.id.0 == one.pool)?;
        Some((one.pool, pool.pool.policy_version))
    }
}

/// The project of that path, and what all jobs of it that ask for the same have in common.
fn alike<'a>(
    places: &'a [Place],
    project: &str,
    requirement: &str,
    band: Band,
    seats: &SeatNeeds,
) -> Result<(&'a Place, StrandKey), Error> {
    let project = places
        .iter()
        .find(|place| place.path == project)
        .ok_or_else(|| Error::Scenario(format!("there is no project {project}")))?;
    let requirement: Requirement = requirement
        .parse()
        .map_err(|e| Error::Scenario(format!("{requirement}: {e}")))?;
    let key = StrandKey {
        requirement: requirement.to_string(),
        project: project.id.0,
        band,
        seats: seats.clone(),
        workspace: None,
        trust: Trust::Trusted,
        approved_in: Default::default(),
    };
    Ok((project, key))
}

fn named<'a>(pools: &'a [OwnedPool], name: &str) -> Result<&'a OwnedPool, Error> {
    pools
        .iter()
        .find(|pool| pool.pool.name == name)
        .ok_or_else(|| Error::Scenario(format!("there is no pool {name}")))
}

/// What went on.
pub struct Past {
    pub jobs: Vec<PastJob>,
    pub reasons: Vec<PastReason>,
    pub levels: Vec<PastLevel>,
    /// When each machine was there, and when it took work.
    pub stays: (Vec<StrandVisit>, Vec<StrandVisit>),
    pub left: Vec<Waiting>,
}

/// A job that waits still, and what it waited for so far.
pub struct Waiting {
    job: NewJob,
    key: StrandKey,
    reason: Reason,
}

/// Writes all of it, or nothing.
pub async fn write(
    connection: &mut Connection,
    yard: &Yard,
    past: &Past,
    until: Moment,
) -> Result<(), Error> {
    connect::in_transaction(connection, async |connection| {
        for runner in &yard.runners {
            history::add_runner(connection, runner).await?;
        }
        for some in past.jobs.chunks(AT_ONCE) {
            history::add_jobs(connection, some).await?;
        }
        for some in past.reasons.chunks(AT_ONCE) {
            history::add_reasons(connection, some).await?;
        }
        for some in past.levels.chunks(AT_ONCE) {
            history::add_levels(connection, some).await?;
        }
        let (there, took) = &past.stays;
        for stay in took {
            if let Some(runner) = yard.runners.get(stay.machine) {
                let offer = measure::Offer {
                    runner_id: Db(runner.id),
                    pool_id: Db(runner.pool),
                    since: Db(stay.from),
                    until: Some(Db(stay.until)),
                    slots: i32::try_from(runner.slots).unwrap_or(i32::MAX),
                };
                measure::record_offer(connection, &offer).await?;
            }
        }
        for stay in there {
            if let Some(machine) = yard.machine(stay) {
                history::add_machine(connection, &machine).await?;
            }
        }
        for waiting in &past.left {
            let mut job = waiting.job.clone();
            job.strand = strand::ensure(connection, job.strand, &waiting.key, job.at).await?;
            let message = PastReason {
                strand: job.strand,
                since: job.at,
                segments: vec![Segment {
                    reason: waiting.reason,
                    jobs: None,
                }],
            };
            history::add_reasons(connection, &[message]).await?;
            job::submit(connection, job).await?;
        }
        Ok::<_, Error>(())
    })
    .await?;
    measure::rebuild(connection, until).await?;
    Ok(())
}

/// How long a made-up machine took to come up, and to go.
const BOOT: Duration = Duration::from_secs(75);
const RELEASE: Duration = Duration::from_secs(20);
