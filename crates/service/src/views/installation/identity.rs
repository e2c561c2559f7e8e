//! What verifiers of identity tokens read.

use crate::app::App;
use crate::error::Result;
use pennine_core::identity::SigningAlgorithm;
use serde::Serialize;
use serde_json::Value;

/// Where the keys are, below the public address.
pub const KEYS_PATH: &str = "/.well-known/jwks.json";

/// The claims of a token.
const CLAIMS: [&str; 18] = [
    "iss",
    "sub",
    "aud",
    "iat",
    "nbf",
    "exp",
    "jti",
    "project",
    "team",
    "pool",
    "runner",
    "job",
    "run",
    "branch",
    "revision",
    "attempt",
    "trusted",
    "isolation",
];

/// Metadata of an issuer (OpenID Connect Discovery 1.0, section 3).
#[derive(Serialize)]
pub struct Discovery {
    issuer: String,
    jwks_uri: String,
    response_types_supported: [&'static str; 1],
    subject_types_supported: [&'static str; 1],
    id_token_signing_alg_values_supported: Vec<&'static str>,
    scopes_supported: [&'static str; 1],
    claims_supported: [&'static str; 18],
}

/// A set of keys (RFC 7517, section 5).
#[derive(Serialize)]
pub struct KeySet {
    keys: Vec<Value>,
}

/// Who issues the tokens.
pub fn discovery(app: &App) -> Discovery {
    let algorithms = SigningAlgorithm::ALL.iter();
    Discovery {
        issuer: app.public_url.clone(),
        jwks_uri: format!("{}{KEYS_PATH}", app.public_url),
        response_types_supported: ["id_token"],
        subject_types_supported: ["public"],
        id_token_signing_alg_values_supported: algorithms.map(|one| one.word()).collect(),
        scopes_supported: ["openid"],
        claims_supported: CLAIMS,
    }
}

/// The keys with which tokens are verified.
pub async fn keys(app: &App) -> Result<KeySet> {
    let keys = app.identity_keys.published(app.clock.now()).await?;
    Ok(KeySet {
        keys: keys.iter().map(|key| key.public.0.clone()).collect(),
    })
}
