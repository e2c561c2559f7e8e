//! The socket at which a job asks for identity tokens, for the files with which it begins, and reports its parts: HTTP on a Unix socket that only this
//! attempt can reach.
//!
//! ```text
//!   job ── GET /identity?audience=NAME[&algorithm=ES256] ──> runner ──> service
//!   job ── GET /source ─────────────────────────────────────> runner ──> service
//!   job ── POST /phase ─────────────────────────────────────> runner
//! ```

use super::phases::PhaseRecord;
use crate::environment::RunnerEnvironment;
use crate::system::isolation::folder::JobFolder;
use bytes::Bytes;
use futures::TryStreamExt;
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Full, Limited, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::header::CONTENT_TYPE;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use pennine_client::ClientError;
use pennine_core::identity::SigningAlgorithm;
use pennine_wire::Problem;
use pennine_wire::runner_protocol::{Assigned, IdentityRequest, IdentityToken};
use serde::Serialize;
use std::cell::RefCell;
use std::collections::HashMap;
use std::convert::Infallible;
use std::fs::Permissions;
use std::io;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::time::{Duration, Instant};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// What is answered: a text, or the files as they come.
type Body = UnsyncBoxBody<Bytes, io::Error>;

/// Connections at once; a job that opens more waits for them.
const CONNECTIONS: usize = 16;
/// How long a connection may be idle between its parts.
const PATIENCE: Duration = Duration::from_secs(10);
/// The most bytes of a report.
const REPORT: usize = 16 << 10;
/// The audiences of a job whose tokens are kept.
const KEPT: usize = 32;

/// A socket that is bound and not served yet.
pub(super) struct IdentitySocket {
    listener: UnixListener,
    path: PathBuf,
}

/// Ends the serving of a socket, and removes it.
pub(super) struct IdentityServer {
    task: JoinHandle<()>,
    path: PathBuf,
}

impl Drop for IdentityServer {
    fn drop(&mut self) {
        self.task.abort();
        let _ = std::fs::remove_file(&self.path);
    }
}

/// Where a job's socket is, as the runner and the job see it.
pub(super) fn socket_path(folder: &JobFolder) -> PathBuf {
    folder.sockets().join("identity.sock")
}

impl IdentitySocket {
    /// Makes a job's socket. What keeps others from it is the folder that it is in.
    ///
    /// # Errors
    /// Where it cannot be made: its path may be longer than the system allows (108 bytes).
    pub(super) fn bind(folder: &JobFolder) -> io::Result<IdentitySocket> {
        let path = socket_path(folder);
        match std::fs::remove_file(&path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
        let listener = UnixListener::bind(&path)?;
        if folder.has_own_sockets() {
            std::fs::set_permissions(&path, Permissions::from_mode(0o666))?;
        } else if let Some(user) = folder.user() {
            chown(&path, Some(user.disk), Some(user.disk))?;
        }
        Ok(IdentitySocket { listener, path })
    }

    /// Answers at it until what is returned is dropped.
    pub(super) fn serve(
        self,
        environment: &Rc<RunnerEnvironment>,
        assigned: &Rc<Assigned>,
        phases: &Rc<PhaseRecord>,
    ) -> IdentityServer {
        let path = self.path;
        let tokens = Rc::new(Tokens {
            environment: environment.clone(),
            assigned: assigned.clone(),
            phases: phases.clone(),
            kept: RefCell::default(),
        });
        let task = tokio::task::spawn_local(answer_all(self.listener, tokens));
        IdentityServer { task, path }
    }
}

async fn answer_all(listener: UnixListener, tokens: Rc<Tokens>) {
    let places = Rc::new(Semaphore::new(CONNECTIONS));
    // Ended with the socket.
    let mut connections = tokio::task::JoinSet::new();
    loop {
        let Ok(place) = acquire(&places).await else {
            return;
        };
        tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok((stream, _)) => {
                    let tokens = tokens.clone();
                    connections.spawn_local(async move {
                        answer_one(stream, tokens).await;
                        drop(place);
                    });
                }
                // Out of descriptors, say.
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            },
            Some(_) = connections.join_next() => {}
        }
    }
}

async fn acquire(places: &Rc<Semaphore>) -> Result<impl Sized + use<>, tokio::sync::AcquireError> {
    /// Gives the place back when it is dropped.
    struct Place(Rc<Semaphore>);
    impl Drop for Place {
        fn drop(&mut self) {
            self.0.add_permits(1);
        }
    }
    places.acquire().await?.forget();
    Ok(Place(places.clone()))
}

async fn answer_one(stream: UnixStream, tokens: Rc<Tokens>) {
    let service = service_fn(move |request| {
        let tokens = tokens.clone();
        async move { Ok::<_, Infallible>(tokens.answer(request).await) }
    });
    let mut server = hyper::server::conn::http1::Builder::new();
    server
        .timer(TokioTimer::new())
        .header_read_timeout(PATIENCE);
    // The job may have gone away: nothing is lost.
    let _ = server.serve_connection(TokioIo::new(stream), service).await;
}

/// The tokens of an attempt. One that is not half over is given again.
struct Tokens {
    environment: Rc<RunnerEnvironment>,
    assigned: Rc<Assigned>,
    phases: Rc<PhaseRecord>,
    kept: RefCell<HashMap<(String, SigningAlgorithm), (IdentityToken, Instant)>>,
}

