//! The outcome of a job when its attempt is lost, when it gives up waiting or is cancelled; and when an attempt or a runner
//! counts as lost.
//!
//! Each is a pure function. The caller stores the outcome on the condition that its inputs still hold, and decides again if they
//! do not.

use super::attempt::{AttemptState, LEASE};
use super::job::Outcome;
use crate::id::{RunnerId, SessionId};
use crate::time::{Moment, spoken};
use std::time::Duration;

/// An assignment that is not acknowledged within this time is withdrawn.
pub const ACKNOWLEDGE: Duration = Duration::from_secs(3);
/// A runner is offline when it has not reported for this long. Polls come at least every 8 s or so.
pub const SILENCE: Duration = Duration::from_secs(15);
/// How long a runner may take to reconnect after its connection was closed.
pub const RECONNECT: Duration = Duration::from_secs(6);

/// The time limit of a cancellation: the attempt ends then, whatever its runner does.
pub const CANCELLATION: Duration = Duration::from_secs(30);

/// After a takeover, how long runners may take to reconnect before any is marked offline.
pub const TAKEOVER_GRACE: Duration = Duration::from_secs(20);

/// The part of a job that its outcome depends on.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct JobView {
    /// How many attempts may be lost before the job fails.
    pub tries: u32,
    /// How many attempts were lost.
    pub losses: u32,
    /// Who requested its cancellation.
    pub cancelled_by: Option<String>,
    /// How long it waits for a runner before it gives up.
    pub give_up_after: Option<Duration>,
}

/// Why an attempt was lost.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Loss {
    /// The message for people.
    pub message: String,
    /// Whether it counts against the job's tries.
    pub counts: bool,
}

/// What happens to a job.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum JobOutcome {
    /// It waits again, at its old place in the queue.
    Retry {
        losses: u32,
        /// The runner to avoid from now on.
        avoid: RunnerId,
        give_up_at: Option<Moment>,
    },
    /// It is done.
    Done {
        losses: u32,
        result: Outcome,
        message: String,
    },
}

/// Returns the outcome of a job whose attempt on `runner` was lost: a job with a pending cancellation is cancelled, a job with
/// attempts left waits again, and any other job ends with an error.
pub fn after_loss(job: &JobView, loss: &Loss, runner: RunnerId, now: Moment) -> JobOutcome {
    let losses = job.losses.saturating_add(u32::from(loss.counts));
    if let Some(by) = &job.cancelled_by {
        return JobOutcome::Done {
            losses,
            result: Outcome::Cancellation,
            message: cancelled(by),
        };
    }
    if losses < job.tries {
        return JobOutcome::Retry {
            losses,
            avoid: runner,
            give_up_at: job.give_up_after.map(|after| now + after),
        };
    }
    JobOutcome::Done {
        losses,
        result: Outcome::Error,
        message: format!("every attempt was lost; last: {}", loss.message),
    }
}

/// Returns the message of a cancelled job.
pub fn cancelled(by: &str) -> String {
    format!("cancelled by {by}")
}

/// Returns the result and message of a job that no runner had started by `give_up_at`.
pub fn gave_up(give_up_at: Moment) -> (Outcome, String) {
    let at = jiff::Timestamp::from_microsecond(give_up_at.micros()).unwrap_or_default();
    let message = format!(
        "gave up waiting: no runner had started it by {} UTC",
        at.strftime("%Y-%m-%d %H:%M:%S")
    );
    (Outcome::Timeout, message)
}

/// Returns the result and message of a job that was submitted with `fail_unmatched` and that no runner or pool can run.
pub fn unmatched() -> (Outcome, String) {
    let message = "no runner satisfies its requirement, and it was submitted with fail_unmatched";
    (Outcome::Error, message.to_owned())
}

/// The last contact of a runner.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct LastContact {
    pub at: Moment,
    pub session: SessionId,
    /// When it closed its connection, if it did.
    pub closed_at: Option<Moment>,
}

/// An open attempt, as the leader watches it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct OpenAttempt<'a> {
    pub state: AttemptState,
    pub assigned_at: Moment,
    /// The session that holds it; none before it was acknowledged.
    pub session: Option<SessionId>,
    pub runner: &'a str,
    pub runner_is_retired: bool,
    /// When the cancellation of its job was requested.
    pub cancelled_at: Option<Moment>,
}

/// Returns the loss of an attempt that a live session should hold and does not name.
pub fn not_held(runner: &str) -> Loss {
    Loss {
        message: format!("{runner} no longer holds the job"),
        counts: true,
    }
}

