//! The stand-in cloud that comes with Pennine: a small HTTP service (`pennine-standins cloud`).

use crate::outgoing::{AddressPolicy, read_bounded};
use crate::{CONSOLE_BYTES, Fault, Offer, Order, PlacedOrder, SuppliedMachine, Supplier, tail};
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_core::id::MachineId;
use reqwest::{Method, StatusCode};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::time::Duration;
use uuid::Uuid;

/// How long it may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);

/// The longest answer: a list of ten thousand machines takes 2 MB.
const ANSWER_BYTES: usize = 8 << 20;

/// What people can set of it.
pub const SETTINGS: [(&str, &str); 2] = [
    ("url", "the cloud's address"),
    ("key", "the cloud's API key; set it with --secret"),
];

/// The stand-in cloud.
pub struct Cloud {
    client: reqwest::Client,
    url: String,
    key: String,
    installation: Uuid,
}

/// What it says when it will not.
#[derive(Deserialize)]
struct ErrorAnswer {
    error: String,
    message: String,
    #[serde(default)]
    quota: Option<u32>,
}

#[derive(Deserialize)]
struct ErrorBody {
    text: String,
}

impl Cloud {
    /// The cloud that the settings name.
    pub fn new(
        installation: Uuid,
        settings: &BTreeMap<String, String>,
        policy: &AddressPolicy,
    ) -> Result<Cloud, String> {
        let url = settings
            .get("url")
            .filter(|url| url.starts_with("http://") || url.starts_with("https://"))
            .ok_or("url must be the cloud's address, http://...")?;
        let parsed: reqwest::Url = url.parse().map_err(|error| format!("url: {error}"))?;
        policy
            .check_url(&parsed)
            .map_err(|error| format!("url: {error}"))?;
        let client = policy
            .client()
            .timeout(PATIENCE)
            .connect_timeout(Duration::from_secs(5))
            .build()
            .map_err(|error| error.to_string())?;
        Ok(Cloud {
            client,
            url: url.trim_end_matches('/').to_owned(),
            key: settings.get("key").cloned().unwrap_or_default(),
            installation,
        })
    }

    async fn ask<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: Option<&Order>,
    ) -> Result<T, Fault> {
        let mut request = self
            .client
            .request(method, format!("{}{path}", self.url))
            .bearer_auth(&self.key);
        if let Some(body) = body {
            request = request.json(body);
        }
        let answer = request.send().await.map_err(|error| {
            if error.is_connect() {
                Fault::Unavailable(format!("no connection to {}", self.url))
            } else {
                Fault::Unclear(format!("{} sent an incomplete answer", self.url))
            }
        })?;
        let status = answer.status();
        let retry_after = answer
            .headers()
            .get("retry-after")
            .and_then(|value| value.to_str().ok()?.parse().ok())
            .map(Duration::from_secs);
        if status.is_success() {
            let invalid = |error: String| Fault::Unclear(format!("its answer is invalid: {error}"));
            let body = read_bounded(answer, ANSWER_BYTES).await.map_err(invalid)?;
            return serde_json::from_slice(&body).map_err(|error| invalid(error.to_string()));
        }
        let body = read_bounded(answer, ANSWER_BYTES).await.unwrap_or_default();
        let refusal: Option<ErrorAnswer> = serde_json::from_slice(&body).ok();
        let message = match &refusal {
            Some(refusal) => refusal.message.clone(),
            None => format!("it answers {status}"),
        };
        let kind = refusal.as_ref().map(|refusal| refusal.error.as_str());
        Err(match (status, kind) {
            (StatusCode::TOO_MANY_REQUESTS, _) => Fault::RateLimited { retry_after },
            (_, Some("quota")) => Fault::Quota {
                message,
                quota: refusal.and_then(|refusal| refusal.quota),
            },
            (StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN, _) => {
                Fault::Unavailable(format!("it rejects the key: {message}"))
            }
            (status, _) if status.is_client_error() => Fault::Refused(message),
            (StatusCode::SERVICE_UNAVAILABLE, _) => Fault::Unavailable(message),
            _ => Fault::Unclear(message),
        })
    }
}

impl Supplier for Cloud {
    fn order<'a>(&'a self, order: &'a Order) -> BoxFuture<'a, Result<PlacedOrder, Fault>> {
        async move { self.ask(Method::POST, "/machines", Some(order)).await }.boxed()
    }

    fn remove(&self, machine: MachineId) -> BoxFuture<'_, Result<(), Fault>> {
        async move {
            let path = format!("/machines/{machine}");
            let _: serde_json::Value = self.ask(Method::DELETE, &path, None).await?;
            Ok(())
        }
        .boxed()
    }

    fn list(&self) -> BoxFuture<'_, Result<Vec<SuppliedMachine>, Fault>> {
        async move {
            let path = format!("/machines?installation={}", self.installation);
            self.ask(Method::GET, &path, None).await
        }
        .boxed()
    }

    fn console(&self, machine: MachineId) -> BoxFuture<'_, Result<String, Fault>> {
        async move {
            let path = format!("/machines/{machine}/console");
            let text: ErrorBody = self.ask(Method::GET, &path, None).await?;
            Ok(tail(&text.text, CONSOLE_BYTES).to_owned())
        }
        .boxed()
    }

    fn offer(&self) -> BoxFuture<'_, Result<Offer, Fault>> {
        async move { self.ask(Method::GET, "/offer", None).await }.boxed()
    }

    fn list_every(&self) -> Duration {
        Duration::from_secs(3)
    }
}
