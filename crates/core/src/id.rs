//! Identities. Each noun has its own type, so that a runner's id cannot be passed where a job's is meant.
//!
//! Ids are UUID version 7 (RFC 9562): their first 48 bits are the time at which the thing was made, in
//! milliseconds, which is also how history is partitioned. Ids are made outside the core.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use utoipa::ToSchema;
use uuid::Uuid;

macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident),+ $(,)?) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize, ToSchema)]
        #[serde(transparent)]
        pub struct $name(pub Uuid);

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, concat!(stringify!($name), "({})"), self.0)
            }
        }

        impl From<Uuid> for $name {
            fn from(id: Uuid) -> Self {
                Self(id)
            }
        }

        impl From<$name> for Uuid {
            fn from(id: $name) -> Self {
                id.0
            }
        }

        impl FromStr for $name {
            type Err = uuid::Error;
            fn from_str(text: &str) -> Result<Self, Self::Err> {
                text.parse().map(Self)
            }
        }
    )+};
}

ids! {
    /// A place in the tree: the root, a team or a project.
    PlaceId,
    /// A pool of runners.
    PoolId,
    /// A runner: the program on a machine, and its record.
    RunnerId,
    /// A ticket with which a runner enrols.
    TicketId,
    /// Jobs that were submitted together.
    RunId,
    /// The files of a folder, uploaded for a run.
    SourceId,
    /// A unit of work.
    JobId,
    /// One try of a job on one runner.
    AttemptId,
    /// Waiting jobs that are alike to the dispatcher.
    StrandId,
    /// One life of a runner's process.
    SessionId,
    /// What proves that a report about an attempt comes from the runner that holds it.
    LeaseToken,
    /// One replica's life.
    ReplicaId,
    /// A stretch of time in which a pool or a runner takes nothing new.
    MaintenanceId,
    /// A person with an account.
    PersonId,
    /// What makes and removes machines.
    SupplierId,
    /// One thing that a supplier made.
    MachineId,
}

/// The kinds of thing that have a short name for people, such as `j-4812`.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ShortName {
    Job,
    Run,
    Runner,
    Ticket,
    Maintenance,
    Machine,
    Alert,
    BulkAction,
}

impl ShortName {
    /// The letters before the number.
    pub fn prefix(self) -> &'static str {
        match self {
            ShortName::Job => "j",
            ShortName::Run => "run",
            ShortName::Runner => "r",
            ShortName::Ticket => "t",
            ShortName::Maintenance => "m",
            ShortName::Machine => "mc",
            ShortName::Alert => "a",
            ShortName::BulkAction => "b",
        }
    }

    /// The short name with this number.
    pub fn name(self, number: i64) -> String {
        format!("{}-{number}", self.prefix())
    }

    /// The number in a short name of this kind; none when the text is anything else.
    pub fn number(self, text: &str) -> Option<i64> {
        let digits = text.strip_prefix(self.prefix())?.strip_prefix('-')?;
        if digits.is_empty() || !digits.bytes().all(|b| b.is_ascii_digit()) {
            return None;
        }
        digits.parse().ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_name_is_read_back_and_nothing_else_is() {
        assert_eq!(ShortName::Job.name(4812), "j-4812");
        assert_eq!(ShortName::Job.number("j-4812"), Some(4812));
        for wrong in [
            "j-",
            "j4812",
            "r-4812",
            "j--1",
            "j-+3",
            "j-99999999999999999999",
        ] {
            assert_eq!(ShortName::Job.number(wrong), None, "{wrong}");
        }
    }
}
