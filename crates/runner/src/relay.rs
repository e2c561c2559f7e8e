//! The line to the service of a machine that has no network: connections to a Unix socket are carried on to the service.
//!
//! The supplier `local` starts it outside the machine's sandbox and beside its runner; it ends with both.

use crate::error::Error;
use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpStream, UnixListener, UnixStream};
use tokio::sync::Semaphore;

/// Connections at once: a runner needs one for its poll and one for each job's log, with as many for the jobs themselves.
const CONNECTIONS: usize = 256;

/// How long an address has to accept a connection.
const CONNECT: Duration = Duration::from_secs(5);

/// The host and the port of an address of the service.
pub fn host_and_port(url: &str) -> Option<(String, u16)> {
    let (scheme, rest) = url.split_once("://")?;
    let authority = rest.split('/').next()?;
    let usual = if scheme == "https" { 443 } else { 80 };
    match authority.rsplit_once(':') {
        // The last colon of a bare IPv6 address is no port's.
        Some((host, port)) if !port.contains(']') => Some((host.to_owned(), port.parse().ok()?)),
        _ => Some((authority.to_owned(), usual)),
    }
}

/// Carries connections from a socket to the first of the service's addresses (separated by commas) that accepts one, until
/// it is ended.
///
/// Errors: none of the addresses names a host, or the socket cannot be made.
pub async fn run(socket: &Path, servers: &str) -> Result<(), Error> {
    let addresses: Vec<(String, u16)> = servers
        .split(',')
        .filter_map(|url| host_and_port(url.trim()))
        .collect();
    if addresses.is_empty() {
        return Err(Error::Usage(format!(
            "{servers:?} is no address of a service"
        )));
    }
    let failed = |error: io::Error| Error::Machine(format!("{}: {error}", socket.display()));
    match std::fs::remove_file(socket) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(failed(error)),
        _ => {}
    }
    let listener = UnixListener::bind(socket).map_err(failed)?;
    let (addresses, places) = (Arc::new(addresses), Arc::new(Semaphore::new(CONNECTIONS)));
    loop {
        let Ok(place) = places.clone().acquire_owned().await else {
            return Ok(());
        };
        let Ok((stream, _)) = listener.accept().await else {
            // Out of descriptors, say: others close some.
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let addresses = addresses.clone();
        tokio::spawn(async move {
            // Where this fails, the other end sees its connection closed, and tries again.
            let _ = carry(stream, &addresses).await;
            drop(place);
        });
    }
}

async fn carry(mut inside: UnixStream, addresses: &[(String, u16)]) -> io::Result<()> {
    let mut last = io::Error::from(io::ErrorKind::AddrNotAvailable);
    for (host, port) in addresses {
        let host = host.trim_matches(['[', ']']);
        let connected = tokio::time::timeout(CONNECT, TcpStream::connect((host, *port))).await;
        match connected.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())) {
            Ok(mut service) => {
                let _ = service.set_nodelay(true);
                tokio::io::copy_bidirectional(&mut inside, &mut service).await?;
                return Ok(());
            }
            Err(error) => last = error,
        }
    }
    Err(last)
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    #[test]
    fn an_address_has_a_host_and_a_port() {
        for (url, host, port) in [
            ("http://ci.skerry.example", "ci.skerry.example", 80),
            (
                "https://ci.skerry.example/pennine",
                "ci.skerry.example",
                443,
            ),
            ("http://127.0.0.1:7117", "127.0.0.1", 7117),
            ("http://[::1]:7117/", "[::1]", 7117),
            ("https://[fd00::7]", "[fd00::7]", 443),
        ] {
            assert_eq!(host_and_port(url), Some((host.to_owned(), port)), "{url}");
        }
        assert_eq!(host_and_port("ci.skerry.example"), None);
    }

    #[tokio::test]
    async fn a_connection_reaches_the_first_address_that_accepts_one() {
        let folder = tempfile::tempdir().unwrap();
        let socket = folder.path().join("service.sock");
        let silent = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let closed = silent.local_addr().unwrap();
        drop(silent);
        let service = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let servers = format!("http://{closed},http://{}", service.local_addr().unwrap());
        let (path, relayed) = (socket.clone(), servers.clone());
        let relay = tokio::spawn(async move { run(&path, &relayed).await });
        let mut inside = loop {
            match UnixStream::connect(&socket).await {
                Ok(stream) => break stream,
                Err(_) => tokio::time::sleep(Duration::from_millis(5)).await,
            }
        };
        inside.write_all(b"hello").await.unwrap();
        let (mut outside, _) = service.accept().await.unwrap();
        let mut heard = [0; 5];
        outside.read_exact(&mut heard).await.unwrap();
        outside.write_all(b"again").await.unwrap();
        drop(outside);
        let mut answer = String::new();
        inside.read_to_string(&mut answer).await.unwrap();
        assert_eq!((&heard, answer.as_str()), (b"hello", "again"));
        relay.abort();
        assert!(run(&socket, "nowhere").await.is_err());
    }
}
