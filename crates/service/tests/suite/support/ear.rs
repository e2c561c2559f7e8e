//! An HTTP listener on loopback that stores what it receives and answers as configured.

use axum::Router;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use serde_json::Value;
use std::sync::{Arc, Mutex};
use tokio::net::TcpListener;

/// What was sent.
#[derive(Clone, Debug)]
pub struct Heard {
    pub headers: HeaderMap,
    pub bytes: Vec<u8>,
    /// What it was answered.
    pub answered: StatusCode,
}

impl Heard {
    /// The event.
    pub fn event(&self) -> Value {
        serde_json::from_slice(&self.bytes).expect("JSON")
    }

    /// Its id.
    pub fn id(&self) -> String {
        let id = self.headers.get("webhook-id").expect("an id");
        id.to_str().expect("text").to_owned()
    }

    /// Whether one of its signatures was made with this secret.
    pub fn signed_with(&self, secret: &str) -> bool {
        let of = |name: &str| self.headers.get(name).expect(name).to_str().expect("text");
        let seconds = of("webhook-timestamp").parse().expect("seconds");
        let hook = standardwebhooks::Webhook::new(secret).expect("a secret");
        let wanted = hook.sign(&self.id(), seconds, &self.bytes).expect("text");
        of("webhook-signature").split(' ').any(|one| one == wanted)
    }
}

#[derive(Default)]
struct Kept {
    heard: Vec<Heard>,
    deaf: bool,
}

/// See the module's head.
pub struct Ear {
    pub url: String,
    kept: Arc<Mutex<Kept>>,
    served: tokio::task::JoinHandle<()>,
}

impl Ear {
    /// Listens on a port of its own.
    pub async fn open() -> Ear {
        let kept: Arc<Mutex<Kept>> = Arc::default();
        let routes = Router::new().fallback(hear).with_state(kept.clone());
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}/bell", listener.local_addr().expect("an address"));
        let served = tokio::spawn(async move {
            axum::serve(listener, routes).await.expect("it listens");
        });
        Ear { url, kept, served }
    }

    /// From now on it takes nothing, or takes everything again.
    pub fn deaf(&self, deaf: bool) {
        self.kept.lock().expect("kept").deaf = deaf;
    }

    /// Everything that was sent.
    pub fn heard(&self) -> Vec<Heard> {
        self.kept.lock().expect("kept").heard.clone()
    }
}

impl Drop for Ear {
    fn drop(&mut self) {
        self.served.abort();
    }
}

async fn hear(
    State(kept): State<Arc<Mutex<Kept>>>,
    headers: HeaderMap,
    bytes: Bytes,
) -> (StatusCode, &'static str) {
    let mut kept = kept.lock().expect("kept");
    let answer = match kept.deaf {
        true => (StatusCode::SERVICE_UNAVAILABLE, "the bell is being painted"),
        false => (StatusCode::OK, ""),
    };
    kept.heard.push(Heard {
        headers,
        bytes: bytes.to_vec(),
        answered: answer.0,
    });
    answer
}
