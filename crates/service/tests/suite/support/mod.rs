//! What the tests stand on.

mod browser;
mod cloud;
mod cutter;
mod ear;
mod runner;
mod service;

pub use browser::{Browser, DIALOG};
pub use cloud::StandinCloud;
pub use cutter::Cutter;
pub use ear::{Ear, Heard};
pub use pennine_testing::Database;
pub use runner::{Runner, exposed, meeting_place, shared};
pub use service::{
    Replica, Service, ServiceProcess, config, free_port, ready, token_in, wall_clock,
};

use std::future::Future;
use std::path::PathBuf;
use std::time::{Duration, Instant};

/// How long anything may take on a slow, noisy machine before a test gives up on it.
pub const PATIENCE: Duration = Duration::from_secs(90);

/// Waits until something is so, and says what was awaited when it never is.
pub async fn until<T, F, W>(what: &str, mut look: W) -> T
where
    W: FnMut() -> F,
    F: Future<Output = Option<T>>,
{
    let begun = Instant::now();
    loop {
        if let Some(found) = look().await {
            return found;
        }
        assert!(
            begun.elapsed() < PATIENCE,
            "waited {PATIENCE:?} in vain: {what}"
        );
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
}

/// A program of this workspace, beside the test's own binary; built if it is not there yet.
pub fn program(name: &str) -> PathBuf {
    let test = std::env::current_exe().expect("the test's own path");
    let folder = test
        .parent()
        .and_then(|deps| deps.parent())
        .expect("target/debug");
    let path = folder.join(name);
    static ONCE: std::sync::Mutex<()> = std::sync::Mutex::new(());
    let _one_at_a_time = ONCE
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner);
    if !path.exists() {
        // Each program's package has the program's name.
        let status = std::process::Command::new(env!("CARGO"))
            .args(["build", "--offline", "--package", name])
            .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
            .status()
            .expect("cargo runs");
        assert!(status.success(), "{name} cannot be built");
    }
    path
}

/// The problem with which the service refused.
pub fn refusal<T: std::fmt::Debug>(
    result: Result<T, pennine_client::ClientError>,
) -> pennine_wire::Problem {
    let error = result.expect_err("it is refused");
    error.problem().expect("by the service").clone()
}
