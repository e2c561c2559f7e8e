//! The OpenID provider with which people sign in: OpenID Connect Core 1.0, authorization code flow with PKCE (RFC 7636).
//!
//! Nothing that the provider says is believed before its signature, issuer, audience, nonce and time are checked.

use crate::config::OpenId;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::jwk::JwkSet;
use jsonwebtoken::{Algorithm, DecodingKey, Validation, decode, decode_header};
use pennine_core::time::Moment;
use rand::RngExt;
use reqwest::StatusCode;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long the provider has for an answer.
const PATIENCE: Duration = Duration::from_secs(10);
/// The most that is read of an answer, in bytes.
const MOST: usize = 256 << 10;
/// How long what the provider says of itself is believed.
const METADATA_HOLDS: Duration = Duration::from_secs(600);
/// How far its clock may differ, in seconds.
const LEEWAY: u64 = 60;
/// The algorithms of which signatures are accepted: none with a shared secret.
const ALGORITHMS: [Algorithm; 4] = [
    Algorithm::RS256,
    Algorithm::ES256,
    Algorithm::PS256,
    Algorithm::EdDSA,
];

/// The provider, with what it last said of itself.
pub struct Provider {
    settings: OpenId,
    http: Mutex<Option<reqwest::Client>>,
    known: Mutex<Option<(Instant, Metadata)>>,
}

/// What the provider says of itself (OpenID Connect Discovery 1.0, section 3).
#[derive(Clone, Debug, Deserialize)]
struct Metadata {
    issuer: String,
    authorization_endpoint: String,
    token_endpoint: String,
    jwks_uri: String,
}

/// The state of a sign-in that has begun, stored encrypted in a cookie of the browser.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SignInState {
    pub state: String,
    nonce: String,
    verifier: String,
    /// Until when it can be completed.
    pub until: Moment,
}

/// Who the provider says has signed in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProviderIdentity {
    /// The issuer and its name for the person, separated by a space: what never changes.
    pub subject: String,
    /// The name for signing in, where it gives one.
    pub name: Option<String>,
    /// The name for others.
    pub full_name: String,
    pub groups: Vec<String>,
}

/// Why a sign-in failed.
#[derive(Debug, thiserror::Error)]
pub enum ProviderError {
    /// It cannot be reached, or answers with an error of its own.
    #[error("the provider does not answer: {0}")]
    Away(String),
    /// What it says is not to be believed.
    #[error("the provider's answer is not accepted: {0}")]
    Refused(String),
}

fn refused(message: impl Into<String>) -> ProviderError {
    ProviderError::Refused(message.into())
}

fn random() -> String {
    URL_SAFE_NO_PAD.encode(rand::rng().random::<[u8; 32]>())
}

impl Provider {
    /// The provider that the settings name.
    pub fn new(settings: OpenId) -> Provider {
        Provider {
            settings,
            http: Mutex::default(),
            known: Mutex::default(),
        }
    }

    /// The settings, where a provider is configured.
    pub fn settings(&self) -> Option<&OpenId> {
        self.settings.is_on().then_some(&self.settings)
    }

    fn http(&self) -> Result<reqwest::Client, ProviderError> {
        let mut kept = self.http.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(client) = &*kept {
            return Ok(client.clone());
        }
        let built = reqwest::Client::builder()
            .timeout(PATIENCE)
            .redirect(reqwest::redirect::Policy::none())
            .user_agent(concat!("pennined/", env!("CARGO_PKG_VERSION")))
            .build();
        let client = built.map_err(|error| ProviderError::Away(error.to_string()))?;
        *kept = Some(client.clone());
        Ok(client)
    }

    async fn answer<T: DeserializeOwned>(
        &self,
        request: reqwest::RequestBuilder,
    ) -> Result<T, ProviderError> {
        let away = |error: reqwest::Error| ProviderError::Away(error.without_url().to_string());
        let mut answer = request.send().await.map_err(away)?;
        let status = answer.status();
        let mut body = Vec::new();
        while let Some(part) = answer.chunk().await.map_err(away)? {
            if body.len() + part.len() > MOST {
                return Err(refused("an answer is longer than 256 KiB"));
            }
            body.extend_from_slice(&part);
        }
        if status != StatusCode::OK {
            return Err(ProviderError::Away(format!("status {status}")));
        }
        serde_json::from_slice(&body)
            .map_err(|error| refused(format!("an answer is no JSON of its kind: {error}")))
    }

    async fn metadata(&self) -> Result<Metadata, ProviderError> {
        let known = {
            let kept = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            kept.clone()
        };
        if let Some((_, metadata)) = known.filter(|(at, _)| at.elapsed() < METADATA_HOLDS) {
            return Ok(metadata);
        }
        let issuer = self.settings.issuer.trim_end_matches('/');
        let url = format!("{issuer}/.well-known/openid-configuration");
        let metadata: Metadata = self.answer(self.http()?.get(url)).await?;
        if metadata.issuer.trim_end_matches('/') != issuer {
            return Err(refused(format!("it calls itself {:?}", metadata.issuer)));
        }
        let mut kept = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        *kept = Some((Instant::now(), metadata.clone()));
        Ok(metadata)
    }

