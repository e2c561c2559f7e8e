//! The jobs of a run as a graph: which of them are ready, which are skipped, and what the run amounts to.
//!
//! [`advance`] is called whenever something has happened to a job of the run, with all of its jobs as they are then. It depends on
//! nothing else, so that it does not matter which of two ends is recorded first. The caller holds the run's lock, stores each step
//! on the condition that the job is as it was, and writes them in the transaction in which the job that ended is stored.
//!
//! A job that waits for other jobs or for a person is `held`: time in that state is not queue wait.

mod state;

pub use state::{RunState, outcome, state};

use crate::lifecycle::job::{JobState, Outcome};
use crate::sheet::{Need, OnFailure};
use crate::time::Moment;

/// A job of a run, as its part in the graph.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GraphJob {
    /// Its name in the run, for messages.
    pub name: String,
    pub state: JobState,
    /// How it ended, where it is done.
    pub result: Option<Outcome>,
    /// The jobs that it waits for, by their positions in the run.
    pub needs: Vec<Need>,
    pub on_failure: OnFailure,
    /// Whether a person still has to release it.
    pub needs_release: bool,
    /// Whether a runner has it.
    pub is_assigned: bool,
    /// Whether it ended before a part of the run was tried again: it no longer stops other jobs.
    pub is_settled: bool,
}

/// What follows for a job.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Step {
    /// Everything that it waited for is there: it may wait for a runner.
    Ready,
    /// It will not run.
    Skip {
        /// The reason, for people.
        message: String,
    },
}

/// Whether the end of a job counts as a failure of the run, by which other jobs are stopped. A cancellation does not: it ends
/// what a person named, and what needs it.
fn is_failure(result: Outcome) -> bool {
    match result {
        Outcome::Failure | Outcome::Error | Outcome::Timeout => true,
        Outcome::Success | Outcome::Cancellation | Outcome::Skip => false,
    }
}

fn said(result: Outcome) -> &'static str {
    match result {
        Outcome::Success => "succeeded",
        Outcome::Failure => "failed",
        Outcome::Error => "ended with an error",
        Outcome::Timeout => "timed out",
        Outcome::Cancellation => "was cancelled",
        Outcome::Skip => "was skipped",
    }
}

/// Returns what follows for the jobs of a run, as positions in `jobs` with a step each; a job has at most one. A skipped job may
/// skip others: those steps are included.
pub fn advance(jobs: &[GraphJob]) -> Vec<(usize, Step)> {
    let mut ended: Vec<Option<Outcome>> = jobs.iter().map(|job| job.result).collect();
    let stopped = jobs.iter().find(|job| {
        !job.is_settled
            && job.on_failure != OnFailure::Continue
            && job.result.is_some_and(is_failure)
    });
    let mut steps: Vec<(usize, Step)> = Vec::new();
    let mut taken = vec![false; jobs.len()];
    // Each round but the last one skips a job at least.
    loop {
        let mut changed = false;
        for (position, job) in jobs.iter().enumerate() {
            if taken.get(position) != Some(&false) {
                continue;
            }
            let Some(step) = step(job, jobs, &ended, stopped) else {
                continue;
            };
            if matches!(step, Step::Skip { .. }) {
                changed = true;
                if let Some(end) = ended.get_mut(position) {
                    *end = Some(Outcome::Skip);
                }
            }
            if let Some(taken) = taken.get_mut(position) {
                *taken = true;
            }
            steps.push((position, step));
        }
        if !changed {
            break;
        }
    }
    steps.sort_by_key(|(position, _)| *position);
    steps
}

