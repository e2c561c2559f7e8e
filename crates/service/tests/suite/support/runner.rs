//! The real runner, as a process in a folder of its own.

use super::{Service, program};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Output, Stdio};
use std::time::Duration;
use tempfile::TempDir;

/// A runner that has joined.
pub struct Runner {
    pub home: TempDir,
    child: Option<Child>,
}

/// The folder in a runner's home that its jobs see, so that they and a test can wait for each other.
pub fn shared(home: &Path) -> PathBuf {
    let shared = home.join("shared");
    if !shared.exists() {
        std::fs::create_dir_all(&shared).expect("a folder");
        let all = std::fs::Permissions::from_mode(0o1777);
        std::fs::set_permissions(&shared, all).expect("everybody may write there");
    }
    shared
}

/// A folder that the jobs of all runners of this test run see.
pub fn meeting_place() -> PathBuf {
    let name = format!("pennine-tests-{}", std::process::id());
    let place = std::env::temp_dir().join(name);
    let all = std::fs::Permissions::from_mode(0o1777);
    std::fs::create_dir_all(&place).expect("a folder");
    std::fs::set_permissions(&place, all).expect("everybody may write there");
    place
}

/// What the jobs of a runner see of the tests, as the runner's environment has it.
pub fn exposed(home: &Path) -> std::ffi::OsString {
    std::env::join_paths([shared(home), meeting_place()]).expect("paths without a colon")
}

fn command(home: &Path) -> Command {
    let mut command = Command::new(program("pennine-runner"));
    command
        .env_clear()
        .env("PATH", std::env::var("PATH").unwrap_or_default())
        .env("PENNINE_RUNNER_DIR", home)
        .env("PENNINE_RUNNER_EXPOSE", exposed(home))
        .env("PENNINE_RUNNER_LOG", "warn")
        .stdin(Stdio::null());
    command
}

impl Runner {
    /// Joins a machine and lets it work.
    pub async fn working(service: &Service, pool: &str, name: &str, slots: u32) -> Runner {
        Runner::working_through(service, &service.url, pool, name, slots).await
    }

    /// A runner `wave-bench` that executes a job until its first attempt is ended, and the name of that job.
    pub async fn occupied(service: &Service) -> (Runner, String) {
        let runner = Runner::working(service, "staithe", "wave-bench", 1).await;
        let job = service
            .submit("", "[ $PENNINE_ATTEMPT_NUMBER = 1 ] && sleep 1000; true")
            .await;
        service
            .job_when(&job, "executing", |job| job.line.started_at.is_some())
            .await;
        (runner, job)
    }

    /// A file that its jobs and a test see.
    pub fn shared(&self, name: &str) -> PathBuf {
        shared(self.home.path()).join(name)
    }

    /// The same, through another address.
    pub async fn working_through(
        service: &Service,
        url: &str,
        pool: &str,
        name: &str,
        slots: u32,
    ) -> Runner {
        let ticket = service.ticket(pool).await;
        let slots = slots.to_string();
        let mut runner = Runner::joined(&[
            "--server", url, "--ticket", &ticket, "--name", name, "--slots", &slots,
        ]);
        runner.work();
        runner
    }

    /// A machine that has joined so and does not work yet.
    pub fn joined(arguments: &[&str]) -> Runner {
        let home = tempfile::tempdir().expect("a folder");
        let joined = Runner::join(home.path(), arguments);
        assert!(
            joined.status.success(),
            "{}",
            String::from_utf8_lossy(&joined.stderr)
        );
        Runner { home, child: None }
    }

    /// Runs `pennine-runner join` to its end.
    pub fn join(home: &Path, arguments: &[&str]) -> Output {
        command(home)
            .arg("join")
            .args(arguments)
            .output()
            .expect("the runner runs")
    }

    /// Runs `pennine-runner work` to its end: for when it cannot.
    pub fn work_in_vain(home: &Path) -> Output {
        command(home).arg("work").output().expect("the runner runs")
    }

    /// Runs `pennine-runner` on the same home, as a person at the machine would.
    pub fn say(&self, arguments: &[&str]) -> Output {
        command(self.home.path())
            .args(arguments)
            .output()
            .expect("the runner runs")
    }

    /// Waits until it ends by itself.
    pub async fn ended(&mut self) -> ExitStatus {
        let child = self.child.as_mut().expect("it works");
        loop {
            if let Some(status) = child.try_wait().expect("it can be waited for") {
                self.child = None;
                return status;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    /// Starts it.
    pub fn work(&mut self) {
        let child = command(self.home.path())
            .arg("work")
            .stdout(Stdio::null())
            .spawn()
            .expect("the runner starts");
        self.child = Some(child);
    }

    /// Starts it with this command line around it, which ends by becoming the runner: its folder and its program are
    /// `$0` and `$1` of the shell script.
    pub fn work_within(&mut self, wrapper: &[&str], script: &str) {
        let mut shell = Command::new(wrapper[0]);
        shell
            .args(&wrapper[1..])
            .args(["sh", "-c", script])
            .arg(self.home.path())
            .arg(program("pennine-runner"))
            .env_clear()
            .env("PATH", std::env::var("PATH").unwrap_or_default())
            .env("PENNINE_RUNNER_DIR", self.home.path())
            .env("PENNINE_RUNNER_LOG", "warn")
            .stdin(Stdio::null())
            .stdout(Stdio::null());
        self.child = Some(shell.spawn().expect("the runner starts"));
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.child.as_ref().expect("it works").id()
    }

    /// Sends it a signal by name.
    pub fn signal(&self, name: &str) {
        let status = Command::new("kill")
            .args(["-s", name, &self.pid().to_string()])
            .status()
            .expect("kill runs");
        assert!(status.success());
    }

    /// Kills it: SIGKILL.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            child.kill().expect("it can be killed");
            child.wait().expect("it is gone");
        }
    }

    /// Asks it to stop and waits for it.
    pub fn stop(&mut self) {
        self.signal("TERM");
        if let Some(mut child) = self.child.take() {
            assert!(child.wait().expect("it ends").success());
        }
    }
}

impl Drop for Runner {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}
