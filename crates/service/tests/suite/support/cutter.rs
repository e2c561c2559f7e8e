//! A connection that breaks on demand: a relay on loopback between a runner and the service.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;

#[derive(Default)]
struct Rules {
    /// Answers that contain the text are dropped and their connection is cut, for the given number of times.
    swallow: AtomicU64,
    needle: std::sync::Mutex<Vec<u8>>,
    /// Bytes carried toward the service.
    carried: AtomicU64,
    /// Nothing is carried at all.
    severed: AtomicBool,
    /// Whether what is sent arrives only later.
    held: tokio::sync::watch::Sender<bool>,
    cut: Notify,
}

impl Rules {
    /// Waits while what is sent is kept back.
    async fn passes(&self) {
        let _ = self.held.subscribe().wait_for(|held| !held).await;
    }
}

/// The relay.
pub struct Cutter {
    pub url: String,
    rules: Arc<Rules>,
    stop: CancellationToken,
}

impl Cutter {
    /// A relay to this address.
    pub async fn to(service: SocketAddr) -> Cutter {
        let listener = TcpListener::bind(("127.0.0.1", 0)).await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let rules = Arc::new(Rules::default());
        let stop = CancellationToken::new();
        let (own_rules, stopped) = (rules.clone(), stop.clone());
        tokio::spawn(async move {
            loop {
                let stream = tokio::select! {
                    accepted = listener.accept() => match accepted { Ok((stream, _)) => stream, Err(_) => continue },
                    () = stopped.cancelled() => return,
                };
                tokio::spawn(relay(stream, service, own_rules.clone(), stopped.clone()));
            }
        });
        Cutter { url, rules, stop }
    }

    /// Swallows the next answer in which this text stands, and cuts its connection.
    pub fn swallow_answer_with(&self, text: &str) {
        *self.rules.needle.lock().unwrap() = text.as_bytes().to_vec();
        self.rules.swallow.fetch_add(1, Ordering::SeqCst);
    }

    /// Whether an answer that was to be swallowed has been.
    pub fn swallowed(&self) -> bool {
        self.rules.swallow.load(Ordering::SeqCst) == 0
    }

    /// Cuts every connection now; new ones are carried.
    pub fn cut(&self) {
        self.rules.cut.notify_waiters();
    }

    /// Carries nothing from now on, or carries again.
    pub fn sever(&self, severed: bool) {
        self.rules.severed.store(severed, Ordering::SeqCst);
        self.cut();
    }

    /// Keeps back what is sent from now on, or carries it: the connections stay.
    pub fn hold(&self, held: bool) {
        self.rules.held.send_replace(held);
    }

    /// How many bytes were carried toward the service so far.
    pub fn carried(&self) -> u64 {
        self.rules.carried.load(Ordering::SeqCst)
    }
}

impl Drop for Cutter {
    fn drop(&mut self) {
        self.stop.cancel();
        self.cut();
    }
}

async fn relay(near: TcpStream, service: SocketAddr, rules: Arc<Rules>, stop: CancellationToken) {
    if rules.severed.load(Ordering::SeqCst) {
        return;
    }
    let cut = rules.cut.notified();
    let Ok(far) = TcpStream::connect(service).await else {
        return;
    };
    let (mut near_in, mut near_out) = near.into_split();
    let (mut far_in, mut far_out) = far.into_split();
    let up = async {
        let mut buffer = vec![0; 16 << 10];
        while let Ok(length @ 1..) = near_in.read(&mut buffer).await {
            rules.carried.fetch_add(length as u64, Ordering::SeqCst);
            rules.passes().await;
            if far_out.write_all(&buffer[..length]).await.is_err() {
                return;
            }
        }
    };
    let down = async {
        let mut buffer = vec![0; 16 << 10];
        while let Ok(length @ 1..) = far_in.read(&mut buffer).await {
            let found = rules.swallow.load(Ordering::SeqCst) > 0 && {
                let needle = rules.needle.lock().unwrap();
                buffer[..length]
                    .windows(needle.len())
                    .any(|window| window == needle.as_slice())
            };
            if found {
                rules.swallow.fetch_sub(1, Ordering::SeqCst);
                return;
            }
            rules.passes().await;
            if near_out.write_all(&buffer[..length]).await.is_err() {
                return;
            }
        }
    };
    tokio::select! {
        () = up => {}
        () = down => {}
        () = cut => {}
        () = stop.cancelled() => {}
    }
}
