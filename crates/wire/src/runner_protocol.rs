//! What runners and the service say to each other, under `/runner/v1`. See docs/protocol.md.

use pennine_core::fact::Facts;
use pennine_core::finding::Finding;
use pennine_core::id::{AttemptId, LeaseToken, RunnerId, SessionId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The number of the protocol that this code speaks. The service takes this one and the one before.
pub const PROTOCOL: u32 = 1;
/// The oldest protocol number that the service still takes.
pub const OLDEST_PROTOCOL: u32 = 1;

/// A machine joins.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Enrol {
    pub protocol: u32,
    /// The ticket's secret.
    pub ticket: String,
    pub name: String,
    pub slots: u32,
    #[serde(default)]
    pub labels: Vec<String>,
    pub facts: Facts,
    /// The runner program's version.
    pub version: String,
}

/// The answer to a machine that joins.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Enrolled {
    pub runner: RunnerId,
    /// The runner's short name.
    pub short: String,
    pub name: String,
    pub pool: String,
    /// What the runner shows from now on. Shown this once.
    pub credential: String,
    /// The installation's id, by which the runner knows that it talks to the same one later.
    pub installation: uuid::Uuid,
    pub installation_name: String,
    /// Whether it is to leave for good after its first job.
    #[serde(default)]
    pub single_use: bool,
}

/// The one outstanding request of a runner.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Poll {
    pub protocol: u32,
    /// The runner process's life.
    pub session: SessionId,
    /// Counts up with every poll of the session.
    pub sequence: u64,
    /// Slots that are free.
    pub free: u32,
    /// Attempts that the runner has. Naming one acknowledges it and renews its lease.
    #[serde(default)]
    pub held: Vec<HeldAttempt>,
    /// The runner's facts and such, with the first poll of a session and whenever they change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<RunnerReport>,
    /// Answer at once, whether or not there is something to say.
    #[serde(default)]
    pub at_once: bool,
    /// The number of the runner's own settings that it keeps to; 0 before it knows any.
    #[serde(default)]
    pub settings_version: u32,
    /// Its program is to stop: it finishes what it has and takes nothing new.
    #[serde(default)]
    pub leaving: bool,
    /// How many jobs it could have at once just now, those that it has included, where runners of its host share a limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub room: Option<u32>,
}

/// What a runner is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunnerReport {
    pub facts: Facts,
    pub slots: u32,
    #[serde(default)]
    pub labels: Vec<String>,
    pub version: String,
    /// What is not as it should be on the machine.
    #[serde(default)]
    pub findings: Vec<Finding>,
}

/// An attempt that a runner has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldAttempt {
    pub attempt: AttemptId,
    pub lease: LeaseToken,
    /// How far it is.
    pub phase: AttemptPhase,
    /// How long ago the command ended, where it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exited_ago_us: Option<Micros>,
    /// The stop that the runner was told and acts upon; it is not told again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopping: Option<StopCause>,
}

/// How far an attempt is on its runner.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AttemptPhase {
    /// The workspace is being made.
    Preparing,
    /// The command runs.
    Executing,
    /// The command has ended; log and result are on their way.
    Finalizing,
}

/// The answer to a poll. What is not acknowledged by the next poll is said again.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct PollAnswer {
    /// The sequence number of the poll that it answers.
    pub sequence: u64,
    /// Attempts for this runner that it has not named yet.
    #[serde(default)]
    pub assignments: Vec<Assigned>,
    /// Attempts that the runner has and should end.
    #[serde(default)]
    pub stop: Vec<Stop>,
    pub settings: Settings,
    /// What people set of this runner, when that is another than the poll said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnSettings>,
    /// The runner's credential is old: it is to ask for another.
    #[serde(default)]
    pub renew: bool,
}

/// A runner's next credential. The present one is worth something until this one is used.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewCredential {
    pub credential: String,
}

/// What one runner is to keep to.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct OwnSettings {
    /// The number by which its next poll says that it knows them.
    pub version: u32,
    /// How many jobs it takes at once.
    pub slots: u32,
    /// Its labels, as they count.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Facts that people set over what it finds.
    #[serde(default)]
    pub facts: Facts,
    /// Environment variables of every job; a job's own of the same name win.
    #[serde(default)]
    pub variables: BTreeMap<String, String>,
    /// Folders in which programs are looked for first.
    #[serde(default)]
    pub paths: Vec<String>,
}

