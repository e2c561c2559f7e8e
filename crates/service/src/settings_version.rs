//! Versions of settings, so that a change does not overwrite another one unseen.
//!
//! A version is a digest of what can be changed of a thing. A client that sends the version that it read with a change (`If-Match`,
//! RFC 9110) is refused where it is another by now; two changes that do not are made one after the other.

use crate::error::{Result, ServiceError};
use pennine_core::alert::Thresholds;
use pennine_store::Connection;
use pennine_store::audit;
use pennine_store::listener::Listener;
use pennine_store::place::Place;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::Runner;
use pennine_store::seat::Seat;
use pennine_store::supplier::Supplier;
use pennine_store::target::Target;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::fmt::Write;

/// Bytes of a digest that a version shows.
const SHOWN: usize = 8;

/// Something that people can change.
pub trait Versioned {
    /// What can be changed of it.
    fn settings(&self) -> Value;

    /// The version of its settings: 16 hexadecimal digits.
    fn version(&self) -> String {
        let digest = Sha256::digest(self.settings().to_string());
        let mut text = String::new();
        for byte in digest.iter().take(SHOWN) {
            // Writing into a text cannot fail.
            let _ = write!(text, "{byte:02x}");
        }
        text
    }
}

impl Versioned for Place {
    fn settings(&self) -> Value {
        json!([
            self.path,
            self.weight,
            self.slot_limit,
            self.give_up_us.map(|give_up| give_up.0)
        ])
    }
}

impl Versioned for Seat {
    fn settings(&self) -> Value {
        json!([self.description, self.count])
    }
}

impl Versioned for Supplier {
    fn settings(&self) -> Value {
        let boot_limit = self.boot_limit_us.map(|limit| limit.0);
        json!([self.settings.0, self.secrets.0, self.quota, boot_limit])
    }
}

impl Versioned for Target {
    fn settings(&self) -> Value {
        json!(self.promise())
    }
}

impl Versioned for Listener {
    fn settings(&self) -> Value {
        json!([self.url, self.kinds, self.paused])
    }
}

impl Versioned for Thresholds {
    fn settings(&self) -> Value {
        json!(self)
    }
}

impl Versioned for Runner {
    fn settings(&self) -> Value {
        json!([self.name, self.description, self.settings.0])
    }
}

impl Versioned for OwnedPool {
    fn settings(&self) -> Value {
        json!(self.pool.policy_version)
    }
}

/// The version that the caller has read of what it changes, if given.
#[derive(Clone, Debug, Default)]
pub struct ExpectedVersion(Option<String>);

impl ExpectedVersion {
    /// From the value of an `If-Match` header.
    pub fn of(header: Option<&str>) -> ExpectedVersion {
        let version = header.map(|text| text.trim().trim_matches('"').to_owned());
        ExpectedVersion(version.filter(|version| version != "*"))
    }

    /// Refuses where the thing has another version by now, with who changed it last. `what` is the action and `subject` the
    /// name under which its changes stand in the audit record.
    pub async fn check(
        &self,
        connection: &mut Connection,
        thing: &impl Versioned,
        what: &str,
        subject: &str,
    ) -> Result<()> {
        let Some(expected) = &self.0 else {
            return Ok(());
        };
        let version = thing.version();
        if *expected == version {
            return Ok(());
        }
        let last = audit::latest(connection, what, subject).await?;
        let last = last.map_or_else(String::new, |(at, who)| {
            format!(", last by {who} at {}", at.minute())
        });
        let detail = format!("{subject} has changed since you read it{last}");
        Err(ServiceError::stale(detail, version))
    }
}
