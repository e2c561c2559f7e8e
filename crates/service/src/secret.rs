//! Secrets: made with high entropy, kept as SHA-256, shown once.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rand::RngExt;
use sha2::{Digest, Sha256};

/// What a secret is for; its first letters say so, so that a person who finds one knows what it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    Token,
    Ticket,
    Credential,
    Cookie,
    /// The part of a one-time link that is secret.
    Link,
}

/// A new secret: 256 random bits.
pub fn fresh(purpose: Purpose) -> String {
    let bytes: [u8; 32] = rand::rng().random();
    from_bytes(purpose, &bytes)
}

/// A secret of unguessable bytes.
pub fn from_bytes(purpose: Purpose, bytes: &[u8]) -> String {
    let prefix = match purpose {
        Purpose::Token => "pen-token",
        Purpose::Ticket => "pen-ticket",
        Purpose::Credential => "pen-runner",
        Purpose::Cookie => "pen-session",
        Purpose::Link => "pen-link",
    };
    format!("{prefix}-{}", URL_SAFE_NO_PAD.encode(bytes))
}

/// How a secret is kept.
pub fn hash(secret: &str) -> Vec<u8> {
    Sha256::digest(secret.as_bytes()).to_vec()
}
