//! Whether a job comes from people whom the owners of the machines trust, and what it may not use if not.

use crate::lifecycle::words;
use crate::secret::SecretUses;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Whether a job is trusted. An untrusted job runs only in pools that take untrusted jobs, and takes no seats.
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Trust {
    /// Code of the project's own people.
    #[default]
    Trusted,
    /// Code that the project has not reviewed, such as a change that a stranger proposes.
    Untrusted,
}

words!(Trust {
    Trusted = "trusted",
    Untrusted = "untrusted",
});

impl Trust {
    /// Whether it is the default, for serialisation.
    pub fn is_trusted(&self) -> bool {
        *self == Trust::Trusted
    }

    /// Checks that a job may take these seats, by name with their counts. Seats stand for things that are shared with trusted jobs, such as a licence
    /// or a test bench.
    pub fn check_seats(self, seats: &BTreeMap<String, u32>) -> Result<(), UntrustedSeats> {
        match (self, seats.is_empty()) {
            (Trust::Untrusted, false) => Err(UntrustedSeats),
            _ => Ok(()),
        }
    }

    /// Checks that a job may be given these secrets.
    ///
    /// # Errors
    /// Where it is untrusted and there are any.
    pub fn check_secrets(self, secrets: &SecretUses) -> Result<(), UntrustedSecrets> {
        match (self, secrets.is_empty()) {
            (Trust::Untrusted, false) => Err(UntrustedSecrets),
            _ => Ok(()),
        }
    }
}

/// An untrusted job asks for secrets.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error("an untrusted job is given no secrets: its code could send them anywhere")]
pub struct UntrustedSecrets;

/// An untrusted job asks for seats.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error("an untrusted job cannot take seats: what they stand for is shared with trusted jobs")]
pub struct UntrustedSeats;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_untrusted_job_takes_no_seats() {
        let seats = BTreeMap::from([("tank".to_owned(), 1)]);
        assert_eq!(Trust::Trusted.check_seats(&seats), Ok(()));
        assert_eq!(Trust::Untrusted.check_seats(&seats), Err(UntrustedSeats));
        assert_eq!(Trust::Untrusted.check_seats(&BTreeMap::new()), Ok(()));
    }
}
