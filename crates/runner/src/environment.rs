//! What an attempt needs of its runner.

use crate::home::Home;
use crate::share::HostLimit;
use crate::system::clock::BootMark;
use crate::system::keeper::KeeperLauncher;
use pennine_client::RunnerClient;
use pennine_core::fact::Facts;
use pennine_core::finding::Finding;
use pennine_core::id::SessionId;
use pennine_core::size::ByteSize;
use pennine_wire::runner_protocol::OwnSettings;
use std::cell::{Cell, RefCell};
use std::time::Duration;

/// The folders in which programs are looked for.
const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// What an attempt needs of its runner.
pub struct RunnerEnvironment {
    pub home: Home,
    pub client: RunnerClient,
    pub session: SessionId,
    pub keepers: KeeperLauncher,
    /// What the machine is, as found last.
    pub facts: RefCell<Facts>,
    /// What was not as it should be on it then.
    pub findings: RefCell<Vec<Finding>>,
    /// What it keeps to: what it was joined with, or what people set since.
    pub own: RefCell<OwnSettings>,
    pub host: String,
    pub user: String,
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
