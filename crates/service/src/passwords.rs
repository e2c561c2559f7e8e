//! Passwords: kept as argon2id (RFC 9106), a few worked out at a time.
//!
//! Each takes some 20 MiB and 30 ms of processor time, so that a flood of sign-ins waits here and delays nothing else.

use crate::error::{Result, ServiceError};
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use rand::RngExt;
use sha2::{Digest, Sha256};
use std::time::Duration;
use tokio::sync::Semaphore;
use unicode_normalization::UnicodeNormalization;

/// Passwords that are worked out at once.
const AT_ONCE: usize = 2;
/// How long one waits for its turn.
const PATIENCE: Duration = Duration::from_secs(10);

/// The password behind the hash that a password is compared with where there is no account.
const DECOY: &str = "the password of no account";

/// See the module's head.
pub struct Passwords {
    turns: Semaphore,
    /// Nothing that is kept in memory about a password can be tried elsewhere.
    pepper: [u8; 32],
    /// What a password is compared with where there is no account, so that it takes as long.
    decoy: std::sync::OnceLock<String>,
}

impl Default for Passwords {
    fn default() -> Self {
        Passwords {
            turns: Semaphore::new(AT_ONCE),
            pepper: rand::rng().random(),
            decoy: std::sync::OnceLock::new(),
        }
    }
}

/// The same letters typed on different keyboards are the same password (NFKC).
fn folded(password: &str) -> String {
    password.nfkc().collect()
}

fn hash(password: &str) -> Result<String> {
    let hash = Argon2::default()
        .hash_password(folded(password).as_bytes())
        .map_err(|error| ServiceError::internal(format!("a password cannot be hashed: {error}")))?;
    Ok(hash.to_string())
}

/// Refuses a password that is too weak.
///
/// # Errors
/// Invalid, with the reason.
pub fn check_strength(field: &str, password: &str) -> Result<()> {
    pennine_core::password::check(password).map_err(|weak| {
        ServiceError::invalid(field, weak.to_string()).remedy(
            "choose a longer one; several words that have nothing to do with each other are good",
        )
    })
}

impl Passwords {
    /// What tells one try of a password from another, and from which neither can be worked out.
    pub fn key(&self, parts: &[&str]) -> Vec<u8> {
        let mut hash = Sha256::new_with_prefix(self.pepper);
        for part in parts {
            hash.update(part.len().to_be_bytes());
            hash.update(part.as_bytes());
        }
        hash.finalize().to_vec()
    }

    /// Returns the hash of a new password, as a PHC string.
    ///
    /// # Errors
    /// Busy where many passwords are being worked out.
    pub async fn hash(&self, password: &str) -> Result<String> {
        let password = password.to_owned();
        self.work(move || hash(&password)).await
    }

    /// Whether a password is the one of an account's hash. Where there is none it is not, and takes as long to find out.
    ///
    /// # Errors
    /// Busy where many passwords are being worked out.
    pub async fn matches(&self, password: &str, kept: Option<&str>) -> Result<bool> {
        if self.decoy.get().is_none() {
            let made = self.work(|| hash(DECOY)).await?;
            let _ = self.decoy.set(made);
        }
        let is_known = kept.is_some();
        let kept = kept.or(self.decoy.get().map(String::as_str));
        let kept = kept.unwrap_or_default().to_owned();
        let password = folded(password);
        let matches = self
            .work(move || {
                let kept = PasswordHash::new(&kept).map_err(|error| {
                    ServiceError::internal(format!("a kept password is damaged: {error}"))
                })?;
                Ok(Argon2::default()
                    .verify_password(password.as_bytes(), &kept)
                    .is_ok())
            })
            .await?;
        Ok(matches && is_known)
    }

    async fn work<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let turn = tokio::time::timeout(PATIENCE, self.turns.acquire()).await;
        let Ok(Ok(_turn)) = turn else {
            return Err(ServiceError::busy("many people are signing in"));
        };
        tokio::task::spawn_blocking(work)
            .await
            .map_err(|error| ServiceError::internal(format!("hashing a password: {error}")))?
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_password_matches_its_own_hash_however_it_was_typed() {
        let passwords = Passwords::default();
        let kept = passwords.hash("caf\u{e9} at low water").await.unwrap();
        assert!(
            kept.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"),
            "{kept}"
        );
        let matches = async |text: &str| passwords.matches(text, Some(&kept)).await.unwrap();
        assert!(matches("caf\u{e9} at low water").await);
        assert!(matches("cafe\u{301} at low water").await);
        assert!(!matches("cafe at low water").await);
        let unknown = passwords.matches(DECOY, None).await;
        assert!(!unknown.unwrap(), "there is no account");
    }
}
