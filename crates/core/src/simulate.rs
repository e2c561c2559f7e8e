//! The simulation loop: the engine in a made-up world, with a clock of its own.
//!
//! It runs the very stages that the leading replica runs, on jobs, runners and suppliers that are given, as fast as it
//! can. What takes part in it is decided by a [`World`]: when the next job comes, how long one runs, what becomes of an
//! order, which runners are lost. Nothing here draws lots: a world that wants chance brings its seed.
//!
//! ```text
//!   World::next ──> what happens, and when ────────┐
//!   attempts that end, machines that boot or go ───┼──> by time ──> Engine::apply, expire, assign, settle ──> World::started
//!   silence that lasts for too long ───────────────┘                                                          World::ordered
//! ```

mod machines;

use crate::capacity::Order;
use crate::dispatch::{self, Assignment, Inconsistency, RunnerView};
use crate::engine::{Engine, Event, Ids, Lease, Settlement};
use crate::id::{AttemptId, JobId, MachineId, RunnerId, SessionId, StrandId};
use crate::lifecycle::attempt::AttemptState;
use crate::lifecycle::outcome::{JobOutcome, JobView, LastContact, OpenAttempt, after_loss};
use crate::time::Moment;
use machines::Machines;
use rustc_hash::FxHashMap;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap};
use std::time::Duration;
use uuid::Uuid;

/// How often it is looked at whether a runner that is silent counts as lost.
const LOOK: Duration = Duration::from_secs(1);

/// How often it is decided again at one moment, at most.
const ROUNDS: usize = 8;

/// Something that happens by itself.
#[derive(Clone, PartialEq, Debug)]
pub enum SimulationEvent {
    /// Something in the queue or the yard is like this from now on: jobs come, policies change.
    Event(Event),
    /// A runner is not heard of any more, and neither are its attempts.
    RunnerSilent(RunnerId),
}

impl<T: Into<Event>> From<T> for SimulationEvent {
    fn from(event: T) -> Self {
        SimulationEvent::Event(event.into())
    }
}

/// What becomes of an order for a machine.
#[derive(Clone, PartialEq, Debug)]
pub enum OrderResult {
    /// The supplier will not make it.
    Refused { reason: String },
    /// It takes the order, and nothing ever comes of it.
    NeverBoots,
    /// The runner of the machine connects after this time; its state and its desired state are set by the simulation.
    Boots {
        after: Duration,
        runner: Box<RunnerView>,
    },
}

/// A job that was lost with its runner, as far as it matters to what becomes of it.
#[derive(Clone, PartialEq, Debug)]
pub struct LostJob {
    pub view: JobView,
    pub ready: Moment,
    pub number: i64,
}

/// What takes part in a simulation.
pub trait World {
    /// The next things that happen by themselves, all at one moment, never before what was given last. None when
    /// nothing more happens.
    fn next(&mut self) -> Option<(Moment, Vec<SimulationEvent>)>;

    /// A strand of which the engine was not told, or which it has forgotten.
    fn strand(&mut self, strand: StrandId) -> Option<dispatch::Event> {
        let _ = strand;
        None
    }

    /// A job was assigned: how long it will hold its slot.
    fn started(&mut self, assignment: &Assignment, at: Moment) -> Duration;

    /// An attempt has ended.
    fn ended(&mut self, attempt: AttemptId, at: Moment) {
        let _ = (attempt, at);
    }

    /// Everything of this moment is decided; its reasons are what was said at it.
    fn settled(&mut self, settlement: &Settlement, at: Moment) {
        let _ = (settlement, at);
    }

    /// A machine was ordered.
    fn ordered(&mut self, order: &Order, at: Moment) -> OrderResult {
        let _ = (order, at);
        OrderResult::Refused {
            reason: "this world makes no machines".to_owned(),
        }
    }

    /// How long it takes to remove a machine.
    fn removal(&mut self, machine: MachineId) -> Duration {
        let _ = machine;
        Duration::ZERO
    }

    /// The job of an attempt that is lost.
    fn lost_job(&mut self, job: JobId) -> LostJob {
        let _ = job;
        LostJob {
            view: JobView {
                tries: 1,
                losses: 0,
                cancelled_by: None,
                give_up_after: None,
            },
            ready: Moment::default(),
            number: 0,
        }
    }

    /// An attempt was lost, and this became of its job.
    fn lost(&mut self, attempt: AttemptId, outcome: &JobOutcome, at: Moment) {
        let _ = (attempt, outcome, at);
    }
}