#[derive(serde::Deserialize)]
struct Asked {
    #[serde(default)]
    audience: String,
    #[serde(default)]
    algorithm: SigningAlgorithm,
}

impl Tokens {
    async fn answer(&self, request: Request<Incoming>) -> Response<Body> {
        if request.uri().path() == "/phase" {
            return self.phase(request).await;
        }
        if request.uri().path() == "/source" {
            return self.source().await;
        }
        if request.uri().path() != "/identity" {
            let detail = "the addresses here are /identity?audience=NAME, /source and /phase";
            return refusal(
                StatusCode::NOT_FOUND,
                "unknown-path",
                "Unknown path",
                detail,
            );
        }
        if request.method() != Method::GET {
            let detail = "ask with GET";
            return refusal(
                StatusCode::METHOD_NOT_ALLOWED,
                "wrong-method",
                "Wrong method",
                detail,
            );
        }
        let query = request.uri().query().unwrap_or_default();
        let asked: Asked = match serde_urlencoded::from_str(query) {
            Ok(asked) => asked,
            Err(error) => {
                let detail =
                    format!("the query is audience=NAME, with algorithm=RS256 or ES256: {error}");
                return refusal(
                    StatusCode::BAD_REQUEST,
                    "invalid-field",
                    "Invalid field",
                    &detail,
                );
            }
        };
        match self.token(asked).await {
            Ok(token) => json(StatusCode::OK, "application/json", &token),
            Err(error) => passed_on(&error),
        }
    }

    /// Takes a report about a part of the job.
    async fn phase(&self, request: Request<Incoming>) -> Response<Body> {
        let body = Limited::new(request.into_body(), REPORT).collect().await;
        let bytes = body.map(|whole| whole.to_bytes()).unwrap_or_default();
        match serde_json::from_slice(&bytes) {
            Ok(report) => {
                self.phases.note(report);
                json(StatusCode::OK, "application/json", &())
            }
            Err(error) => refusal(
                StatusCode::BAD_REQUEST,
                "invalid-body",
                "Invalid body",
                &error.to_string(),
            ),
        }
    }

    /// The archive of files, as it comes from the service.
    async fn source(&self) -> Response<Body> {
        let client = &self.environment.client;
        match client
            .source(self.assigned.attempt, self.assigned.lease)
            .await
        {
            Ok(pieces) => Response::new(Body::new(StreamBody::new(pieces.map_ok(Frame::data)))),
            Err(error) => passed_on(&error),
        }
    }

    async fn token(&self, asked: Asked) -> Result<IdentityToken, ClientError> {
        let key = (asked.audience, asked.algorithm);
        let kept = self.kept.borrow().get(&key).cloned();
        if let Some((token, at)) = kept {
            let (age, whole) = (at.elapsed(), Duration::from(token.expires_in_us));
            if age < whole / 2 {
                return Ok(IdentityToken {
                    expires_in_us: (whole - age).into(),
                    ..token
                });
            }
        }
        let request = IdentityRequest {
            lease: self.assigned.lease,
            audience: key.0.clone(),
            algorithm: key.1,
        };
        let at = Instant::now();
        let asked = self
            .environment
            .client
            .identity(self.assigned.attempt, &request);
        let token = asked.await?;
        let mut kept = self.kept.borrow_mut();
        if kept.len() >= KEPT {
            kept.clear();
        }
        kept.insert(key, (token.clone(), at));
        Ok(token)
    }
}

/// What the service has refused, or that it does not answer.
fn passed_on(error: &ClientError) -> Response<Body> {
    match error.problem() {
        Some(problem) => problem_answer(problem),
        None => refusal(
            StatusCode::BAD_GATEWAY,
            "service-away",
            "The service does not answer",
            &error.to_string(),
        ),
    }
}

fn json(status: StatusCode, content: &'static str, body: &impl Serialize) -> Response<Body> {
    let text = serde_json::to_string(body).unwrap_or_default() + "\n";
    let whole = Full::new(Bytes::from(text)).map_err(|never| match never {});
    let mut answer = Response::new(Body::new(whole));
    *answer.status_mut() = status;
    let content = hyper::header::HeaderValue::from_static(content);
    answer.headers_mut().insert(CONTENT_TYPE, content);
    answer
}

fn problem_answer(problem: &Problem) -> Response<Body> {
    let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::BAD_GATEWAY);
    json(status, "application/problem+json", problem)
}

fn refusal(status: StatusCode, word: &str, title: &str, detail: &str) -> Response<Body> {
    problem_answer(&Problem {
        kind: format!("/problems/{word}"),
        title: title.to_owned(),
        status: status.as_u16(),
        detail: detail.to_owned(),
        instance: None,
        field: None,
        column: None,
        remedy: None,
        next_offset: None,
        version: None,
    })
}

/// Asks for a token inside a job, and prints it: `pennine-runner identity`.
pub async fn print_token(
    audience: &str,
    algorithm: SigningAlgorithm,
) -> Result<(), crate::error::Error> {
    let Some(socket) = std::env::var_os(SOCKET_VARIABLE) else {
        let message = format!("{SOCKET_VARIABLE} is not set: tokens are given inside a job only");
        return Err(crate::error::Error::Usage(message));
    };
    let token = pennine_client::job_identity(Path::new(&socket), audience, algorithm).await?;
    println!("{}", token.token.0);
    Ok(())
}

/// The environment variable that holds the socket's path.
pub const SOCKET_VARIABLE: &str = "PENNINE_IDENTITY_SOCKET";
