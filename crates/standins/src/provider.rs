//! A sign-in provider (OpenID Connect Core 1.0, authorization code flow): a page with the names of its people, of whom one is chosen.
//!
//! It asks for no password, and is of use for a demo and for tests alone. Its faults are set while it runs.

use axum::extract::{Query, State};
use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Form, Json, Router};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::jwk::Jwk;
use jsonwebtoken::{Algorithm, EncodingKey, Header};
use rand::RngExt;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};
use tokio::net::TcpListener;

/// A person of the provider.
#[derive(Clone, Debug)]
pub struct ProviderPerson {
    /// The name for signing in.
    pub name: String,
    pub full_name: String,
    pub groups: Vec<String>,
}

/// What the provider does wrong.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ProviderFault {
    /// Its tokens are for another client.
    OtherAudience,
    /// Its tokens are of another issuer.
    OtherIssuer,
    /// Its tokens are for another sign-in.
    OtherNonce,
    /// Its tokens have expired.
    Expired,
    /// Its tokens are signed with a key that it does not publish.
    OtherKey,
    /// Its tokens are not signed.
    Unsigned,
    /// It answers with an error.
    Broken,
}

struct Key {
    id: String,
    private: EncodingKey,
}

/// What was agreed for a code.
struct Granted {
    person: ProviderPerson,
    client: String,
    redirect: String,
    nonce: String,
    challenge: String,
}

struct Inner {
    issuer: String,
    people: Vec<ProviderPerson>,
    key: Key,
    other: Key,
    codes: HashMap<String, Granted>,
    fault: Option<ProviderFault>,
    /// The client's secret; none is asked for where it is empty.
    secret: String,
}

/// A provider that runs.
#[derive(Clone)]
pub struct Provider(Arc<Mutex<Inner>>);

fn key() -> anyhow::Result<Key> {
    let random = ring::rand::SystemRandom::new();
    let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random);
    let made = made.map_err(|error| anyhow::anyhow!("a key cannot be made: {error}"))?;
    Ok(Key {
        id: random_text(),
        private: EncodingKey::from_ec_der(made.as_ref()),
    })
}

fn random_text() -> String {
    URL_SAFE_NO_PAD.encode(rand::rng().random::<[u8; 24]>())
}