/// What a simulation did.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Run {
    /// Attempts that were started.
    pub started: u64,
    /// Attempts that ended.
    pub ended: u64,
    /// Attempts that were lost.
    pub lost: u64,
    /// Machines that were ordered.
    pub ordered: u64,
    /// How often something was decided.
    pub decisions: u64,
    /// When the last thing happened.
    pub until: Moment,
}

/// An attempt that is not over.
#[derive(Clone, Copy)]
struct Open {
    job: JobId,
    runner: RunnerId,
    strand: StrandId,
}

/// Ids by number.
struct Numbered(u64);

impl Numbered {
    fn next(&mut self) -> Uuid {
        self.0 += 1;
        Uuid::from_u128(u128::from(self.0))
    }
}

impl Ids for Numbered {
    fn attempt(&mut self) -> AttemptId {
        AttemptId(self.next())
    }

    fn machine(&mut self) -> (MachineId, RunnerId) {
        // Apart from the ids of a world, which begin at low numbers too.
        let apart = |id: Uuid| Uuid::from_u128(id.as_u128() | 1 << 100);
        (MachineId(apart(self.next())), RunnerId(apart(self.next())))
    }
}

/// Runs a world until nothing happens any more, or until this moment.
///
/// # Errors
/// [`Inconsistency`] if an event is inconsistent, such as a job in a strand that the world does not know.
pub fn simulate(
    engine: &mut Engine,
    world: &mut impl World,
    until: Moment,
) -> Result<Run, Inconsistency> {
    let mut simulation = Simulation {
        engine,
        coming: world.next(),
        ends: BinaryHeap::new(),
        open: FxHashMap::default(),
        silent: BTreeMap::new(),
        machines: Machines::default(),
        ids: Numbered(0),
        run: Run::default(),
    };
    while let Some(now) = simulation.next_moment().filter(|now| *now <= until) {
        simulation.run.until = now;
        simulation.end_attempts(world, now);
        simulation.run_due(world, now);
        simulation.machines.run_due(simulation.engine, now);
        simulation.expire(world, now);
        simulation.decide(world, now);
        if let Some(found) = simulation.engine.inconsistency() {
            return Err(found);
        }
    }
    Ok(simulation.run)
}

struct Simulation<'a> {
    engine: &'a mut Engine,
    coming: Option<(Moment, Vec<SimulationEvent>)>,
    ends: BinaryHeap<Reverse<(Moment, AttemptId)>>,
    open: FxHashMap<AttemptId, Open>,
    /// Runners that are silent, and when they were last heard of.
    silent: BTreeMap<RunnerId, Moment>,
    machines: Machines,
    ids: Numbered,
    run: Run,
}

