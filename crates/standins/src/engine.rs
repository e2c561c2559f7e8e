//! A container engine of a test's own: podman, with its storage, its socket and an image of almost nothing. It is the
//! real one; only what it keeps is thrown away.

use anyhow::{Context, bail, ensure};
use std::collections::BTreeMap;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// The image's name. It holds nothing but folders.
pub const IMAGE: &str = "localhost/pennine-trial:latest";
/// What is mounted into containers, so that there is something to run.
const HOST: [&str; 4] = ["/usr", "/bin", "/lib", "/lib64"];
/// How long its service has to come up.
const PATIENCE: Duration = Duration::from_secs(30);

/// Ended, with all of its containers, when dropped.
pub struct Podman {
    folder: TempDir,
    service: Child,
    socket: PathBuf,
}

impl Drop for Podman {
    fn drop(&mut self) {
        let folder = self.folder.path();
        let _ = podman(folder).args(["rm", "--all", "--force"]).output();
        let _ = self.service.kill();
        let _ = self.service.wait();
        let _ = podman(folder).args(["rmi", "--all", "--force"]).output();
    }
}

fn podman(folder: &Path) -> Command {
    let mut command = Command::new("podman");
    let path = |name: &str| folder.join(name).display().to_string();
    command.args(["--root", &path("storage"), "--runroot", &path("run")]);
    command.args(["--storage-driver", "vfs", "--runtime", "runc"]);
    command.args(["--cgroup-manager", "cgroupfs", "--events-backend", "file"]);
    command
}

fn well(command: &mut Command) -> anyhow::Result<()> {
    let output = command.output()?;
    ensure!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
    Ok(())
}

impl Podman {
    /// Starts its service with the image, and tries a container.
    pub fn start() -> anyhow::Result<Podman> {
        let installed = Command::new("podman").arg("--version").output();
        installed.context("podman is not installed")?;
        let folder = tempfile::tempdir()?;
        let image = folder.path().join("image");
        for name in [
            "usr", "bin", "lib", "lib64", "tmp", "proc", "dev", "sys", "etc", "var",
        ] {
            std::fs::create_dir_all(image.join(name))?;
        }
        let archive = folder.path().join("image.tar");
        let mut pack = Command::new("tar");
        well(pack.arg("-C").arg(&image).arg("-cf").arg(&archive).arg("."))?;
        well(podman(folder.path()).arg("import").arg(&archive).arg(IMAGE))?;
        let socket = folder.path().join("engine.sock");
        let service = podman(folder.path())
            .args(["system", "service", "--time=0"])
            .arg(format!("unix://{}", socket.display()))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        let started = Podman {
            folder,
            service,
            socket,
        };
        let begun = Instant::now();
        while UnixStream::connect(&started.socket).is_err() {
            if begun.elapsed() > PATIENCE {
                bail!("its service does not come up");
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        let mut trial = podman(started.folder());
        trial.args(["run", "--rm", "--network=host"]);
        trial.args(["--ulimit=nofile=1024:1024", "--ulimit=nproc=4096:4096"]);
        for place in HOST {
            trial.arg("-v").arg(bound(place));
        }
        well(trial.args([IMAGE, "/bin/true"]))?;
        Ok(started)
    }

    /// As [`Podman::start`]; where that does not work, says loudly that a test is skipped.
    pub fn or_skip() -> Option<Podman> {
        Podman::start()
            .inspect_err(|error| {
                eprintln!("\n  SKIPPED: the container engine was not tested: {error:#}\n");
            })
            .ok()
    }

    /// A folder that goes with it.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// What the supplier `engine` needs to be told.
    pub fn settings(&self) -> BTreeMap<String, String> {
        let socket = self.socket.display().to_string();
        let binds = HOST.map(bound).join(",");
        [
            ("socket", socket.as_str()),
            ("image", IMAGE),
            ("network", "host"),
            ("binds", &binds),
            ("nofile", "1024"),
            ("nproc", "4096"),
        ]
        .into_iter()
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .collect()
    }
}

fn bound(place: &str) -> String {
    format!("{place}:{place}:ro")
}
