//! A stand-in cloud in the test's process. Its machines run the real runner.

use super::{Service, program};
use pennine_core::id::MachineId;
use pennine_standins::cloud::{self, Plan};
use pennine_wire::NewSupplier;
use serde_json::Value;
use std::collections::BTreeMap;
use tempfile::TempDir;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// A stand-in cloud.
pub struct StandinCloud {
    pub url: String,
    pub key: String,
    stop: CancellationToken,
    served: Option<tokio::task::JoinHandle<anyhow::Result<()>>>,
    _folder: TempDir,
}

impl StandinCloud {
    /// A cloud that is set up like this.
    pub async fn start(change: impl FnOnce(&mut Plan)) -> StandinCloud {
        let folder = tempfile::tempdir().expect("a folder");
        let mut plan = Plan::new(folder.path().join("machines"), program("pennine-runner"));
        plan.key = "tide-and-time".into();
        change(&mut plan);
        let key = plan.key.clone();
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let stop = CancellationToken::new();
        let served = tokio::spawn(cloud::serve(listener, plan, stop.clone().cancelled_owned()));
        StandinCloud {
            url,
            key,
            stop,
            served: Some(served),
            _folder: folder,
        }
    }

    /// Adds it as a supplier of a service.
    pub async fn join(&self, service: &Service, name: &str) {
        let new = NewSupplier {
            name: name.into(),
            kind: "standin-cloud".into(),
            settings: BTreeMap::from([("url".to_owned(), self.url.clone())]),
            secrets: BTreeMap::from([("key".to_owned(), self.key.clone())]),
            ..NewSupplier::default()
        };
        service.client.add_supplier(&new).await.expect("a supplier");
    }

    /// Sets what goes wrong.
    pub async fn faults(&self, change: Value) {
        let url = format!("{}/faults", self.url);
        let answer = reqwest::Client::new()
            .patch(url)
            .json(&change)
            .send()
            .await
            .expect("the cloud answers");
        assert!(answer.status().is_success(), "{change}");
    }

    /// Reclaims a machine with a notice in seconds.
    pub async fn reclaim(&self, machine: MachineId, notice: f64) {
        let url = format!("{}/machines/{machine}/reclaim?notice={notice}", self.url);
        let answer = reqwest::Client::new().post(url).send().await;
        assert!(answer.expect("the cloud answers").status().is_success());
    }

    /// How many machines of an installation there are, whatever the service has on record; the cloud must not be down.
    pub async fn there(&self, installation: uuid::Uuid) -> usize {
        let url = format!("{}/machines?installation={installation}", self.url);
        let answer = reqwest::Client::new()
            .get(url)
            .bearer_auth(&self.key)
            .send()
            .await
            .expect("the cloud answers");
        let found: Vec<Value> = answer.json().await.expect("a list");
        found.len()
    }

    /// Ends it with all its machines.
    pub async fn end(mut self) {
        self.stop.cancel();
        if let Some(served) = self.served.take() {
            served.await.expect("it does not panic").expect("it ends");
        }
    }
}

impl Drop for StandinCloud {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}
