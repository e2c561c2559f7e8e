//! What an attempt needs of its runner.

use crate::abilities::Abilities;
use crate::home::Home;
use crate::share::HostLimit;
use crate::system::clock::BootMark;
use crate::system::keeper::KeeperLauncher;
use pennine_client::RunnerClient;
use pennine_core::fact::Facts;
use pennine_core::finding::Finding;
use pennine_core::id::SessionId;
use pennine_core::job_policy::{IsolationLevel, JobPolicy};
use pennine_core::size::ByteSize;
use pennine_wire::runner_protocol::OwnSettings;
use std::cell::{Cell, RefCell};
use std::time::Duration;
use tokio::sync::Notify;

/// The folders in which programs are looked for.
const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// What an attempt needs of its runner.
pub struct RunnerEnvironment {
    pub home: Home,
    pub client: RunnerClient,
    pub session: SessionId,
    pub keepers: KeeperLauncher,
    /// What this machine can give its jobs.
    pub abilities: Abilities,
    /// A level at which a job could not be kept although it should have been possible, and why; until the machine is
    /// looked at again.
    pub failed_level: RefCell<Option<(IsolationLevel, String)>>,
    /// The machine is to be looked at again.
    pub recheck: Notify,
    /// The pool's policy for its jobs, as the service sent it last.
    pub policy: Cell<JobPolicy>,
    /// What the machine is, as found last.
    pub facts: RefCell<Facts>,
    /// What was not as it should be on it then.
    pub findings: RefCell<Vec<Finding>>,
    /// What it keeps to: what it was joined with, or what people set since.
    pub own: RefCell<OwnSettings>,
    pub host: String,
    pub user: String,
    /// Whether its first job is its last.
    pub single_use: bool,
    /// The limit that it shares with the other runners of its host.
    pub limit: Option<HostLimit>,
    /// When the poll was sent that renewed its leases last.
    pub renewed: RefCell<BootMark>,
    /// How long a lease lasts after that.
    pub lease: Cell<Duration>,
    /// The most that one request of log may carry.
    pub log_chunk: Cell<ByteSize>,
}

impl RunnerEnvironment {
    /// Whether jobs can be kept at a level.
    ///
    /// Errors: why not, for people.
    pub fn gives(&self, level: IsolationLevel) -> Result<(), String> {
        match &*self.failed_level.borrow() {
            Some((failed, why)) if *failed == level => Err(why.clone()),
            _ => self.abilities.gives(level),
        }
    }

    /// Notes that a job could not be kept at a level.
    pub fn note_failure(&self, level: IsolationLevel, why: &str) {
        self.failed_level.replace(Some((level, why.to_owned())));
        self.recheck.notify_one();
    }

    /// How many jobs it takes at once.
    pub fn slots(&self) -> usize {
        self.own.borrow().slots as usize
    }

    /// Where programs are looked for.
    pub fn path(&self) -> String {
        let usual = usual_path();
        let own = self.own.borrow();
        let first = own.paths.iter().map(String::as_str);
        first.chain([usual.as_str()]).collect::<Vec<_>>().join(":")
    }
}

/// The default search path of programs.
pub fn usual_path() -> String {
    std::env::var("PATH").unwrap_or_else(|_| PATH.to_owned())
}

/// Before so much of its lease is left, a job that must not overlap with another try is ended.
const MARGIN: Duration = Duration::from_secs(5);

impl RunnerEnvironment {
    /// How long it has not been heard by the service, if that is so long that leases are about to end.
    pub fn cut_off(&self) -> Option<Duration> {
        let silence = self.renewed.borrow().ago();
        (silence + MARGIN > self.lease.get()).then_some(silence)
    }
}
