//! A store of secrets that keeps no keys of its own for jobs: it returns a credential for an identity token that it trusts.
//!
//! ```text
//!   job ── POST /credentials, Authorization: Bearer TOKEN ──> store ── discovery, keys ──> Pennine
//! ```

use anyhow::Context;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::routing::post;
use axum::{Json, Router};
use jsonwebtoken::jwk::JwkSet;
use jsonwebtoken::{Algorithm, DecodingKey, Validation, decode, decode_header};
use serde::Deserialize;
use serde_json::{Value, json};
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use uuid::Uuid;

/// Whom it trusts.
#[derive(Clone, Debug)]
pub struct TrustPolicy {
    /// The issuer's address.
    pub issuer: String,
    /// Its own name, which a token has to be for.
    pub audience: String,
    /// The subjects that get a credential.
    pub subjects: Vec<String>,
}

/// How long the issuer has to answer.
const PATIENCE: Duration = Duration::from_secs(10);

struct Store {
    trust: TrustPolicy,
    http: reqwest::Client,
}

#[derive(Deserialize)]
struct Metadata {
    issuer: String,
    jwks_uri: String,
}

/// What a token has to say beside the registered claims.
#[derive(Deserialize)]
struct Claims {
    sub: String,
    job: String,
}

/// Serves until `stop` ends.
///
/// # Errors
/// Where it cannot serve.
pub async fn serve(
    listener: TcpListener,
    trust: TrustPolicy,
    stop: impl Future<Output = ()> + Send + 'static,
) -> anyhow::Result<()> {
    // An error means that it was chosen before.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::builder().timeout(PATIENCE).build()?;
    let routes = Router::new()
        .route("/credentials", post(credentials))
        .with_state(Arc::new(Store { trust, http }));
    axum::serve(listener, routes)
        .with_graceful_shutdown(stop)
        .await
        .context("the store cannot serve")
}

/// Gives a credential for the token that is shown.
async fn credentials(
    State(store): State<Arc<Store>>,
    headers: HeaderMap,
) -> (StatusCode, Json<Value>) {
    let shown = headers
        .get(header::AUTHORIZATION)
        .and_then(|value| value.to_str().ok());
    let Some(token) = shown.and_then(|value| value.strip_prefix("Bearer ")) else {
        let answer = json!({"error": "show an identity token: Authorization: Bearer TOKEN"});
        return (StatusCode::UNAUTHORIZED, Json(answer));
    };
    match store.claims(token).await {
        Err(error) => {
            let answer = json!({"error": format!("the token is not trusted: {error}")});
            (StatusCode::UNAUTHORIZED, Json(answer))
        }
        Ok(claims) if !store.trust.subjects.contains(&claims.sub) => {
            let answer = json!({"error": format!("{} gets no credential here", claims.sub)});
            (StatusCode::FORBIDDEN, Json(answer))
        }
        Ok(claims) => {
            let answer = json!({
                "credential": format!("store-{}", Uuid::now_v7()),
                "given_to": claims.sub,
                "for_job": claims.job,
                "expires_in_s": 300,
            });
            (StatusCode::OK, Json(answer))
        }
    }
}

impl Store {
    async fn read<T: serde::de::DeserializeOwned>(&self, url: &str) -> anyhow::Result<T> {
        let answer = self.http.get(url).send().await?.error_for_status()?;
        Ok(serde_json::from_slice(&answer.bytes().await?)?)
    }

    /// Verifies a token. Returns what it says.
    async fn claims(&self, token: &str) -> anyhow::Result<Claims> {
        let issuer = self.trust.issuer.trim_end_matches('/');
        let metadata: Metadata = self
            .read(&format!("{issuer}/.well-known/openid-configuration"))
            .await?;
        anyhow::ensure!(
            metadata.issuer == self.trust.issuer,
            "another issuer answers"
        );
        let keys: JwkSet = self.read(&metadata.jwks_uri).await?;
        let head = decode_header(token)?;
        anyhow::ensure!(
            matches!(head.alg, Algorithm::RS256 | Algorithm::ES256),
            "it is signed with an algorithm that is not trusted"
        );
        let id = head.kid.context("it names no key")?;
        let key = keys.find(&id).context("it is signed with an unknown key")?;
        let mut expected = Validation::new(head.alg);
        expected.set_issuer(&[&self.trust.issuer]);
        expected.set_audience(&[&self.trust.audience]);
        expected.set_required_spec_claims(&["exp", "nbf", "iss", "aud", "sub"]);
        expected.validate_nbf = true;
        Ok(decode::<Claims>(token, &DecodingKey::from_jwk(key)?, &expected)?.claims)
    }
}
