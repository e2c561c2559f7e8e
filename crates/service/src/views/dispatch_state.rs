//! The state of dispatch as the record has it: what a new leader begins with, and what a question about the line is
//! answered from.

use pennine_core::dispatch::{Event, RunnerView, SharePolicy, State};
use pennine_core::id::StrandId;
use pennine_core::time::Moment;
use pennine_store::maintenance::Calendar;
use pennine_store::{
    Connection, Result, attempt, job, place, pool, runner, seat, set_aside, share, strand,
};
use std::collections::BTreeSet;
use std::time::Duration;

/// Reads everything that dispatch goes by, and the strands in which jobs wait. `adjust` may show a runner as another than
/// it is.
pub async fn read(
    connection: &mut Connection,
    calendar: &Calendar,
    now: Moment,
    mut adjust: impl FnMut(&mut RunnerView),
) -> Result<(State, BTreeSet<StrandId>)> {
    let mut state = State::default();
    let set_aside = set_aside::list(connection, now).await?;
    state.set_aside(set_aside.into_iter().map(|one| one.entity.0));
    for event in places_and_seats(connection).await? {
        state.apply(event, now);
    }
    let half_life = SharePolicy::default().half_life;
    for used in share::used(connection, half_life, now).await? {
        let slot_time = Duration::try_from_secs_f64(used.seconds).unwrap_or_default();
        let project = used.project;
        state.apply(Event::Used { project, slot_time }, now);
    }
    for pool in pool::list(connection).await? {
        state.apply(Event::Pool(Box::new(calendar.pool(&pool, now))), now);
    }
    for runner in runner::list(connection, None).await? {
        let mut view = calendar.runner(&runner, now);
        adjust(&mut view);
        state.apply(Event::Runner(Box::new(view)), now);
    }
    let waiting = job::all_waiting(connection).await?;
    let open = attempt::open(connection).await?;
    let strands: BTreeSet<StrandId> = waiting
        .iter()
        .map(|job| job.strand_id.0)
        .chain(open.iter().map(|one| one.strand_id.0))
        .collect();
    let strands: Vec<StrandId> = strands.into_iter().collect();
    for found in strand::get(connection, &strands).await? {
        state.apply(
            Event::Strand {
                id: found.id.0,
                key: found.key.0,
                project: found.project,
            },
            now,
        );
    }
    for (id, _, segments) in strand::latest(connection, &strands).await? {
        state.restore_reasons(id, segments);
    }
    for open in open {
        state.apply(
            Event::Holds {
                attempt: open.id.0,
                job: open.job_id.0,
                runner: open.runner_id.0,
                strand: open.strand_id.0,
                since: open.assigned_at.0,
            },
            now,
        );
        if open.seats_back {
            state.apply(Event::SeatsTakenBack { attempt: open.id.0 }, now);
        }
    }
    let mut waiting_strands = BTreeSet::new();
    for job in waiting {
        waiting_strands.insert(job.strand_id.0);
        state.apply(waits(&job), now);
    }
    Ok((state, waiting_strands))
}

/// The tree's places and the seats.
pub async fn places_and_seats(connection: &mut Connection) -> Result<Vec<Event>> {
    let places = place::all(connection).await?;
    let seats = seat::list(connection).await?;
    let places = places.into_iter().map(|place| Event::Place(place.view()));
    let seats = seats.into_iter().map(|seat| Event::Seats {
        name: seat.name,
        count: seat.count.max(0).unsigned_abs(),
    });
    Ok(places.chain(seats).collect())
}

/// A job that waits.
pub fn waits(job: &job::WaitingJob) -> Event {
    Event::Waits {
        job: job.id.0,
        strand: job.strand_id.0,
        ready: job.ready_at.0,
        since: job.waits_since.0,
        number: job.number,
        avoid: job.avoid_runner.map(|id| id.0),
    }
}
