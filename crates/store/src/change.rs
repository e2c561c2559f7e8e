//! The changes that the feed carries, one variant per kind, with one mapping to what is stored: a kind, the id of the
//! subject, and a JSON object with the remaining fields.
//!
//! Writers name a variant: in SQL with a `change` clause of [`crate::statement::sql!`], which does not compile unless it
//! gives exactly the variant's fields; in Rust with [`crate::outbox::write`]. Readers match on [`Change`] without a
//! wildcard, so that a new variant does not compile until every reader handles it.
//!
//! A replica may meet a kind that a newer one wrote, or a body that does not decode: see [`Undecodable`].

use pennine_core::alert::AlertKind;
use pennine_core::dispatch::Segment;
use pennine_core::id::{
    AttemptId, JobId, MachineId, MaintenanceId, PlaceId, PoolId, ReplicaId, RunnerId, StrandId,
    SupplierId,
};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use serde::{Deserialize, Serialize};
use std::fmt;
use uuid::Uuid;

macro_rules! changes {
    ($($(#[$doc:meta])* $kind:literal $variant:ident {
        $subject:ident: $id:ty $(, $(#[$attribute:meta])* $field:ident: $type:ty)* $(,)?
    })+) => {
        /// A change, as the feed carries it.
        #[derive(Clone, Debug, PartialEq)]
        pub enum Change {
            $($(#[$doc])* $variant { $subject: $id $(, $field: $type)* },)+
        }

        impl Change {
            /// Every kind, as it is stored.
            pub const KINDS: &[&str] = &[$($kind),+];

            /// Returns the stored kind: a noun and what happened to it, such as `job.pending`.
            pub fn kind(&self) -> &'static str {
                match self {
                    $(Change::$variant { .. } => $kind,)+
                }
            }

            /// Returns the id of what changed.
            pub fn subject(&self) -> Uuid {
                match self {
                    $(Change::$variant { $subject, .. } => Uuid::from(*$subject),)+
                }
            }

            /// Returns the fields other than the subject, as a JSON object.
            ///
            /// # Errors
            /// When a field cannot be written as JSON.
            pub fn body(&self) -> serde_json::Result<serde_json::Value> {
                match self {
                    $(Change::$variant { $subject: _, $($field),* } => {
                        #[derive(Serialize)]
                        struct Body<'a> {
                            $($field: &'a $type,)*
                            #[serde(skip)]
                            marker: std::marker::PhantomData<&'a ()>,
                        }
                        serde_json::to_value(Body { $($field,)* marker: std::marker::PhantomData })
                    })+
                }
            }

            /// Reads a stored change. Fields that this version does not know are passed over.
            ///
            /// # Errors
            /// A kind that this version does not know, or a body that does not fit the kind.
            pub fn decode(kind: &str, subject: Uuid, body: &[u8]) -> Result<Change, Undecodable> {
                match kind {
                    $($kind => {
                        #[derive(Deserialize)]
                        struct Body {
                            $($(#[$attribute])* $field: $type,)*
                        }
                        match serde_json::from_slice::<Body>(body) {
                            Ok(Body { $($field),* }) => Ok(Change::$variant {
                                $subject: <$id>::from(subject),
                                $($field),*
                            }),
                            Err(error) => Err(Undecodable::Body {
                                kind: $kind,
                                subject,
                                error: error.to_string(),
                            }),
                        }
                    })+
                    _ => Err(Undecodable::Kind { kind: kind.to_owned(), subject }),
                }
            }
        }

        /// The stored kind of a variant, as a literal.
        macro_rules! kind_of {
            $(($variant) => { $kind };)+
        }
        pub(crate) use kind_of;
    };
}

changes! {
    /// A job waits for a runner: for the first time, or again after an attempt was lost or its strand has changed.
    "job.pending" JobPending {
        job: JobId,
        strand: StrandId,
        project: PlaceId,
        number: i64,
        /// Whether the job waited before; its place in the queue is then on record.
        again: bool,
        /// Whether the job fails where no runner could ever match it.
        fail_unmatched: bool,
    }
    /// A job's command was started.
    "job.started" JobStarted { job: JobId, attempt: AttemptId, runner: RunnerId }
    /// A job's command has ended; its log and files are still on their way.
    "job.finalizing" JobFinalizing { job: JobId }
    /// A job has its result.
    "job.done" JobDone { job: JobId, result: Outcome }
    /// A job that executes is to be cancelled: its runner has to be told.
    "job.cancelling" JobCancelling { job: JobId, attempt: AttemptId, runner: RunnerId }
    /// An attempt was assigned to a runner.
    "attempt.assigned" AttemptAssigned {
        attempt: AttemptId,
        job: JobId,
        runner: RunnerId,
        strand: StrandId,
    }
    /// An attempt has ended: finished, or `lost`.
    "attempt.ended" AttemptEnded { attempt: AttemptId, job: JobId, runner: RunnerId, lost: bool }
    /// A person took the seats of an attempt back.
    "attempt.seats-taken-back" AttemptSeatsTakenBack {
        attempt: AttemptId,
        job: JobId,
        by: String,
        reason: String,
    }
    /// The reasons for which a strand's jobs wait are others now.
    "strand.reason" StrandReason { strand: StrandId, segments: Vec<Segment> }
    /// The queue as it is shown is another now.
    "queue.changed" QueueChanged { leader: ReplicaId }
    /// A runner's record was made, before the runner has connected.
    "runner.awaited" RunnerAwaited { runner: RunnerId }
    /// A runner has enrolled.
    "runner.joined" RunnerJoined { runner: RunnerId, name: String }
    /// A runner's labels, facts, slots, name or pool are others now.
    "runner.changed" RunnerChanged { runner: RunnerId }
    /// A runner's state is another now.
    "runner.state" RunnerStateChanged { runner: RunnerId, state: RunnerState, reason: String }
    /// What is asked of a runner is another now: to work, to pause, to drain.
    "runner.desired-state" RunnerDesiredStateChanged { runner: RunnerId, desired_state: DesiredState }
    /// A runner has left permanently.
    "runner.retired" RunnerRetired { runner: RunnerId, reason: Option<String> }
    /// A runner has replaced its credential.
    "runner.credential-renewed" RunnerCredentialRenewed { runner: RunnerId }
    /// A pool was added.
    "pool.added" PoolAdded { pool: PoolId, name: String }
    /// A pool's policy, labels or reach are others now.
    "pool.changed" PoolChanged { pool: PoolId, name: String }
    /// A pool was removed.
    "pool.removed" PoolRemoved { pool: PoolId, name: String }
    /// A pool has discovered the facts of its machines.
    "pool.facts" PoolFactsLearnt { pool: PoolId }
    /// The price of a pool's machines is another now.
    "pool.price" PoolPriceChanged { pool: PoolId }
    /// The capacity keeper has decided something about a pool.
    "pool.decided" PoolDecided { pool: PoolId }
    /// A team or a project was added.
    "place.added" PlaceAdded { place: PlaceId, path: String }
    /// The weight, limit or patience of a team or a project is another now.
    "place.changed" PlaceChanged { place: PlaceId, path: String }
    /// A team or a project has another path now, and with it everything below it.
    "place.moved" PlaceMoved { place: PlaceId, from: String, to: String }
    /// A team or a project was removed.
    "place.removed" PlaceRemoved { place: PlaceId, path: String }
    /// A kind of seat was added.
    "seat.added" SeatAdded { seat: Uuid, name: String, count: i32 }
    /// A kind of seat has another count or description now.
    "seat.changed" SeatChanged { seat: Uuid, name: String, count: i32 }
    /// The jobs for which seats of a kind are reserved are others now.
    "seat.reserved" SeatReserved { seat: Uuid, name: String }
    /// A machine was ordered, or its state is another now.
    "machine.changed" MachineChanged { machine: MachineId, pool: PoolId, state: MachineState }
    /// A supplier was added, changed or removed.
    "supplier.changed" SupplierChanged { supplier: SupplierId }
    /// A supplier has begun or ceased to fail.
    "supplier.failure" SupplierFailureChanged { supplier: SupplierId }
    /// Maintenance was scheduled.
    "maintenance.scheduled" MaintenanceScheduled { maintenance: MaintenanceId }
    /// Maintenance was cancelled, or is over.
    "maintenance.ended" MaintenanceEnded { maintenance: MaintenanceId }
    /// A target was added, changed or removed.
    "target.changed" TargetChanged { target: Uuid }
    /// An alert was raised.
    "alert.raised" AlertRaised {
        alert: Uuid,
        kind: AlertKind,
        subject: String,
        message: String,
        about: serde_json::Value,
    }
    /// A raised alert changed its state or was acknowledged.
    "alert.changed" AlertChanged { alert: Uuid }
    /// An alert that was raised is over.
    "alert.ended" AlertEnded {
        alert: Uuid,
        kind: AlertKind,
        subject: String,
        message: String,
        about: serde_json::Value,
    }
    /// A listener was added, changed or removed.
    "listener.changed" ListenerChanged { listener: Uuid }
    /// The yard file was applied.
    "yard-file.applied" YardFileApplied { installation: Uuid }
    /// The yard file no longer manages anything.
    "yard-file.forgotten" YardFileForgotten { installation: Uuid, name: String }
}

/// A stored change that this version cannot read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Undecodable {
    /// A kind that this version does not know: a newer replica wrote it.
    Kind { kind: String, subject: Uuid },
    /// A body that does not fit its kind.
    Body {
        kind: &'static str,
        subject: Uuid,
        error: String,
    },
}

impl fmt::Display for Undecodable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Undecodable::Kind { kind, subject } => {
                write!(
                    f,
                    "unknown kind {kind} (subject {subject}): a newer version wrote it"
                )
            }
            Undecodable::Body {
                kind,
                subject,
                error,
            } => write!(f, "invalid body of {kind} (subject {subject}): {error}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pennine_core::id::TicketId;

    /// Changes with every sort of field: ids, numbers, words, absent values, free JSON.
    fn samples() -> Vec<Change> {
        let id = Uuid::from_u128;
        vec![
            Change::JobPending {
                job: JobId(id(1)),
                strand: StrandId(id(2)),
                project: PlaceId(id(3)),
                number: 4812,
                again: true,
                fail_unmatched: false,
            },
            Change::JobDone {
                job: JobId(id(1)),
                result: Outcome::Timeout,
            },
            Change::RunnerStateChanged {
                runner: RunnerId(id(4)),
                state: RunnerState::Offline,
                reason: "nothing was heard of it".to_owned(),
            },
            Change::RunnerRetired {
                runner: RunnerId(id(4)),
                reason: None,
            },
            Change::RunnerDesiredStateChanged {
                runner: RunnerId(id(4)),
                desired_state: DesiredState::Drain,
            },
            Change::MachineChanged {
                machine: MachineId(id(5)),
                pool: PoolId(id(6)),
                state: MachineState::Booting,
            },
            Change::AlertEnded {
                alert: id(7),
                kind: AlertKind::NoMatch,
                subject: "shore".to_owned(),
                message: "1 job waits".to_owned(),
                about: serde_json::json!({"jobs": [1, 2]}),
            },
            Change::ListenerChanged { listener: id(8) },
        ]
    }

    #[test]
    fn a_change_is_read_as_it_was_written() {
        for change in samples() {
            let body = change.body().unwrap().to_string();
            let read = Change::decode(change.kind(), change.subject(), body.as_bytes());
            assert_eq!(read, Ok(change), "{body}");
        }
    }

    #[test]
    fn kinds_are_unique_and_begin_with_a_noun() {
        let mut kinds = Change::KINDS.to_vec();
        kinds.sort_unstable();
        kinds.dedup();
        assert_eq!(kinds.len(), Change::KINDS.len());
        for kind in kinds {
            let (noun, what) = kind.split_once('.').expect("a noun and what happened");
            assert!(!noun.is_empty() && !what.is_empty(), "{kind}");
        }
    }

    #[test]
    fn unknown_kinds_and_bodies_that_do_not_fit_are_named_and_unknown_fields_are_passed_over() {
        let subject = TicketId(Uuid::from_u128(1)).0;
        let unknown = Change::decode("job.teleported", subject, b"{}").unwrap_err();
        assert_eq!(
            unknown.to_string(),
            "unknown kind job.teleported (subject 00000000-0000-0000-0000-000000000001): a newer version wrote it"
        );
        for body in ["{}", "[]", "{\"result\": \"splendid\"}", "", "null"] {
            let broken = Change::decode("job.done", subject, body.as_bytes());
            assert!(
                matches!(
                    broken,
                    Err(Undecodable::Body {
                        kind: "job.done",
                        ..
                    })
                ),
                "{body}: {broken:?}"
            );
        }
        let newer = b"{\"result\": \"success\", \"mood\": \"good\"}";
        assert!(Change::decode("job.done", subject, newer).is_ok());
    }
}
