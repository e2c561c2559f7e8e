//! Processes that an earlier life of the runner left behind.

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::path::Path;

/// The variable that marks an attempt's processes.
pub const MARKER: &str = "PENNINE_ATTEMPT";

/// Ends processes that an earlier life of the runner left behind: those whose environment names one of these attempts.
/// Returns how many there were.
pub fn end_leftovers(attempts: &[String]) -> usize {
    let mut ended = 0;
    for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
        let Some(pid) = entry
            .file_name()
            .to_str()
            .and_then(|name| name.parse::<i32>().ok())
        else {
            continue;
        };
        let marked = std::fs::read(Path::new("/proc").join(pid.to_string()).join("environ"))
            .is_ok_and(|environ| {
                environ.split(|byte| *byte == 0).any(|pair| {
                    let value = pair
                        .strip_prefix(MARKER.as_bytes())
                        .and_then(|rest| rest.strip_prefix(b"="));
                    value.is_some_and(|value| {
                        attempts.iter().any(|attempt| attempt.as_bytes() == value)
                    })
                })
            });
        if marked {
            // That it ended meanwhile is as good.
            let _ = kill(Pid::from_raw(pid), Signal::SIGKILL);
            ended += 1;
        }
    }
    ended
}
