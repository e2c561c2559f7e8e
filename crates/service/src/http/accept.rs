//! The accept loop.
//!
//! Ten thousand runners park a poll each. Serving a connection with a small read buffer costs a tenth of what the
//! stock server takes; what that server also does, time limits for headers and a graceful stop, is done here.

use super::tls::HttpsAcceptor;
use crate::app::App;
use crate::config::Config;
use crate::presence::Line;
use axum::Router;
use axum::extract::{ConnectInfo, FromRequestParts, Request};
use axum::http::request::Parts;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio_io_timeout::TimeoutStream;
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

/// What connections may take.
#[derive(Clone, Debug)]
pub struct ConnectionLimits {
    /// The most at once.
    pub all: usize,
    /// The most at once from one address.
    pub per_address: usize,
    /// Addresses of proxies, which bring the connections of others.
    pub proxies: Vec<IpAddr>,
    /// A connection is closed when its client has read nothing for this long.
    pub write: Duration,
}

impl ConnectionLimits {
    /// Those of the configuration.
    pub fn of(config: &Config) -> ConnectionLimits {
        ConnectionLimits {
            all: config.limits.connections,
            per_address: config.limits.connections_per_address,
            proxies: config.trusted_proxies.clone(),
            write: Duration::from_secs(config.limits.write_seconds),
        }
    }
}

/// The open connections, by address.
#[derive(Clone, Default)]
struct OpenConnections(Arc<Mutex<HashMap<IpAddr, usize>>>);

impl OpenConnections {
    fn counts(&self) -> MutexGuard<'_, HashMap<IpAddr, usize>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Counts one more; none where the address has as many as it may.
    fn enter(&self, address: IpAddr, most: usize) -> Option<OpenConnection> {
        let mut counts = self.counts();
        let count = counts.entry(address).or_default();
        if *count >= most {
            return None;
        }
        *count += 1;
        drop(counts);
        Some(OpenConnection {
            all: self.clone(),
            address,
        })
    }
}

/// One open connection; no longer counted when dropped.
struct OpenConnection {
    all: OpenConnections,
    address: IpAddr,
}

impl Drop for OpenConnection {
    fn drop(&mut self) {
        if let Entry::Occupied(mut count) = self.all.counts().entry(self.address) {
            *count.get_mut() -= 1;
            if *count.get() == 0 {
                count.remove();
            }
        }
    }
}

/// How often it is logged that an address has too many connections.
const TOLD_AGAIN: Duration = Duration::from_secs(60);

/// What serves one connection.
struct Served {
    router: Router,
    address: SocketAddr,
    write: Duration,
    watcher: Watcher,
}

impl Served {
    /// Makes the TLS handshake, then answers requests.
    async fn over_tls(self, https: HttpsAcceptor, stream: TcpStream) -> Result<(), String> {
        let stream = https.accept(stream).await.map_err(|e| e.to_string())?;
        self.until_its_end(stream).await
    }

    /// Answers the requests of a connection.
    async fn until_its_end<S>(self, stream: S) -> Result<(), String>
    where
        S: AsyncRead + AsyncWrite + Send + 'static,
    {
        let Served {
            router,
            address,
            write,
            watcher,
        } = self;
        let mut stream = TimeoutStream::new(stream);
        stream.set_write_timeout(Some(write));
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
            .serve_connection(TokioIo::new(Box::pin(stream)), service);
        watcher.watch(connection).await.map_err(|e| e.to_string())
    }
}

/// Accepts connections until told to stop, then lets open requests end for at most `drain`.
pub async fn serve(
    listener: TcpListener,
    https: Option<HttpsAcceptor>,
    router: Router,
    limits: ConnectionLimits,
    stop: CancellationToken,
    drain: Duration,
) {
    let graceful = GracefulShutdown::new();
    let open = OpenConnections::default();
    let mut told: Option<Instant> = None;
    let places = Arc::new(Semaphore::new(limits.all));
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
        let ip = address.ip().to_canonical();
        let most = match limits.proxies.contains(&ip) {
            true => usize::MAX,
            false => limits.per_address,
        };
        let Some(counted) = open.enter(ip, most) else {
            if told.is_none_or(|at| at.elapsed() > TOLD_AGAIN) {
                told = Some(Instant::now());
                tracing::warn!(
                    address = %ip,
                    "closed a connection: its address has {most} open (limits.connections_per_address)"
                );
            }
            continue;
        };
        // A small answer goes out at once.
        let _ = stream.set_nodelay(true);
        let served = Served {
            router: router.clone(),
            address,
            write: limits.write,
            watcher: graceful.watcher(),
        };
        let https = https.clone();
        tokio::spawn(async move {
            let ended = match https {
                None => served.until_its_end(stream).await,
                // Boxed: a handshake holds more than ten thousand plain connections may cost.
                Some(https) => Box::pin(served.over_tls(https, stream)).await,
            };
            if let Err(error) = ended {
                tracing::trace!(error, "a connection ended early");
            }
            drop((place, counted));
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