impl Provider {
    /// A provider at an address, with these people. `secret` is the client's.
    ///
    /// # Errors
    /// Where no key can be made.
    pub fn new(
        issuer: &str,
        people: Vec<ProviderPerson>,
        secret: &str,
    ) -> anyhow::Result<Provider> {
        Ok(Provider(Arc::new(Mutex::new(Inner {
            issuer: issuer.to_owned(),
            people,
            key: key()?,
            other: key()?,
            codes: HashMap::new(),
            fault: None,
            secret: secret.to_owned(),
        }))))
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets what it does wrong from now on.
    pub fn set_fault(&self, fault: Option<ProviderFault>) {
        self.inner().fault = fault;
    }

    /// Changes the groups of a person.
    pub fn set_groups(&self, name: &str, groups: &[&str]) {
        let mut inner = self.inner();
        for person in inner.people.iter_mut().filter(|person| person.name == name) {
            person.groups = groups.iter().map(|group| (*group).to_owned()).collect();
        }
    }

    /// Serves until `stop` ends.
    ///
    /// # Errors
    /// Where it cannot serve.
    pub async fn serve(
        self,
        listener: TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> anyhow::Result<()> {
        let routes = Router::new()
            .route("/.well-known/openid-configuration", get(metadata))
            .route("/keys", get(keys))
            .route("/authorize", get(authorize))
            .route("/token", post(token))
            .with_state(self);
        Ok(axum::serve(listener, routes)
            .with_graceful_shutdown(stop)
            .await?)
    }
}

async fn metadata(State(provider): State<Provider>) -> Json<Value> {
    let issuer = &provider.inner().issuer;
    Json(json!({
        "issuer": issuer,
        "authorization_endpoint": format!("{issuer}/authorize"),
        "token_endpoint": format!("{issuer}/token"),
        "jwks_uri": format!("{issuer}/keys"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
        "code_challenge_methods_supported": ["S256"],
    }))
}

async fn keys(State(provider): State<Provider>) -> Response {
    let inner = provider.inner();
    match Jwk::from_encoding_key(&inner.key.private, Algorithm::ES256) {
        Ok(mut public) => {
            public.common.key_id = Some(inner.key.id.clone());
            Json(json!({"keys": [public]})).into_response()
        }
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, error.to_string()).into_response(),
    }
}

/// What a client sends the browser with; `person` is added by the page on which one is chosen.
#[derive(Clone, Deserialize)]
struct Asked {
    client_id: String,
    redirect_uri: String,
    state: String,
    #[serde(default)]
    nonce: String,
    #[serde(default)]
    code_challenge: String,
    #[serde(default)]
    person: Option<String>,
}

async fn authorize(
    State(provider): State<Provider>,
    axum::extract::RawQuery(query): axum::extract::RawQuery,
    Query(asked): Query<Asked>,
) -> Response {
    let mut inner = provider.inner();
    let chosen = asked.person.as_ref();
    let chosen = chosen.and_then(|name| inner.people.iter().find(|one| one.name == *name).cloned());
    let Some(person) = chosen else {
        let query = query.unwrap_or_default();
        let escaped = query
            .replace('&', "&amp;")
            .replace('"', "&quot;")
            .replace('<', "&lt;");
        let people = inner.people.iter().map(|one| {
            format!(
                "<p><a href=\"?{escaped}&amp;person={}\">{}</a></p>",
                one.name, one.full_name
            )
        });
        let people: String = people.collect();
        return Html(format!(
            "<!doctype html><title>Skerry sign-in</title><h1>Who are you?</h1>{people}<p>A stand-in: it asks for no password.</p>"
        ))
        .into_response();
    };
    let code = random_text();
    let to = format!("{}?code={code}&state={}", asked.redirect_uri, asked.state);
    let granted = Granted {
        person,
        client: asked.client_id,
        redirect: asked.redirect_uri,
        nonce: asked.nonce,
        challenge: asked.code_challenge,
    };
    inner.codes.insert(code, granted);
    (StatusCode::SEE_OTHER, [(header::LOCATION, to)]).into_response()
}

#[derive(Deserialize)]
struct Exchange {
    code: String,
    redirect_uri: String,
    client_id: String,
    code_verifier: String,
    #[serde(default)]
    client_secret: String,
}

async fn token(State(provider): State<Provider>, Form(sent): Form<Exchange>) -> Response {
    let refused =
        |what: &str| (StatusCode::BAD_REQUEST, Json(json!({"error": what}))).into_response();
    let mut inner = provider.inner();
    if inner.fault == Some(ProviderFault::Broken) {
        return StatusCode::SERVICE_UNAVAILABLE.into_response();
    }
    if !inner.secret.is_empty() && inner.secret != sent.client_secret {
        return refused("invalid_client");
    }
    // Each code once.
    let Some(granted) = inner.codes.remove(&sent.code) else {
        return refused("invalid_grant");
    };
    let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(&sent.code_verifier));
    if granted.redirect != sent.redirect_uri
        || granted.client != sent.client_id
        || granted.challenge != challenge
    {
        return refused("invalid_grant");
    }
    let now = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |since| since.as_secs());
    let fault = inner.fault;
    let either = |is: ProviderFault, wrong: &str, right: &str| match fault == Some(is) {
        true => wrong.to_owned(),
        false => right.to_owned(),
    };
    let person = &granted.person;
    let claims = json!({
        "iss": either(ProviderFault::OtherIssuer, "https://other.example", &inner.issuer),
        "aud": either(ProviderFault::OtherAudience, "another-client", &granted.client),
        "nonce": either(ProviderFault::OtherNonce, "another", &granted.nonce),
        "sub": format!("person-{}", person.name),
        "preferred_username": person.name,
        "name": person.full_name,
        "groups": person.groups,
        "iat": now,
        "exp": if fault == Some(ProviderFault::Expired) { now - 3600 } else { now + 300 },
    });
    let key = if fault == Some(ProviderFault::OtherKey) {
        &inner.other
    } else {
        &inner.key
    };
    let mut head = Header::new(Algorithm::ES256);
    head.kid = Some(inner.key.id.clone());
    let signed = match jsonwebtoken::encode(&head, &claims, &key.private) {
        Ok(signed) => signed,
        Err(error) => return refused(&error.to_string()),
    };
    let token = match fault {
        Some(ProviderFault::Unsigned) => {
            let head =
                URL_SAFE_NO_PAD.encode(json!({"alg": "none", "kid": inner.key.id}).to_string());
            let claims = URL_SAFE_NO_PAD.encode(claims.to_string());
            format!("{head}.{claims}.")
        }
        _ => signed,
    };
    Json(json!({"access_token": "none", "token_type": "Bearer", "expires_in": 300, "id_token": token})).into_response()
}
