//! Points in time that outlive the program.

use nix::time::{ClockId, clock_gettime};
use serde::{Deserialize, Serialize};
use std::sync::OnceLock;
use std::time::{Duration, Instant, SystemTime};

/// A point in time that another life of this program can read: by the clock that goes on while the machine sleeps, where
/// that is still the same boot, and by the calendar otherwise.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BootMark {
    boot: String,
    since_boot: Duration,
    calendar: SystemTime,
}

/// The machine's boot.
fn boot() -> &'static str {
    static BOOT: OnceLock<String> = OnceLock::new();
    BOOT.get_or_init(|| {
        let id = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
        id.trim().to_owned()
    })
}

fn since_boot() -> Duration {
    clock_gettime(ClockId::CLOCK_BOOTTIME).map_or(Duration::ZERO, Duration::from)
}

impl BootMark {
    /// This moment.
    pub fn now() -> BootMark {
        BootMark {
            boot: boot().to_owned(),
            since_boot: since_boot(),
            calendar: SystemTime::now(),
        }
    }

    /// The moment of an instant of this life.
    pub fn of(at: Instant) -> BootMark {
        let (now, ago) = (BootMark::now(), at.elapsed());
        BootMark {
            since_boot: now.since_boot.saturating_sub(ago),
            calendar: now.calendar.checked_sub(ago).unwrap_or(now.calendar),
            ..now
        }
    }

    /// How long ago it was; nothing when the calendar was set back since.
    pub fn ago(&self) -> Duration {
        if self.boot == boot() {
            since_boot().saturating_sub(self.since_boot)
        } else {
            self.calendar.elapsed().unwrap_or_default()
        }
    }

    /// It as an instant of this life; now, where there is none so early.
    pub fn instant(&self) -> Instant {
        let now = Instant::now();
        now.checked_sub(self.ago()).unwrap_or(now)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_of_this_boot_does_not_go_by_the_calendar() {
        let mut mark = BootMark::now();
        mark.calendar += Duration::from_secs(7200);
        assert!(mark.ago() < Duration::from_secs(60));
        mark.since_boot = mark.since_boot.saturating_sub(Duration::from_secs(5));
        assert!(mark.ago() >= Duration::from_secs(5));
    }

    #[test]
    fn a_mark_of_another_boot_goes_by_the_calendar() {
        let mut mark = BootMark::now();
        mark.boot = "another".into();
        mark.calendar -= Duration::from_secs(300);
        assert!(mark.ago() >= Duration::from_secs(300));
        mark.calendar += Duration::from_secs(9000);
        assert_eq!(mark.ago(), Duration::ZERO, "the calendar was set back");
    }
}