/// Returns why an attempt is lost, if it is. Nothing that was due before `leases_since` counts against a runner: leases start
/// again when a leader takes over, and after a gap in which nothing could be heard. A cancellation does not wait for either.
pub fn attempt_loss(
    attempt: &OpenAttempt<'_>,
    last_contact: Option<&LastContact>,
    leases_since: Moment,
    now: Moment,
) -> Option<Loss> {
    let loss = |message: String, counts| Some(Loss { message, counts });
    let runner = attempt.runner;
    if attempt.runner_is_retired {
        return loss(format!("{runner} was retired"), false);
    }
    if attempt
        .cancelled_at
        .is_some_and(|at| now.since(at) > CANCELLATION)
    {
        let waited = spoken(CANCELLATION);
        return loss(
            format!("{runner} did not confirm the cancellation within {waited}"),
            false,
        );
    }
    if attempt.state == AttemptState::Assigned {
        let overdue = now.since(attempt.assigned_at.max(leases_since)) > ACKNOWLEDGE;
        let message = || {
            format!(
                "{runner} did not acknowledge the job within {}",
                spoken(ACKNOWLEDGE)
            )
        };
        return overdue
            .then(message)
            .and_then(|message| loss(message, false));
    }
    if let (Some(last_contact), Some(session)) = (last_contact, attempt.session)
        && last_contact.session != session
    {
        return loss(format!("{runner} was restarted and lost the job"), true);
    }
    let renewed = last_contact.map_or(leases_since, |last_contact| {
        last_contact.at.max(leases_since)
    });
    let ended = now.since(renewed) > LEASE;
    let message = || format!("{runner} has not reported for {}", spoken(LEASE));
    ended.then(message).and_then(|message| loss(message, true))
}

