//! The typed HTTP client: used by the command line, the runner and the tests.
//!
//! [`Client`] speaks for people and programs with a token; [`RunnerClient`] for a runner with its credential. Both take
//! several addresses, separated by commas, of replicas of one service: when one is not there they go on with the next.

mod client;
mod filters;
mod groups;
mod job_settings;
mod job_socket;
mod jobs;
mod measures;
mod people;
mod pools;
mod runner;
mod runners;
mod runs;
mod tokens;
mod watch;

pub use client::Client;
pub use filters::{
    AuditFilter, DecisionFilter, JobListFilter, QueueFilter, RunListFilter, RunnerFilter,
    TrendFilter,
};
pub use job_socket::{job_identity, job_source, report_phase};
pub use jobs::LogPart;
pub use runner::RunnerClient;

use bytes::Bytes;
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_wire::Problem;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Response, StatusCode};
use serde::de::DeserializeOwned;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{PoisonError, RwLock};
use std::time::Duration;

/// What went wrong with a request.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// The service could not be reached, or the connection broke.
    #[error("no connection to {url}: {cause}")]
    NoConnection {
        /// The service's address.
        url: String,
        /// What the network said, in words.
        cause: String,
        /// Whether the answer did not come in time.
        timed_out: bool,
    },
    /// The service refused.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// Something answered that is not this service, or an incompatible one.
    #[error("{url} answered, but is not Pennine: {cause}")]
    Strange {
        /// The address.
        url: String,
        /// What was odd.
        cause: String,
    },
    /// The client cannot be made as asked.
    #[error("{0}")]
    Setup(String),
}

impl ClientError {
    /// The problem, if the service refused.
    pub fn problem(&self) -> Option<&Problem> {
        match self {
            ClientError::Refused(problem) => Some(problem),
            _ => None,
        }
    }

    /// Whether the request took longer than it may: as much of the body as it had did not get there in time.
    pub fn timed_out(&self) -> bool {
        match self {
            ClientError::NoConnection { timed_out, .. } => *timed_out,
            ClientError::Refused(problem) => problem.status == 408,
            ClientError::Strange { .. } | ClientError::Setup(_) => false,
        }
    }

    /// Whether the same request may succeed a little later.
    pub fn passes(&self) -> bool {
        match self {
            ClientError::NoConnection { .. } => true,
            ClientError::Refused(problem) => {
                problem.status >= 500 || [408, 429].contains(&problem.status)
            }
            ClientError::Strange { .. } | ClientError::Setup(_) => false,
        }
    }
}

/// What a request comes to.
pub type Result<T> = std::result::Result<T, ClientError>;

/// How to reach the service.
#[derive(Clone, Debug, Default)]
pub struct Route {
    /// A certificate authority to trust beside the usual ones (PEM).
    pub ca: Option<Vec<u8>>,
    /// A Unix socket to which all connections go, whatever the address says.
    pub socket: Option<PathBuf>,
    /// One set of connections for all clients made with this route.
    shared: Option<reqwest::Client>,
}

/// TLS is rustls with ring, which builds in a fraction of the time of its default. Done once; later calls change nothing.
pub fn choose_cryptography() {
    // An error means that it was chosen before.
    let _ = rustls::crypto::ring::default_provider().install_default();
}

impl Route {
    /// Reads the certificate authority's file, if one is given.
    pub fn with_ca(file: Option<&Path>) -> Result<Route> {
        let read = |file: &Path| {
            std::fs::read(file)
                .map_err(|e| ClientError::Setup(format!("{} cannot be read: {e}", file.display())))
        };
        Ok(Route {
            ca: file.map(read).transpose()?,
            ..Route::default()
        })
    }

    /// A route that trusts the authorities in a PEM file's contents, too, if they are given.
    pub fn with_authorities(pem: Option<Vec<u8>>) -> Route {
        Route {
            ca: pem,
            ..Route::default()
        }
    }

    /// The authorities that it trusts beside the usual ones, as a PEM file's contents.
    pub fn authorities(&self) -> Option<&[u8]> {
        self.ca.as_deref()
    }

    /// The same route through a Unix socket, if one is given.
    pub fn through(self, socket: Option<PathBuf>) -> Route {
        Route { socket, ..self }
    }

    /// The same route, with one set of connections for all clients made with it.
    pub fn shared(self) -> Result<Route> {
        let shared = Some(self.http()?);
        Ok(Route { shared, ..self })
    }

    fn http(&self) -> Result<reqwest::Client> {
        if let Some(shared) = &self.shared {
            return Ok(shared.clone());
        }
        choose_cryptography();
        let builder = || {
            let builder = match &self.socket {
                Some(socket) => reqwest::Client::builder().unix_socket(socket.as_path()),
                None => reqwest::Client::builder(),
            };
            builder
                .connect_timeout(Duration::from_secs(5))
                .timeout(ANSWER)
                .tcp_nodelay(true)
                // Only the service is talked to; where it sends us is not its to say.
                .redirect(reqwest::redirect::Policy::none())
                .user_agent(concat!("pennine/", env!("CARGO_PKG_VERSION")))
        };
        let authority = self.ca.as_deref().map(reqwest::Certificate::from_pem);
        let authority = authority.transpose().map_err(|e| {
            ClientError::Setup(format!("the certificate authority's file is not PEM: {e}"))
        })?;
        builder()
            .tls_certs_merge(authority.clone())
            .build()
            // A bare container has no trusted authorities: plain HTTP still works there, and so does the given authority.
            .or_else(|_| builder().tls_certs_only(authority).build())
            .map_err(|e| ClientError::Setup(innermost(&e)))
    }
}

/// The longest that a parked request may take to be answered.
const ANSWER: Duration = Duration::from_secs(40);

