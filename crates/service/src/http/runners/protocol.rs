//! The runner protocol, under `/runner/v1`. See docs/protocol.md.

use crate::app::App;
use crate::error::ServiceError;
use crate::http::accept::{Peer, Wire};
use crate::http::answer::Answer;
use crate::http::auth::bearer;
use crate::http::body::JsonBody;
use crate::operations::runners::protocol::{
    self, CredentialHolder, accept_session, end_session, park_time, pending_for_runner,
};
use crate::validation::check_protocol;
use crate::{http, secret};
use axum::extract::{FromRequestParts, State};
use axum::http::StatusCode;
use axum::http::request::Parts;
use axum::routing::{get, post, put};
use axum::{Json, Router};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::runner_protocol::{
    OLDEST_PROTOCOL, PROTOCOL, Poll, PollAnswer, ServiceInfo, SessionEnd,
};
use tower_http::timeout::TimeoutLayer;

/// The runner's side of the service, with the time that a request may take.
pub fn routes(limit: TimeoutLayer) -> Router<App> {
    Router::new()
        .route("/hello", get(hello))
        .route("/enrol", post(super::enrol::enrol))
        .route("/poll", post(poll))
        .route("/goodbye", post(goodbye))
        .route("/me", get(http::runners::own_runner::me))
        .route("/credential", post(http::runners::own_runner::renew))
        .route(
            "/desired-state",
            put(http::runners::own_runner::set_desired_state),
        )
        .route("/leave", post(http::runners::own_runner::leave))
        .route(
            "/attempts/{attempt}/started",
            post(http::runners::reports::started),
        )
        .route(
            "/attempts/{attempt}/finished",
            post(http::runners::reports::finished),
        )
        .route(
            "/attempts/{attempt}/lost",
            post(http::runners::reports::lost),
        )
        .route(
            "/attempts/{attempt}/secrets",
            post(http::runners::reports::secrets),
        )
        .route(
            "/attempts/{attempt}/identity",
            post(http::runners::reports::identity),
        )
        .layer(limit)
        // Bounded by its progress.
        .route("/attempts/{attempt}/log", post(http::runners::reports::log))
        .route(
            "/attempts/{attempt}/source",
            get(http::runners::reports::source),
        )
}

async fn hello(State(app): State<App>) -> Json<ServiceInfo> {
    Json(ServiceInfo {
        service: "pennine".into(),
        version: env!("CARGO_PKG_VERSION").into(),
        protocol: PROTOCOL,
        oldest_protocol: OLDEST_PROTOCOL,
        now: app.clock.now(),
    })
}

/// The runner that shows its credential, and the credential's hash.
pub struct AuthenticatedRunner(pub CredentialHolder, pub Vec<u8>);

impl FromRequestParts<App> for AuthenticatedRunner {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Answer<Self> {
        let refused = |message: &str| {
            ServiceError::unauthenticated(message)
                .remedy("if the runner was removed, join the machine again with a new ticket")
        };
        let credential = bearer(&parts.headers)
            .ok_or_else(|| refused("the request carries no runner credential"))?;
        let hash = secret::hash(&credential);
        let Peer(peer) = Peer::from_request_parts(parts, app)
            .await
            .unwrap_or(Peer(None));
        let known = protocol::authenticate(app, &hash, peer)
            .await?
            .ok_or_else(|| refused("this runner credential is not known here"))?;
        if known.state.0 == RunnerState::Retired {
            let message = format!("{} is retired", known.name);
            return Err(
                ServiceError::gone("retired-runner", "The runner is retired", message)
                    .remedy("join the machine again with a new ticket"),
            );
        }
        Ok(AuthenticatedRunner(known, hash))
    }
}

/// The one outstanding request of a runner. What it asks of the record is boxed and let go before it parks, so that ten
/// thousand parked polls hold little.
async fn poll(
    State(app): State<App>,
    AuthenticatedRunner(mut known, hash): AuthenticatedRunner,
    peer: Peer,
    wire: Wire,
    JsonBody(sent): JsonBody<Poll>,
) -> Answer<Json<PollAnswer>> {
    check_protocol(sent.protocol)?;
    let presence = Box::pin(accept_session(&app, &known, &sent, peer.0)).await?;
    wire.belongs(|| app.presence.line(known.id.0, sent.session, &app.clock));
    drop(wire);
    let subscription = app.polls.subscribe(known.id.0);
    let mut answer = Box::pin(pending_for_runner(&app, &known, &sent, true)).await?;
    if answer.assignments.is_empty()
        && answer.stop.is_empty()
        && answer.own.is_none()
        && !sent.at_once
    {
        tokio::select! {
            () = subscription.notified() => {}
            () = tokio::time::sleep(park_time(&answer.settings, &sent)) => {}
            () = app.stop.cancelled() => {}
        }
        // What people set meanwhile goes with a job that came meanwhile.
        if let Some(fresh) = protocol::known(&app, &hash).await? {
            known = fresh;
        }
        answer = Box::pin(pending_for_runner(&app, &known, &sent, false)).await?;
    }
    presence.answered();
    Ok(Json(answer))
}

/// The runner's process ends.
async fn goodbye(
    State(app): State<App>,
    AuthenticatedRunner(known, _): AuthenticatedRunner,
    JsonBody(sent): JsonBody<SessionEnd>,
) -> Answer<StatusCode> {
    end_session(&app, &known, sent.session).await?;
    Ok(StatusCode::NO_CONTENT)
}