/// Returns why a connected runner is offline, if it is.
pub fn runner_loss(
    last_contact: Option<&LastContact>,
    leases_since: Moment,
    now: Moment,
) -> Option<String> {
    let silence = now.since(last_contact.map_or(leases_since, |last_contact| last_contact.at));
    let closed_at = last_contact.and_then(|last_contact| last_contact.closed_at);
    if closed_at.is_some_and(|at| now.since(at) > RECONNECT) {
        let reason = "closed its connection and did not reconnect";
        return Some(reason.to_owned());
    }
    (silence > SILENCE).then(|| {
        format!(
            "no report for {}; the connection was not closed: the machine or the network is gone",
            spoken(silence)
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use uuid::Uuid;

    const NOW: Moment = Moment::from_micros(1_795_415_517_000_000);

    fn runner() -> RunnerId {
        RunnerId(Uuid::from_u128(7))
    }

    fn job(tries: u32, losses: u32) -> JobView {
        JobView {
            tries,
            losses,
            cancelled_by: None,
            give_up_after: None,
        }
    }

    fn loss(counts: bool) -> Loss {
        Loss {
            message: "fell-01 was restarted and lost the job".to_owned(),
            counts,
        }
    }

    #[test]
    fn a_job_is_retried_until_its_tries_are_used() {
        // tries, losses before, whether this one counts, losses after, whether it is retried
        for (tries, before, counts, after, again) in [
            (3, 0, true, 1, true),
            (3, 1, true, 2, true),
            (3, 2, true, 3, false),
            (3, 2, false, 2, true),
            (1, 0, true, 1, false),
            (1, 0, false, 0, true),
        ] {
            let case = format!("{tries} tries, {before} lost, counts: {counts}");
            match after_loss(&job(tries, before), &loss(counts), runner(), NOW) {
                JobOutcome::Retry { losses, avoid, .. } => {
                    assert!(again, "{case}");
                    assert_eq!((losses, avoid), (after, runner()), "{case}");
                }
                JobOutcome::Done {
                    losses,
                    result,
                    message,
                } => {
                    assert!(!again, "{case}");
                    assert_eq!((losses, result), (after, Outcome::Error), "{case}");
                    assert!(message.contains("fell-01 was restarted"), "{message}");
                }
            }
        }
    }

    #[test]
    fn a_lost_job_with_a_pending_cancellation_is_cancelled_without_a_retry() {
        let view = JobView {
            cancelled_by: Some("ada".to_owned()),
            ..job(3, 0)
        };
        assert_eq!(
            after_loss(&view, &loss(true), runner(), NOW),
            JobOutcome::Done {
                losses: 1,
                result: Outcome::Cancellation,
                message: "cancelled by ada".to_owned(),
            }
        );
    }

    #[test]
    fn the_time_to_give_up_restarts_with_each_wait() {
        let after = Duration::from_secs(60);
        let view = JobView {
            give_up_after: Some(after),
            ..job(3, 0)
        };
        let outcome = after_loss(&view, &loss(true), runner(), NOW);
        assert!(
            matches!(outcome, JobOutcome::Retry { give_up_at, .. } if give_up_at == Some(NOW + after)),
            "{outcome:?}"
        );
        let (result, message) = gave_up(NOW);
        assert_eq!(result, Outcome::Timeout);
        assert!(message.ends_with("2026-11-23 06:31:57 UTC"), "{message}");
    }

    proptest! {
        #[test]
        fn a_job_is_over_after_as_many_counted_losses_as_it_has_tries(
            tries in 1_u32..20,
            counted in proptest::collection::vec(any::<bool>(), 1..60),
        ) {
            let mut view = job(tries, 0);
            let mut lost = 0;
            for counts in counted {
                lost += u32::from(counts);
                match after_loss(&view, &loss(counts), runner(), NOW) {
                    JobOutcome::Retry { losses, .. } => {
                        prop_assert!(lost < tries);
                        prop_assert_eq!(losses, lost);
                        view.losses = losses;
                    }
                    JobOutcome::Done { .. } => {
                        prop_assert_eq!(lost, tries);
                        return Ok(());
                    }
                }
            }
        }
    }

    fn session(number: u128) -> SessionId {
        SessionId(Uuid::from_u128(number))
    }

    fn open(state: AttemptState) -> OpenAttempt<'static> {
        OpenAttempt {
            state,
            assigned_at: NOW,
            session: (state != AttemptState::Assigned).then(|| session(1)),
            runner: "fell-01",
            runner_is_retired: false,
            cancelled_at: None,
        }
    }

    fn last_contact(at: Moment) -> LastContact {
        LastContact {
            at,
            session: session(1),
            closed_at: None,
        }
    }

    #[test]
    fn an_attempt_is_lost_when_it_is_not_taken_when_its_lease_ends_and_when_its_session_is_another()
    {
        let second = Duration::from_secs(1);
        let long_ago = NOW - Duration::from_secs(3600);
        let lost = |attempt: &OpenAttempt<'_>,
                    last_contact: Option<LastContact>,
                    since: Moment,
                    now: Moment| {
            attempt_loss(attempt, last_contact.as_ref(), since, now).map(|loss| loss.counts)
        };
        let assigned = open(AttemptState::Assigned);
        assert_eq!(lost(&assigned, None, long_ago, NOW + ACKNOWLEDGE), None);
        let late = NOW + ACKNOWLEDGE + second;
        assert_eq!(lost(&assigned, None, long_ago, late), Some(false));
        // A leader that has just taken over restarts its lease.
        assert_eq!(lost(&assigned, None, late, late + second), None);
        let executing = open(AttemptState::Executing);
        let ended = NOW + LEASE + second;
        assert_eq!(
            lost(&executing, Some(last_contact(NOW)), long_ago, NOW + LEASE),
            None
        );
        assert_eq!(
            lost(&executing, Some(last_contact(NOW)), long_ago, ended),
            Some(true)
        );
        assert_eq!(
            lost(&executing, Some(last_contact(NOW)), ended, ended + second),
            None
        );
        let other = LastContact {
            session: session(2),
            ..last_contact(ended)
        };
        assert_eq!(lost(&executing, Some(other), long_ago, ended), Some(true));
        let retired = OpenAttempt {
            runner_is_retired: true,
            ..executing
        };
        assert_eq!(
            lost(&retired, Some(last_contact(NOW)), long_ago, NOW),
            Some(false)
        );
    }

    #[test]
    fn a_cancelled_attempt_is_over_after_its_limit_whatever_else_is_known() {
        let cancelled = OpenAttempt {
            cancelled_at: Some(NOW),
            ..open(AttemptState::Finalizing)
        };
        let loss = |now| attempt_loss(&cancelled, Some(&last_contact(now)), now, now);
        assert_eq!(loss(NOW + CANCELLATION), None);
        let late = NOW + CANCELLATION + Duration::from_secs(1);
        let message = loss(late).expect("it is over").message;
        assert!(
            message.contains("did not confirm the cancellation"),
            "{message}"
        );
    }

    #[test]
    fn a_runner_is_offline_when_it_is_silent_or_closed_its_connection_and_stays_away() {
        let second = Duration::from_secs(1);
        let silent = |last_contact: LastContact, now| runner_loss(Some(&last_contact), NOW, now);
        assert_eq!(silent(last_contact(NOW), NOW + SILENCE), None);
        let reason = silent(last_contact(NOW), NOW + SILENCE + second).expect("it is silent");
        assert!(reason.contains("16 s"), "{reason}");
        let closed = LastContact {
            closed_at: Some(NOW),
            ..last_contact(NOW)
        };
        assert_eq!(silent(closed, NOW + RECONNECT), None);
        let reason = silent(closed, NOW + RECONNECT + second).expect("it stays away");
        assert!(reason.contains("closed"), "{reason}");
        assert!(runner_loss(None, NOW, NOW + SILENCE + second).is_some());
    }
}