impl Simulation<'_> {
    /// When something happens next. What only time brings matters while something else could still happen, or while there
    /// are machines.
    fn next_moment(&self) -> Option<Moment> {
        let ending = self.ends.peek().map(|Reverse((at, _))| *at);
        let coming = self.coming.as_ref().map(|(at, _)| *at);
        let silence = (!self.silent.is_empty()).then(|| self.run.until + LOOK);
        let capacity = self.engine.capacity();
        let may_order = self.engine.dispatch().waiting() > 0 && capacity.pools().next().is_some();
        let due = (may_order || capacity.machines().next().is_some())
            .then(|| self.engine.next_due(self.run.until))
            .flatten()
            .map(|due| due.max(self.run.until + Duration::from_micros(1)));
        let machines = self.machines.next();
        let all = [ending, coming, silence, due, machines];
        all.into_iter().flatten().min()
    }

    fn end_attempts(&mut self, world: &mut impl World, now: Moment) {
        while let Some(Reverse((at, attempt))) = self.ends.peek().copied() {
            if at > now {
                break;
            }
            self.ends.pop();
            let is_heard = |open: &Open| !self.silent.contains_key(&open.runner);
            let Some(open) = self.open.get(&attempt).copied().filter(is_heard) else {
                continue;
            };
            self.open.remove(&attempt);
            self.run.ended += 1;
            self.engine
                .apply(dispatch::Event::Released { attempt }, now);
            world.ended(attempt, now);
            self.machines.job_ended(self.engine, open.runner, now);
        }
    }

    fn run_due(&mut self, world: &mut impl World, now: Moment) {
        while let Some((at, happenings)) = self.coming.take() {
            if at > now {
                self.coming = Some((at, happenings));
                return;
            }
            for happening in happenings {
                match happening {
                    SimulationEvent::Event(event) => {
                        self.tell_strand(world, &event, now);
                        self.engine.apply(event, now);
                    }
                    SimulationEvent::RunnerSilent(runner) => {
                        self.silent.entry(runner).or_insert(now);
                    }
                }
            }
            self.coming = world.next();
        }
    }

    /// Tells the engine of the strand of a job that waits, where it does not know it.
    fn tell_strand(&mut self, world: &mut impl World, event: &Event, now: Moment) {
        if let Event::Dispatch(dispatch::Event::Waits { strand, .. }) = event
            && !self.engine.dispatch().knows_strand(*strand)
            && let Some(told) = world.strand(*strand)
        {
            self.engine.apply(told, now);
        }
    }

    /// Declares lost what has been silent for too long.
    fn expire(&mut self, world: &mut impl World, now: Moment) {
        if self.silent.is_empty() {
            return;
        }
        let session = SessionId::default();
        let leases: Vec<Lease<'_>> = self
            .open
            .iter()
            .filter(|(_, open)| self.silent.contains_key(&open.runner))
            .map(|(attempt, open)| Lease {
                attempt: *attempt,
                runner: open.runner,
                open: OpenAttempt {
                    state: AttemptState::Executing,
                    assigned_at: now,
                    session: Some(session),
                    runner: "a runner",
                    runner_is_retired: false,
                    cancelled_at: None,
                },
            })
            .collect();
        let silent = &self.silent;
        let contact = |runner: RunnerId| {
            let at = silent.get(&runner).copied().unwrap_or(now);
            Some(LastContact {
                at,
                session,
                closed_at: None,
            })
        };
        let mut expired = self.engine.expire(&leases, contact, now);
        // The order in which they are lost does not depend on a hash.
        expired.attempts.sort_by_key(|lost| lost.attempt);
        for lost in expired.runners {
            if let Some(view) = self.engine.dispatch().runner_view(lost.runner) {
                let mut view = Box::new(view.clone());
                view.state = lost.to;
                self.engine.apply(dispatch::Event::Runner(view), now);
            }
        }
        for lost in expired.attempts {
            let Some(open) = self.open.remove(&lost.attempt) else {
                continue;
            };
            self.run.lost += 1;
            let job = world.lost_job(open.job);
            let outcome = after_loss(&job.view, &lost.loss, open.runner, now);
            let attempt = lost.attempt;
            self.engine
                .apply(dispatch::Event::Released { attempt }, now);
            if let JobOutcome::Retry { avoid, .. } = outcome {
                let waits = dispatch::Event::Waits {
                    job: open.job,
                    strand: open.strand,
                    ready: job.ready,
                    since: now,
                    number: job.number,
                    avoid: Some(avoid),
                };
                let waits = Event::from(waits);
                self.tell_strand(world, &waits, now);
                self.engine.apply(waits, now);
            }
            world.lost(attempt, &outcome, now);
        }
        let (open, engine) = (&self.open, &self.engine);
        self.silent.retain(|runner, _| {
            let connected = engine.dispatch().runner_view(*runner);
            connected.is_some_and(|view| view.state.is_connected())
                || open.values().any(|open| open.runner == *runner)
        });
    }

    /// Decides, and again as long as suppliers answer at once.
    fn decide(&mut self, world: &mut impl World, now: Moment) {
        for _ in 0..ROUNDS {
            if !self.decide_once(world, now) {
                return;
            }
        }
    }

    /// Whether anything follows of it at this very moment.
    fn decide_once(&mut self, world: &mut impl World, now: Moment) -> bool {
        self.run.decisions += 1;
        for assignment in self.engine.assign(now, &mut self.ids) {
            self.run.started += 1;
            let held = world.started(&assignment, now);
            // Nothing ends at the moment at which it starts: time goes on.
            let end = now + held.max(Duration::from_micros(1));
            self.ends.push(Reverse((end, assignment.attempt)));
            let open = Open {
                job: assignment.job,
                runner: assignment.runner,
                strand: assignment.strand,
            };
            self.open.insert(assignment.attempt, open);
            self.machines.job_began(self.engine, assignment.runner, now);
        }
        let settlement = self.engine.settle(now, &mut self.ids);
        self.run.ordered += settlement.decided.orders.len() as u64;
        self.machines
            .carry_out(self.engine, world, &settlement, now);
        world.settled(&settlement, now);
        !settlement.joined.is_empty() || !settlement.decided.is_empty()
    }
}

#[cfg(test)]
mod tests;
