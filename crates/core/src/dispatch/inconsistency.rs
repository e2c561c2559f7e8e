//! What cannot be so.

use super::event::Event;
use crate::id::{AttemptId, JobId, PoolId, RunnerId, StrandId};
use serde::{Deserialize, Serialize};
use std::fmt;

/// What an event or a decision is about.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug, Serialize, Deserialize)]
#[serde(tag = "kind", content = "id", rename_all = "lowercase")]
pub enum Entity {
    Job(JobId),
    Strand(StrandId),
    Attempt(AttemptId),
    Runner(RunnerId),
    Pool(PoolId),
}

impl fmt::Display for Entity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Entity::Job(id) => write!(f, "job {id}"),
            Entity::Strand(id) => write!(f, "strand {id}"),
            Entity::Attempt(id) => write!(f, "attempt {id}"),
            Entity::Runner(id) => write!(f, "runner {id}"),
            Entity::Pool(id) => write!(f, "pool {id}"),
        }
    }
}

/// What is wrong.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum Problem {
    /// The state was never told of the strand.
    #[error("its strand {0} is unknown")]
    UnknownStrand(StrandId),
    /// Something refers to a strand that is not there any more.
    #[error("there is no strand at place {0} of the state")]
    NoStrandAt(usize),
    /// Something refers to a kind of job that is not there any more.
    #[error("there is no kind of job at place {0} of the state")]
    NoKindAt(usize),
    /// A job stands first in line and is not in its strand's queue.
    #[error("it is first in line but in no queue")]
    NotInQueue,
    /// A job was taken out of the queue for a slot, and no runner has one.
    #[error("it was taken out of the queue, and no runner has a slot for it")]
    Unassigned,
    /// More was given back than had been taken.
    #[error("more {0} were released than taken")]
    GivenBackTwice(&'static str),
}

/// What cannot be so. The state is worth nothing from then on and has to be rebuilt from the record; going on would
/// lose a job or a slot in silence.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Inconsistency {
    /// What the event or the decision was about in which it was found, if it was about one thing.
    pub subject: Option<Entity>,
    pub problem: Problem,
}

impl fmt::Display for Inconsistency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.subject {
            Some(subject) => write!(f, "{subject}: {}", self.problem),
            None => self.problem.fmt(f),
        }
    }
}

impl Event {
    /// What the event is about, if it is about one thing.
    pub(super) fn subject(&self) -> Option<Entity> {
        match self {
            Event::Waits { job, .. } | Event::Withdrawn { job } => Some(Entity::Job(*job)),
            Event::Strand { id, .. } => Some(Entity::Strand(*id)),
            Event::Runner(view) => Some(Entity::Runner(view.id)),
            Event::RunnerGone { id } | Event::Workspace { runner: id, .. } => {
                Some(Entity::Runner(*id))
            }
            Event::Pool(view) => Some(Entity::Pool(view.id)),
            Event::Holds { attempt, .. }
            | Event::Released { attempt }
            | Event::Refused { attempt }
            | Event::SeatsTakenBack { attempt } => Some(Entity::Attempt(*attempt)),
            Event::Place(_) | Event::Seats { .. } | Event::Used { .. } => None,
        }
    }

    /// Other things that it would bring into the state.
    pub(super) fn names(&self, subject: Entity) -> bool {
        match self {
            Event::Waits { strand, .. } => subject == Entity::Strand(*strand),
            Event::Holds {
                job,
                runner,
                strand,
                ..
            } => [
                Entity::Job(*job),
                Entity::Runner(*runner),
                Entity::Strand(*strand),
            ]
            .contains(&subject),
            Event::Runner(view) => subject == Entity::Pool(view.pool),
            _ => false,
        }
    }
}
