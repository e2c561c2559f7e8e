//! The simulation loop: an event queue around [`dispatch::State`](crate::dispatch::State), with a clock of its own.
//!
//! It runs the very dispatch that the leading replica runs, on jobs and runners that are given, as fast as it can. What
//! takes part in it is decided by a [`World`]: when the next job comes, how long one runs, what becomes of the yard.
//! Nothing here draws lots: a world that wants chance brings its seed.
//!
//! ```text
//!   World::next ──> what happens, and when ──┐
//!   attempts that end ───────────────────────┴──> by time ──> State::apply, State::plan ──> World::started
//! ```

use crate::dispatch::{Assignment, Event, Plan, State};
use crate::id::AttemptId;
use crate::time::Moment;
use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::time::Duration;
use uuid::Uuid;

/// What takes part in a simulation.
pub trait World {
    /// The next things that happen by themselves, all at one moment, never before what was given last. None when
    /// nothing more happens.
    fn next(&mut self) -> Option<(Moment, Vec<Event>)>;

    /// A job was assigned: how long it will hold its slot.
    fn started(&mut self, assignment: &Assignment, at: Moment) -> Duration;

    /// An attempt has ended.
    fn ended(&mut self, attempt: AttemptId, at: Moment) {
        let _ = (attempt, at);
    }

    /// A plan was made; its reasons are what was said at this moment.
    fn planned(&mut self, plan: &Plan, at: Moment) {
        let _ = (plan, at);
    }
}

/// What a simulation did.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Run {
    /// Attempts that were started.
    pub started: u64,
    /// Attempts that ended.
    pub ended: u64,
    /// Plans that were made.
    pub plans: u64,
    /// When the last thing happened.
    pub until: Moment,
}

/// Runs a world until nothing happens any more, or until this moment.
pub fn simulate(state: &mut State, world: &mut impl World, until: Moment) -> Run {
    let mut run = Run::default();
    let mut ends: BinaryHeap<Reverse<(Moment, u64)>> = BinaryHeap::new();
    let mut coming = world.next();
    let id = |number: u64| AttemptId(Uuid::from_u128(u128::from(number)));
    loop {
        let ending = ends.peek().map(|Reverse((at, _))| *at);
        let happening = coming.as_ref().map(|(at, _)| *at);
        // Jobs climb bands by themselves, which matters only while something else could still happen.
        let now = match (ending, happening) {
            (None, None) => return run,
            (Some(one), Some(other)) => one.min(other),
            (Some(one), None) | (None, Some(one)) => one,
        };
        if now > until {
            return run;
        }
        run.until = now;
        while let Some(Reverse((at, number))) = ends.peek().copied() {
            if at > now {
                break;
            }
            ends.pop();
            run.ended += 1;
            let attempt = id(number);
            state.apply(Event::Released { attempt }, now);
            world.ended(attempt, now);
        }
        while let Some((at, events)) = coming.take() {
            if at > now {
                coming = Some((at, events));
                break;
            }
            for event in events {
                state.apply(event, now);
            }
            coming = world.next();
        }
        let mut number = run.started;
        let plan = state.plan(now, &mut || {
            number += 1;
            id(number)
        });
        run.plans += 1;
        for assignment in &plan.assignments {
            run.started += 1;
            let held = world.started(assignment, now);
            // Nothing ends at the moment at which it starts: time goes on.
            let end = now + held.max(Duration::from_micros(1));
            ends.push(Reverse((end, run.started)));
        }
        world.planned(&plan, now);
    }
}

#[cfg(test)]
mod tests;