/// From the machine itself: what is wanted of its runner.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct NewDesiredStateHere {
    pub desired_state: DesiredState,
}

/// From the machine itself: its runner leaves for good.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
pub struct LeaveRequest {
    /// End the jobs that it has; they are tried again elsewhere.
    #[serde(default)]
    pub force: bool,
    /// It was for one job, and that is done.
    #[serde(default)]
    pub used_up: bool,
}

/// What the service wants every runner to keep to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Settings {
    /// How long the service parks a poll at most.
    pub park_us: Micros,
    /// How long a lease lasts after the poll that renewed it.
    pub lease_us: Micros,
    /// How many bytes one request of log may have.
    pub log_chunk: ByteSize,
}

/// What one request of log may have at a service that has not said it yet.
pub const LOG_CHUNK_AT_FIRST: ByteSize = ByteSize(1 << 20);

impl Default for Settings {
    fn default() -> Self {
        Settings {
            park_us: Micros(8_000_000),
            lease_us: Micros(30_000_000),
            log_chunk: ByteSize(4 << 20),
        }
    }
}

/// An attempt for a runner.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Assigned {
    pub attempt: AttemptId,
    pub lease: LeaseToken,
    /// The attempt's number, 1 for the first.
    pub number: u32,
    /// The job's short name.
    pub job: String,
    pub title: String,
    pub project: String,
    pub pool: String,
    /// The labels that the runner has from its pool.
    #[serde(default)]
    pub pool_labels: Vec<String>,
    pub runner: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub command: Vec<String>,
    pub variables: BTreeMap<String, String>,
    pub time_limit_us: Micros,
    /// The most bytes that its log may have.
    pub log_cap: ByteSize,
    /// Whether it must be over before its lease is: it holds seats, which are given to others then.
    #[serde(default)]
    pub exclusive: bool,
}

/// An attempt that is to end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stop {
    pub attempt: AttemptId,
    pub cause: StopCause,
    /// Why, in words.
    pub message: String,
}

/// Why an attempt is to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StopCause {
    /// A person cancelled the job: end it and report.
    Cancelled,
    /// The attempt is over for the service, or never was this runner's: end it, nothing more is taken from it.
    Over,
}

/// The command was started: exec has returned.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StartedReport {
    pub session: SessionId,
    pub lease: LeaseToken,
    /// How long ago, by the runner's monotonic clock.
    pub ago_us: Micros,
}

/// The attempt is over and its log is complete.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FinishedReport {
    pub session: SessionId,
    pub lease: LeaseToken,
    pub result: Outcome,
    /// The command's exit code, where it exited by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit_code: Option<i32>,
    /// Why, in words, where there is more to say than the exit code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// How long ago the command ended.
    pub exited_ago_us: Micros,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_us: Option<Micros>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_memory: Option<ByteSize>,
    /// The log's whole length. Refused until that much is durable.
    pub log_bytes: ByteSize,
    /// Whether bytes past the cap were left out.
    #[serde(default)]
    pub log_capped: bool,
    /// How long ago the command was started, for a service that never heard of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_ago_us: Option<Micros>,
}

/// Why an attempt has no result.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LossCause {
    /// The program that ran it ended, and has been started again since.
    #[default]
    Restarted,
    /// The runner was cut off for so long that it ended what must not overlap with another try.
    CutOff,
    /// It was never begun: the limit that the runners of the host share was reached meanwhile.
    HostFull,
}

/// The attempt is over and has no result.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct LostReport {
    #[serde(default)]
    pub cause: LossCause,
    pub session: SessionId,
    pub lease: LeaseToken,
    /// The log's whole length. Refused until that much is durable.
    pub log_bytes: ByteSize,
}

/// How much of a log is durable: the offset at which the next bytes belong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LogAcknowledgement {
    pub next_offset: u64,
}

/// A runner's process ends, or a runner leaves.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SessionEnd {
    pub session: SessionId,
}

/// The runner's program for one platform, as the service hands it out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Program {
    /// The system and the processor: `linux-x86-64`.
    pub platform: String,
    /// In hexadecimal.
    pub sha256: String,
    pub bytes: ByteSize,
}

/// What a runner may ask before it has a credential: who is there, and what time it is.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ServiceInfo {
    /// Always `pennine`, so that a wrong address is told apart.
    pub service: String,
    pub version: String,
    pub protocol: u32,
    pub oldest_protocol: u32,
    pub now: Moment,
}
