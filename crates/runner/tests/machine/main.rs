//! The runner's program on this machine: its keepers, and what they keep jobs from.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

mod isolation;
mod keeper;

use std::os::unix::process::CommandExt;
use std::path::PathBuf;

/// Where the runner's program is, if not where Cargo has put it.
const PROGRAM: &str = "PENNINE_TEST_RUNNER";

/// The runner's program.
fn program() -> PathBuf {
    std::env::var_os(PROGRAM).map_or_else(
        || env!("CARGO_BIN_EXE_pennine-runner").into(),
        PathBuf::from,
    )
}

/// Started by root, the other tests are root's: here they are run again as another user, for whom the keepers use another
/// mechanism.
#[test]
fn all_of_it_holds_for_a_user_without_privileges() {
    if !nix::unistd::geteuid().is_root() {
        return;
    }
    // Other users may be unable to reach what root has built.
    let folder = tempfile::tempdir().unwrap();
    let place = |name: &str, from: PathBuf| {
        let to = folder.path().join(name);
        std::fs::copy(from, &to).unwrap();
        to
    };
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(folder.path(), mode).unwrap();
    let tests = place("tests", std::env::current_exe().unwrap());
    let runner = place("pennine-runner", program());
    let mut command = std::process::Command::new(tests);
    command
        .current_dir("/")
        .env(PROGRAM, runner)
        .env("HOME", "/nonexistent")
        .uid(65_534)
        .gid(65_534);
    let done = command.output().unwrap();
    let (output, errors) = (
        String::from_utf8_lossy(&done.stdout),
        String::from_utf8_lossy(&done.stderr),
    );
    assert!(done.status.success(), "{output}{errors}");
}
