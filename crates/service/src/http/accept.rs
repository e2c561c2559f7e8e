//! The accept loop.
//!
//! Ten thousand runners park a poll each. Serving a connection with a small read buffer costs a tenth of what the
//! stock server takes; what that server also does, time limits for headers and a graceful stop, is done here.

use crate::app::App;
use crate::presence::Line;
use axum::Router;
use axum::extract::{ConnectInfo, FromRequestParts, Request};
use axum::http::request::Parts;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tokio_util::sync::CancellationToken;
use tower::ServiceExt;

/// Bytes of buffer per connection, and the most that a request's head may have.
const BUFFER: usize = 8 * 1024;
/// How long a client may take to send a request's headers.
const HEADERS: Duration = Duration::from_secs(20);

/// When a request arrived. What a runner says happened "so long ago" is counted from here, not from when its
/// credential was found in the record.
#[derive(Clone, Copy, Debug)]
pub struct ArrivalTime(pub Instant);

impl<S: Send + Sync> FromRequestParts<S> for ArrivalTime {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        let arrived = parts.extensions.get::<ArrivalTime>().copied();
        Ok(arrived.unwrap_or_else(|| ArrivalTime(Instant::now())))
    }
}

/// The connection of a request. Records the first runner that polls on it, for as long as the connection lives.
#[derive(Clone, Default)]
pub struct Wire(Arc<OnceLock<Line>>);

impl Wire {
    /// Notes whose it is, unless that is known.
    pub fn belongs(&self, line: impl FnOnce() -> Line) {
        self.0.get_or_init(line);
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Wire {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        let wire = parts.extensions.get::<Wire>().cloned();
        Ok(wire.unwrap_or_default())
    }
}

/// From where a request comes: the other end of its connection, or, where that is a proxy that is trusted, what the proxy
/// says.
#[derive(Clone, Copy, Debug)]
pub struct Peer(pub Option<IpAddr>);

impl FromRequestParts<App> for Peer {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Infallible> {
        let direct = parts.extensions.get::<ConnectInfo<SocketAddr>>();
        let direct = direct.map(|info| info.0.ip().to_canonical());
        let trusted = |ip: &IpAddr| app.config.trusted_proxies.contains(ip);
        let Some(proxy) = direct.filter(trusted) else {
            return Ok(Peer(direct));
        };
        // Each proxy appends the address of its peer; what precedes it may be forged.
        let message = parts.headers.get_all("x-forwarded-for").iter();
        let hops = message.filter_map(|value| value.to_str().ok());
        let hops: Vec<&str> = hops.flat_map(|value| value.split(',')).collect();
        let mut hops = hops.iter().rev().map(|hop| hop.trim().parse::<IpAddr>());
        let first = hops.find(|hop| !hop.as_ref().is_ok_and(trusted));
        Ok(Peer(Some(first.and_then(Result::ok).unwrap_or(proxy))))
    }
}

/// Accepts connections until told to stop, then lets open requests end for at most `drain`.
pub async fn serve(
    listener: TcpListener,
    router: Router,
    most: usize,
    stop: CancellationToken,
    drain: Duration,
) {
    let graceful = GracefulShutdown::new();
    let places = Arc::new(Semaphore::new(most));
    loop {
        let place = tokio::select! {
            place = places.clone().acquire_owned() => place,
            () = stop.cancelled() => break,
        };
        let Ok(place) = place else { break };
        let (stream, address) = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    // Out of file descriptors, say: give others time to close some.
                    tracing::warn!(%error, "a connection cannot be accepted");
                    tokio::time::sleep(Duration::from_millis(100)).await;
                    continue;
                }
            },
            () = stop.cancelled() => break,
        };
        // A small answer goes out at once.
        let _ = stream.set_nodelay(true);
        let router = router.clone();
        let wire = Wire::default();
        let service =
            hyper::service::service_fn(move |request: hyper::Request<hyper::body::Incoming>| {
                let mut request: Request = request.map(axum::body::Body::new);
                request.extensions_mut().insert(ConnectInfo(address));
                request.extensions_mut().insert(ArrivalTime(Instant::now()));
                request.extensions_mut().insert(wire.clone());
                router.clone().oneshot(request)
            });
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(HEADERS)
            .max_buf_size(BUFFER)
            .serve_connection(TokioIo::new(stream), service);
        let watched = graceful.watch(connection);
        tokio::spawn(async move {
            if let Err(error) = watched.await {
                tracing::trace!(%error, "a connection ended early");
            }
            drop(place);
        });
    }
    drop(listener);
    if tokio::time::timeout(drain, graceful.shutdown())
        .await
        .is_err()
    {
        tracing::warn!("some requests did not end within {} s", drain.as_secs());
    }
}
