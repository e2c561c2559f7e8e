//! A process that outlives who started it.

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use std::time::Duration;

/// How long a process has to end before it is ended.
const GRACE: Duration = Duration::from_secs(3);

/// A process, known by its number and the time at which it started, in clock ticks since the host did.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Process {
    pub(super) pid: i32,
    started: u64,
}

impl Process {
    pub(super) fn of(pid: i32) -> Option<Process> {
        let (started, _) = stat(pid)?;
        Some(Process { pid, started })
    }

    pub(super) fn written(self) -> String {
        format!("{} {}\n", self.pid, self.started)
    }

    pub(super) fn read(text: &str) -> Option<Process> {
        let (pid, started) = text.trim().split_once(' ')?;
        let (pid, started) = (pid.parse().ok()?, started.parse().ok()?);
        Some(Process { pid, started })
    }

    pub(super) fn alive(self) -> bool {
        stat(self.pid).is_some_and(|(started, dead)| started == self.started && !dead)
    }

    /// Asks it to end, and ends it with its group when it does not.
    pub(super) async fn end(self) {
        let pid = Pid::from_raw(self.pid);
        // After one signal a runner would finish its job first; a second one stops it at once.
        for signal in [Signal::SIGTERM, Signal::SIGINT] {
            if self.alive() {
                let _ = killpg(pid, signal).or_else(|_| kill(pid, signal));
            }
        }
        let begun = tokio::time::Instant::now();
        while self.alive() {
            if begun.elapsed() > GRACE {
                let _ = killpg(pid, Signal::SIGKILL);
                let _ = kill(pid, Signal::SIGKILL);
            }
            if begun.elapsed() > GRACE * 2 {
                return;
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }
}

/// When a process started, and whether it is dead and only not yet buried.
fn stat(pid: i32) -> Option<(u64, bool)> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name may hold anything, so what is read comes after its end.
    let (_, rest) = text.rsplit_once(") ")?;
    let fields: Vec<&str> = rest.split(' ').collect();
    let started = fields.get(19)?.parse().ok()?;
    Some((started, fields.first() == Some(&"Z")))
}
