//! What isolation costs at the start of a job: from the order to the command's exec, by turns at each level, with keepers
//! made ahead of time (warm) and without (cold).
//!
//! `cargo bench -p pennine-runner --bench isolation`

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use pennine_core::job_policy::{IsolationLevel, JobPolicy};
use pennine_core::size::ByteSize;
use pennine_runner::abilities;
use pennine_runner::machine_settings::MachineSettings;
use pennine_runner::system::isolation::folder::JobFolder;
use pennine_runner::system::keeper::{KeeperLauncher, Order};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// Starts of each kind.
const STARTS: usize = 200;
/// How long a keeper gets to be ready before a warm start: it rests between jobs.
const REST: Duration = Duration::from_millis(60);

/// Runs `true` once. Returns how long its start took.
async fn start(keepers: &KeeperLauncher, policy: JobPolicy) -> Duration {
    let order = |folder: Option<&JobFolder>| Order {
        program: "/bin/true".to_owned(),
        arguments: Vec::new(),
        folder: folder.map_or_else(|| "/".into(), JobFolder::workspace),
        variables: BTreeMap::new(),
        ..Order::default()
    };
    let begun = Instant::now();
    let (running, ending) = keepers.start(policy, &order).await.expect("it starts");
    let took = begun.elapsed();
    ending.await.expect("it ends");
    running.folder.expect("a folder").release().await;
    took
}

fn median(times: &mut [Duration]) -> Duration {
    times.sort();
    times[times.len() / 2]
}

async fn measure() {
    let folder = tempfile::tempdir().unwrap();
    let settings = MachineSettings {
        jobs_as_root: nix::unistd::geteuid().is_root(),
        ..MachineSettings::default()
    };
    let program = || env!("CARGO_BIN_EXE_pennine-runner").into();
    let at = |name: &str| folder.path().join(name);
    // At the level `none` jobs are root where the runner is, so there are two sets of keepers.
    let (open, _) = abilities::keepers(program(), &at("open"), &settings, None)
        .await
        .unwrap();
    let usual = MachineSettings::default();
    let (closed, _) = abilities::keepers(program(), &at("closed"), &usual, None)
        .await
        .unwrap();
    let level = |isolation| JobPolicy {
        isolation,
        ..JobPolicy::default()
    };
    let mut with_disk = level(IsolationLevel::Process);
    with_disk.limits.disk = Some(ByteSize(1 << 30));
    let kinds = [
        ("none", &open, level(IsolationLevel::None)),
        ("process", &closed, level(IsolationLevel::Process)),
        ("sandbox", &closed, level(IsolationLevel::Sandbox)),
        ("process, with a disk of 1 GiB", &closed, with_disk),
    ];
    let mut warm = [const { Vec::new() }; 4];
    let mut cold = [const { Vec::new() }; 4];
    for _ in 0..STARTS {
        for (number, (_, keepers, policy)) in kinds.into_iter().enumerate() {
            cold[number].push(start(keepers, policy).await);
            keepers.set_policy(policy);
            keepers.prepare(1);
            tokio::time::sleep(REST).await;
            warm[number].push(start(keepers, policy).await);
        }
    }
    println!("{STARTS} starts of each kind, p50 from the order to the command's exec:");
    let base = (median(&mut warm[0]), median(&mut cold[0]));
    for (number, (kind, ..)) in kinds.into_iter().enumerate() {
        let (warm, cold) = (median(&mut warm[number]), median(&mut cold[number]));
        println!(
            "  {kind:30}  warm {warm:>9.1?} (+{:.1?})  cold {cold:>9.1?} (+{:.1?})",
            warm.saturating_sub(base.0),
            cold.saturating_sub(base.1)
        );
    }
}

fn main() {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    let tasks = tokio::task::LocalSet::new();
    runtime.block_on(tasks.run_until(measure()));
}