/// What follows for one job, where the others ended as they did.
fn step(
    job: &GraphJob,
    jobs: &[GraphJob],
    ended: &[Option<Outcome>],
    stopped: Option<&GraphJob>,
) -> Option<Step> {
    let is_waiting = match job.state {
        JobState::Held => true,
        JobState::Pending => !job.is_assigned,
        JobState::Executing | JobState::Finalizing | JobState::Done => false,
    };
    if !is_waiting {
        return None;
    }
    let end = |need: &Need| ended.get(need.job).copied().flatten();
    let skip = |message: String| Some(Step::Skip { message });
    // What only waits for the end of another job is there to follow a failure.
    let follows_failures = job.needs.iter().any(|need| !need.success);
    if let Some(failed) = stopped.filter(|_| !follows_failures) {
        let result = failed.result.unwrap_or(Outcome::Failure);
        return skip(format!("skipped: {} {}", failed.name, said(result)));
    }
    if job.state == JobState::Held {
        let missed = job.needs.iter().find_map(|need| {
            let result = end(need).filter(|result| need.success && *result != Outcome::Success)?;
            Some((jobs.get(need.job)?, result))
        });
        if let Some((needed, result)) = missed {
            return skip(format!("skipped: {} {}", needed.name, said(result)));
        }
    }
    let is_ready = job.state == JobState::Held
        && !job.needs_release
        && job.needs.iter().all(|need| end(need).is_some());
    is_ready.then_some(Step::Ready)
}

/// Why a job is held, for people: the jobs that it waits for, or the person; none where it is not held.
pub fn held_for(job: &GraphJob, jobs: &[GraphJob]) -> Option<String> {
    if job.state != JobState::Held {
        return None;
    }
    let open: Vec<&str> = (job.needs.iter())
        .filter_map(|need| jobs.get(need.job))
        .filter(|needed| needed.state != JobState::Done)
        .map(|needed| needed.name.as_str())
        .collect();
    Some(match open.as_slice() {
        [] => "waits for a person to release it".to_owned(),
        [one] => format!("waits for {one}"),
        [first, _] => format!("waits for {first} and 1 other job"),
        [first, rest @ ..] => format!("waits for {first} and {} other jobs", rest.len()),
    })
}

/// The jobs to try again, as positions in `jobs`: the ones chosen, and the ones that were skipped because of them. With `succeeded`
/// also what needed them and has run. Only jobs that are done are among them.
pub fn to_retry(jobs: &[GraphJob], chosen: &[usize], succeeded: bool) -> Vec<usize> {
    let is_done = |position: usize| {
        jobs.get(position)
            .is_some_and(|job| job.state == JobState::Done)
    };
    let mut again: Vec<bool> = (0..jobs.len())
        .map(|position| chosen.contains(&position) && is_done(position))
        .collect();
    loop {
        let mut changed = false;
        for (position, job) in jobs.iter().enumerate() {
            let follows = job.result == Some(Outcome::Skip) || (succeeded && is_done(position));
            let needs_one = job
                .needs
                .iter()
                .any(|need| again.get(need.job) == Some(&true));
            if let Some(own) = again
                .get_mut(position)
                .filter(|own| !**own && follows && needs_one)
            {
                *own = true;
                changed = true;
            }
        }
        if !changed {
            break;
        }
    }
    (0..jobs.len())
        .filter(|position| again.get(*position) == Some(&true))
        .collect()
}

/// The chain of jobs that made a run as long as it is, first to last, as positions: back from the job that ended last, each time to
/// the one that it needed and that ended last. `ends` has for each job when it ended, or the present moment where it executes; none
/// for a job that has not begun or never did.
pub fn critical_path(ends: &[Option<Moment>], needs: &[&[Need]]) -> Vec<usize> {
    let end = |position: usize| ends.get(position).copied().flatten();
    let last = |positions: &mut dyn Iterator<Item = usize>| {
        positions
            .filter_map(|position| Some((end(position)?, std::cmp::Reverse(position))))
            .max()
            .map(|(_, position)| position.0)
    };
    let mut path = Vec::new();
    let mut next = last(&mut (0..ends.len()));
    while let Some(position) = next.filter(|_| path.len() < ends.len()) {
        path.push(position);
        let needs = needs.get(position).copied().unwrap_or_default();
        next = last(&mut needs.iter().map(|need| need.job));
    }
    path.reverse();
    path
}

/// Whether a failed job is tried again: its sheet asks for it, and it has attempts left. `failures` counts the present one.
pub fn is_retried(on_failure: OnFailure, result: Outcome, failures: u32, tries: u32) -> bool {
    on_failure == OnFailure::Retry && result == Outcome::Failure && failures < tries
}

#[cfg(test)]
mod tests;
