//! A proxy on loopback in front of the replicas: each connection goes to one that takes it, and all can be cut.

use crate::Error;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// Ended when dropped.
pub struct Proxy {
    pub url: String,
    connections: Arc<Mutex<CancellationToken>>,
    task: JoinHandle<()>,
}

impl Drop for Proxy {
    fn drop(&mut self) {
        self.task.abort();
        self.cut();
    }
}

impl Proxy {
    /// Starts a proxy in front of these addresses.
    pub async fn start(replicas: Vec<SocketAddr>) -> Result<Proxy, Error> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let url = format!("http://{}", listener.local_addr()?);
        let connections = Arc::new(Mutex::new(CancellationToken::new()));
        let cut = Arc::clone(&connections);
        let task = tokio::spawn(async move {
            let next = Arc::new(AtomicUsize::new(0));
            while let Ok((client, _)) = listener.accept().await {
                let cut = cut.lock().unwrap_or_else(PoisonError::into_inner).clone();
                let carried = carry(client, replicas.clone(), Arc::clone(&next));
                tokio::spawn(cut.run_until_cancelled_owned(carried));
            }
        });
        Ok(Proxy {
            url,
            connections,
            task,
        })
    }

    /// Cuts every open connection.
    pub fn cut(&self) {
        let mut connections = self
            .connections
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        std::mem::take(&mut *connections).cancel();
    }
}

/// Carries a connection to the first replica, in turn, that takes one.
async fn carry(mut client: TcpStream, replicas: Vec<SocketAddr>, next: Arc<AtomicUsize>) {
    let first = next.fetch_add(1, Ordering::Relaxed);
    for offset in 0..replicas.len() {
        let Some(address) = replicas.get((first + offset) % replicas.len()) else {
            return;
        };
        if let Ok(mut replica) = TcpStream::connect(address).await {
            let _ = tokio::io::copy_bidirectional(&mut client, &mut replica).await;
            return;
        }
    }
}
