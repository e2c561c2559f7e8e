//! The container engine holds to what every supplier holds to: with podman, where it is installed and may run containers.
//! Where it may not, this says so loudly and tests nothing.

// A test that cannot go on fails.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use pennine_suppliers::conformance::{self, some_order};
use pennine_suppliers::engine::Engine;
use pennine_suppliers::{Fault, Order, Stage, Supplier};
use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use uuid::Uuid;

const ONE: Uuid = Uuid::from_u128(1);
const IMAGE: &str = "localhost/pennine-trial:latest";

/// An engine of the test's own: its storage, its socket, an image of almost nothing.
struct Podman {
    folder: TempDir,
    service: Child,
    socket: PathBuf,
}

impl Drop for Podman {
    fn drop(&mut self) {
        let _ = self.podman().args(["rm", "--all", "--force"]).output();
        let _ = self.service.kill();
        let _ = self.service.wait();
        let _ = self.podman().args(["rmi", "--all", "--force"]).output();
    }
}

fn podman(folder: &TempDir) -> Command {
    let mut command = Command::new("podman");
    let path = |name: &str| folder.path().join(name).display().to_string();
    command.args(["--root", &path("storage"), "--runroot", &path("run")]);
    command.args(["--storage-driver", "vfs", "--runtime", "runc"]);
    command.args(["--cgroup-manager", "cgroupfs", "--events-backend", "file"]);
    command
}

impl Podman {
    fn podman(&self) -> Command {
        podman(&self.folder)
    }

    fn settings(&self) -> BTreeMap<String, String> {
        let socket = self.socket.display().to_string();
        [
            ("socket", socket.as_str()),
            ("image", IMAGE),
            ("network", "host"),
            // The image holds nothing but folders.
            (
                "binds",
                "/usr:/usr:ro,/bin:/bin:ro,/lib:/lib:ro,/lib64:/lib64:ro",
            ),
            ("nofile", "1024"),
            ("nproc", "4096"),
        ]
        .into_iter()
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .collect()
    }

    /// The engine as a supplier, whose machines run this script.
    fn supplier(&self, installation: Uuid, script: &str) -> Engine {
        let program = self.folder.path().join(format!("runner-{}", script.len()));
        std::fs::write(&program, format!("#!/bin/sh\n{script}\n")).unwrap();
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
        Engine::new(installation, Some(program), self.settings()).unwrap()
    }
}

/// Starts podman's service with an image; none, loudly, where that does not work.
fn engine() -> Option<Podman> {
    let skipped = |why: &str| {
        eprintln!("\n  SKIPPED: the container engine was not tested: {why}\n");
        None
    };
    if Command::new("podman").arg("--version").output().is_err() {
        return skipped("podman is not installed");
    }
    let folder = tempfile::tempdir().unwrap();
    let image = folder.path().join("image");
    for name in [
        "usr", "bin", "lib", "lib64", "tmp", "proc", "dev", "sys", "etc", "var",
    ] {
        std::fs::create_dir_all(image.join(name)).unwrap();
    }
    let archive = folder.path().join("image.tar");
    let packed = Command::new("tar")
        .arg("-C")
        .arg(&image)
        .arg("-cf")
        .arg(&archive)
        .arg(".")
        .status();
    assert!(packed.unwrap().success());
    let imported = podman(&folder)
        .arg("import")
        .arg(&archive)
        .arg(IMAGE)
        .output();
    let imported = imported.unwrap();
    if !imported.status.success() {
        return skipped(&String::from_utf8_lossy(&imported.stderr));
    }
    let socket = folder.path().join("engine.sock");
    let service = podman(&folder)
        .args(["system", "service", "--time=0"])
        .arg(format!("unix://{}", socket.display()))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let podman = Podman {
        folder,
        service,
        socket,
    };
    let begun = Instant::now();
    while std::os::unix::net::UnixStream::connect(&podman.socket).is_err() {
        if begun.elapsed() > Duration::from_secs(30) {
            return skipped("its service does not come up");
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let tried = podman
        .podman()
        .args(["run", "--rm", "--network=host", "--ulimit=nofile=1024:1024"])
        .args([
            "--ulimit=nproc=4096:4096",
            "-v",
            "/usr:/usr:ro",
            "-v",
            "/bin:/bin:ro",
        ])
        .args([
            "-v",
            "/lib:/lib:ro",
            "-v",
            "/lib64:/lib64:ro",
            IMAGE,
            "/bin/true",
        ])
        .output()
        .unwrap();
    if !tried.status.success() {
        return skipped(&String::from_utf8_lossy(&tried.stderr));
    }
    Some(podman)
}

fn order(number: u128) -> Order {
    some_order(ONE, number)
}

#[tokio::test]
async fn a_container_engine_holds_to_what_every_supplier_holds_to() {
    let Some(podman) = engine() else { return };
    let own = podman.supplier(ONE, "exec sleep 60");
    let other = podman.supplier(Uuid::from_u128(2), "exec sleep 60");
    conformance::hold(&own, &other, order).await.unwrap();

    // What it printed is there until it is removed, and its end is seen.
    let brief = podman.supplier(ONE, "echo the ticket is $PENNINE_TICKET");
    let first = order(21);
    brief.order(&first).await.unwrap();
    let begun = Instant::now();
    while conformance::stage(&brief, first.machine).await != Some(Stage::Stopped) {
        assert!(begun.elapsed() < Duration::from_secs(60), "it ends");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let printed = brief.console(first.machine).await.unwrap();
    assert_eq!(printed.trim(), "the ticket is pen-ticket-none");
    brief.remove(first.machine).await.unwrap();

    // An image that is not there is the pool's trouble, not the engine's.
    let mut wrong = order(22);
    wrong.image = "localhost/no-such-image:latest".into();
    let fault = own.order(&wrong).await.unwrap_err();
    assert!(
        matches!(&fault, Fault::Refused(said) if said.contains("no image")),
        "{fault:?}"
    );
}

#[tokio::test]
async fn an_engine_that_is_not_there_is_told() {
    let settings = |socket: &str| BTreeMap::from([("socket".to_owned(), socket.to_owned())]);
    let error = Engine::new(ONE, None, settings("/nowhere/engine.sock"))
        .err()
        .unwrap();
    assert!(error.contains("/nowhere/engine.sock"), "{error}");
    assert!(Engine::new(ONE, None, BTreeMap::new()).is_err());
}