pub(crate) struct Link {
    urls: Vec<String>,
    /// Which of them answered last, or is tried next.
    at: AtomicUsize,
    secret: RwLock<String>,
    http: reqwest::Client,
}

impl Link {
    pub(crate) fn new(url: &str, secret: &str, route: &Route) -> Result<Link> {
        let urls: Vec<String> = url
            .split(',')
            .map(|url| url.trim().trim_end_matches('/').to_owned())
            .collect();
        for url in &urls {
            if !(url.starts_with("http://") || url.starts_with("https://")) {
                return Err(ClientError::Setup(format!(
                    "the address {url:?} does not begin with http:// or https://"
                )));
            }
        }
        let http = route.http()?;
        Ok(Link {
            urls,
            at: AtomicUsize::new(0),
            secret: RwLock::new(secret.trim().to_owned()),
            http,
        })
    }

    /// The address that is used now.
    pub(crate) fn url(&self) -> &str {
        let at = self.at.load(Ordering::Relaxed) % self.urls.len().max(1);
        self.urls.get(at).map_or("", String::as_str)
    }

    pub(crate) fn request(&self, method: reqwest::Method, path: &str) -> reqwest::RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.url()));
        let secret = self.secret.read().unwrap_or_else(PoisonError::into_inner);
        if secret.is_empty() {
            request
        } else {
            request.bearer_auth(&*secret)
        }
    }

    /// Shows another secret from now on.
    pub(crate) fn show(&self, secret: &str) {
        let mut shown = self.secret.write().unwrap_or_else(PoisonError::into_inner);
        secret.clone_into(&mut shown);
    }

    /// Boxed, so that what is under it is compiled here, and not once more for each caller in each program.
    pub(crate) fn send(&self, request: reqwest::RequestBuilder) -> BoxFuture<'_, Result<Response>> {
        self.answered(request).boxed()
    }

    async fn answered(&self, request: reqwest::RequestBuilder) -> Result<Response> {
        let response = self.reach(request).await?;
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let is_problem = header(&response, "content-type")
            .is_some_and(|kind| kind.starts_with("application/problem+json"));
        let body = response.bytes().await.map_err(|e| self.no_connection(&e))?;
        match serde_json::from_slice::<Problem>(&body) {
            Ok(problem) if is_problem => Err(ClientError::Refused(Box::new(problem))),
            // A proxy in front of the service says that it cannot reach it.
            _ if [
                StatusCode::BAD_GATEWAY,
                StatusCode::SERVICE_UNAVAILABLE,
                StatusCode::GATEWAY_TIMEOUT,
            ]
            .contains(&status) =>
            {
                Err(ClientError::NoConnection {
                    timed_out: false,
                    url: self.url().to_owned(),
                    cause: format!("a proxy answered {status}"),
                })
            }
            _ => Err(self.strange(format!("{status}"))),
        }
    }

    /// Sends a request to the address used now; if the connection is refused, to the next, until each was tried. A request that
    /// may have been taken is not sent twice: its connection broke, and the next request goes elsewhere.
    async fn reach(&self, request: reqwest::RequestBuilder) -> Result<Response> {
        let setup = |error: reqwest::Error| ClientError::Setup(error.to_string());
        let mut request = request.build().map_err(setup)?;
        let mut left = self.urls.len();
        loop {
            let again = request.try_clone();
            let error = match self.http.execute(request).await {
                Ok(response) => return Ok(response),
                Err(error) => error,
            };
            let failed = self.no_connection(&error);
            let gone = self.url().to_owned();
            self.at.fetch_add(1, Ordering::Relaxed);
            left -= 1;
            let Some(mut next) = again.filter(|_| left > 0 && error.is_connect()) else {
                return Err(failed);
            };
            let moved = next
                .url()
                .as_str()
                .strip_prefix(&gone)
                .and_then(|rest| reqwest::Url::parse(&format!("{}{rest}", self.url())).ok());
            let Some(url) = moved else {
                return Err(failed);
            };
            *next.url_mut() = url;
            request = next;
        }
    }

    /// The whole of what was answered.
    fn body(&self, request: reqwest::RequestBuilder) -> BoxFuture<'_, Result<Bytes>> {
        let whole = async move {
            let response = self.answered(request).await?;
            response.bytes().await.map_err(|e| self.no_connection(&e))
        };
        whole.boxed()
    }

    pub(crate) async fn json<T: DeserializeOwned>(
        &self,
        request: reqwest::RequestBuilder,
    ) -> Result<T> {
        let body = self.body(request).await?;
        serde_json::from_slice(&body).map_err(|e| self.strange(e.to_string()))
    }

    pub(crate) fn no_connection(&self, error: &reqwest::Error) -> ClientError {
        let cause = if error.is_timeout() {
            "no answer in time".to_owned()
        } else {
            innermost(error)
        };
        ClientError::NoConnection {
            url: self.url().to_owned(),
            cause,
            timed_out: error.is_timeout(),
        }
    }

    pub(crate) fn strange(&self, cause: String) -> ClientError {
        ClientError::Strange {
            url: self.url().to_owned(),
            cause,
        }
    }
}

/// The innermost cause, which is what a person can act upon.
fn innermost(error: &reqwest::Error) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}

pub(crate) fn header<'a>(response: &'a Response, name: &str) -> Option<&'a str> {
    response
        .headers()
        .get(name)
        .and_then(|value| value.to_str().ok())
}

/// What stands as it is in a segment of a path: RFC 3986's unreserved characters.
const UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'_')
    .remove(b'.')
    .remove(b'~');

/// A name as one segment of a path.
pub(crate) fn segment(text: &str) -> impl std::fmt::Display + '_ {
    utf8_percent_encode(text, UNRESERVED)
}