    /// Begins a sign-in. Returns the address to which the browser is sent, and the state of the sign-in.
    ///
    /// # Errors
    /// Where the provider is not there.
    pub async fn begin(
        &self,
        redirect: &str,
        until: Moment,
    ) -> Result<(String, SignInState), ProviderError> {
        let metadata = self.metadata().await?;
        let pending = SignInState {
            state: random(),
            nonce: random(),
            verifier: random(),
            until,
        };
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(&pending.verifier));
        let scopes = self.settings.scopes.join(" ");
        let mut url: reqwest::Url = metadata
            .authorization_endpoint
            .parse()
            .map_err(|error| refused(format!("its authorization endpoint: {error}")))?;
        url.query_pairs_mut()
            .append_pair("response_type", "code")
            .append_pair("client_id", &self.settings.client_id)
            .append_pair("redirect_uri", redirect)
            .append_pair("scope", &scopes)
            .append_pair("state", &pending.state)
            .append_pair("nonce", &pending.nonce)
            .append_pair("code_challenge", &challenge)
            .append_pair("code_challenge_method", "S256");
        Ok((url.into(), pending))
    }

    /// Completes a sign-in with the code that the browser brought.
    ///
    /// # Errors
    /// Where the provider is not there, or what it says is not to be believed.
    pub async fn complete(
        &self,
        redirect: &str,
        pending: &SignInState,
        code: &str,
        now: Moment,
    ) -> Result<ProviderIdentity, ProviderError> {
        #[derive(Deserialize)]
        struct Tokens {
            id_token: String,
        }
        let metadata = self.metadata().await?;
        let mut form = vec![
            ("grant_type", "authorization_code"),
            ("code", code),
            ("redirect_uri", redirect),
            ("client_id", &self.settings.client_id),
            ("code_verifier", &pending.verifier),
        ];
        let secret = self.settings.secret();
        let secret = secret.map_err(|error| ProviderError::Away(error.to_string()))?;
        if let Some(secret) = &secret {
            form.push(("client_secret", secret));
        }
        let body = form_urlencoded::Serializer::new(String::new())
            .extend_pairs(form)
            .finish();
        let request = self
            .http()?
            .post(&metadata.token_endpoint)
            .header(
                reqwest::header::CONTENT_TYPE,
                "application/x-www-form-urlencoded",
            )
            .body(body);
        let tokens: Tokens = self.answer(request).await?;
        let keys: JwkSet = self.answer(self.http()?.get(&metadata.jwks_uri)).await?;
        let claims = verified(
            &tokens.id_token,
            &keys,
            &metadata.issuer,
            &self.settings.client_id,
            now,
        )?;
        if claims.get("nonce").and_then(Value::as_str) != Some(pending.nonce.as_str()) {
            return Err(refused("the token was made for another sign-in (nonce)"));
        }
        self.identified(&metadata.issuer, &claims)
    }

    fn identified(&self, issuer: &str, claims: &Value) -> Result<ProviderIdentity, ProviderError> {
        let text = |name: &str| {
            let value = claims.get(name).and_then(Value::as_str).map(str::trim);
            value.filter(|value| !value.is_empty()).map(str::to_owned)
        };
        let sub = text("sub").ok_or_else(|| refused("the token has no subject"))?;
        let name = text(&self.settings.name_claim);
        // A provider may name them with slashes: they are compared as they are.
        let groups = match claims.get(&self.settings.groups_claim) {
            Some(Value::Array(groups)) => groups.iter().filter_map(Value::as_str).collect(),
            Some(Value::String(group)) => vec![group.as_str()],
            _ => Vec::new(),
        };
        Ok(ProviderIdentity {
            subject: format!("{} {sub}", issuer.trim_end_matches('/')),
            full_name: text("name").unwrap_or_default(),
            name,
            groups: groups
                .into_iter()
                .take(MOST_GROUPS)
                .map(str::to_owned)
                .collect(),
        })
    }
}

/// The most groups of a person that are kept.
const MOST_GROUPS: usize = 500;

/// Verifies an identity token of the provider. Returns its claims.
fn verified(
    token: &str,
    keys: &JwkSet,
    issuer: &str,
    client: &str,
    now: Moment,
) -> Result<Value, ProviderError> {
    let wrong = |error: jsonwebtoken::errors::Error| refused(format!("its token: {error}"));
    let head = decode_header(token).map_err(wrong)?;
    if !ALGORITHMS.contains(&head.alg) {
        return Err(refused(format!("its token is signed with {:?}", head.alg)));
    }
    let key = match &head.kid {
        Some(id) => keys.find(id),
        // Without a name there has to be one key only.
        None => keys.keys.first().filter(|_| keys.keys.len() == 1),
    };
    let key =
        key.ok_or_else(|| refused("its token is signed with a key that it does not publish"))?;
    let mut expected = Validation::new(head.alg);
    expected.set_issuer(&[issuer]);
    expected.set_audience(&[client]);
    expected.set_required_spec_claims(&["exp", "iss", "aud", "sub"]);
    // By the service's own clock.
    expected.validate_exp = false;
    expected.validate_nbf = false;
    let decoding = DecodingKey::from_jwk(key).map_err(wrong)?;
    let claims = decode::<Value>(token, &decoding, &expected)
        .map_err(wrong)?
        .claims;
    let seconds = |name: &str| claims.get(name).and_then(Value::as_u64);
    let now = now.since(Moment::default()).as_secs();
    if seconds("exp").is_none_or(|end| end + LEEWAY <= now) {
        return Err(refused("its token has expired; are the clocks right?"));
    }
    if seconds("nbf")
        .or_else(|| seconds("iat"))
        .is_some_and(|begin| begin > now + LEEWAY)
    {
        return Err(refused("its token is not valid yet; are the clocks right?"));
    }
    // Of several audiences, this one has to be whom it was made for (OpenID Connect Core 1.0, section 3.1.3.7).
    let is_shared = claims
        .get("aud")
        .and_then(Value::as_array)
        .is_some_and(|all| all.len() > 1);
    if is_shared && claims.get("azp").and_then(Value::as_str) != Some(client) {
        return Err(refused("its token was made for another client (azp)"));
    }
    Ok(claims)
}
