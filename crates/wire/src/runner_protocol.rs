//! The messages between runners and the service, under `/runner/v1`. See docs/protocol.md.

use pennine_core::fact::Facts;
use pennine_core::finding::Finding;
use pennine_core::id::{AttemptId, LeaseToken, RunnerId, SessionId};
use pennine_core::identity::SigningAlgorithm;
use pennine_core::job_policy::JobPolicy;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_core::phase::Phases;
use pennine_core::secret::{SecretText, SecretUses};
use pennine_core::size::ByteSize;
use pennine_core::source::JobSource;
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The protocol number of this code. The service supports this one and the previous one.
pub const PROTOCOL: u32 = 1;
/// The oldest protocol number that the service supports.
pub const OLDEST_PROTOCOL: u32 = 1;

/// A request to join.
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

/// The answer to a request to join.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Enrolled {
    pub runner: RunnerId,
    /// The runner's short name.
    pub short: String,
    pub name: String,
    pub pool: String,
    /// The runner's credential. Sent only once.
    pub credential: String,
    /// The installation's id, by which the runner recognises it later.
    pub installation: uuid::Uuid,
    pub installation_name: String,
    /// Whether it leaves permanently after its first job.
    #[serde(default)]
    pub single_use: bool,
    /// What the jobs of its pool may reach and use.
    #[serde(default)]
    pub policy: JobPolicy,
}

/// The one outstanding request of a runner.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Poll {
    pub protocol: u32,
    /// The session: one life of the runner's process.
    pub session: SessionId,
    /// The sequence number of the poll within the session.
    pub sequence: u64,
    /// Free slots.
    pub free: u32,
    /// The attempts that the runner holds. Naming one acknowledges it and renews its lease.
    #[serde(default)]
    pub held: Vec<HeldAttempt>,
    /// The runner's report of its machine, with the first poll of a session and whenever it changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<RunnerReport>,
    /// Answer at once, even with nothing new.
    #[serde(default)]
    pub at_once: bool,
    /// The version of the overrides that the runner has applied; 0 before the first.
    #[serde(default)]
    pub settings_version: u32,
    /// Whether its program is stopping: it finishes its jobs and accepts no new ones.
    #[serde(default)]
    pub leaving: bool,
    /// How many jobs it can hold now, including its present ones, if the runners of its host share a limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub room: Option<u32>,
    /// Why it takes no jobs at present, where it does not: its machine does not give what its pool asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub takes_no_jobs: Option<String>,
}

/// A runner's report of its machine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunnerReport {
    pub facts: Facts,
    pub slots: u32,
    #[serde(default)]
    pub labels: Vec<String>,
    pub version: String,
    /// Failed checks of the machine.
    #[serde(default)]
    pub findings: Vec<Finding>,
}

/// An attempt that a runner holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldAttempt {
    pub attempt: AttemptId,
    pub lease: LeaseToken,
    /// Its progress.
    pub phase: AttemptPhase,
    /// How long ago the command ended, if it has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exited_ago_us: Option<Micros>,
    /// The stop that the runner is carrying out; it is not repeated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stopping: Option<StopCause>,
}

/// The progress of an attempt on its runner.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AttemptPhase {
    /// Preparing the workspace.
    Preparing,
    /// Running the command.
    Executing,
    /// The command has ended; log and result are being delivered.
    Finalizing,
}

/// The answer to a poll. Assignments that the next poll does not acknowledge are repeated.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct PollAnswer {
    /// The sequence number of the poll that it answers.
    pub sequence: u64,
    /// Attempts for this runner that it has not named yet.
    #[serde(default)]
    pub assignments: Vec<Assigned>,
    /// Held attempts to end.
    #[serde(default)]
    pub stop: Vec<Stop>,
    pub settings: Settings,
    /// The runner's overrides, if the poll has another version.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<OwnSettings>,
    /// Whether the runner should renew its credential.
    #[serde(default)]
    pub renew: bool,
    /// What jobs of the runner's pool may reach and use from now on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<JobPolicy>,
}

/// A runner's next credential. The present one stays valid until this one is first used.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NewCredential {
    pub credential: String,
}

/// The overrides of a runner.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct OwnSettings {
    /// Their version, repeated by the runner's next poll.
    pub version: u32,
    /// Its slots.
    pub slots: u32,
    /// Its labels in effect.
    #[serde(default)]
    pub labels: Vec<String>,
    /// Facts that override detected ones.
    #[serde(default)]
    pub facts: Facts,
    /// Environment variables of every job; a job's own variables take precedence.
    #[serde(default)]
    pub variables: BTreeMap<String, String>,
    /// Folders that are searched first for programs.
    #[serde(default)]
    pub paths: Vec<String>,
}

/// From the machine itself: the desired state of its runner.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct NewDesiredStateHere {
    pub desired_state: DesiredState,
}

/// From the machine itself: its runner leaves permanently.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
pub struct LeaveRequest {
    /// End its jobs; they are retried elsewhere.
    #[serde(default)]
    pub force: bool,
    /// A single-use runner has finished its job.
    #[serde(default)]
    pub used_up: bool,
}

/// The settings of all runners.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Settings {
    /// The longest time that the service holds a poll.
    pub park_us: Micros,
    /// The length of a lease after the poll that renewed it.
    pub lease_us: Micros,
    /// The most bytes of log in one request.
    pub log_chunk: ByteSize,
}

/// The most bytes of log in one request before the service has sent its setting.
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

/// An assignment.
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
    /// The labels of the runner's pool.
    #[serde(default)]
    pub pool_labels: Vec<String>,
    pub runner: String,
    #[serde(rename = "where")]
    pub requirement: String,
    pub command: Vec<String>,
    pub variables: BTreeMap<String, String>,
    /// The secrets that it is given, by name: the runner asks for their values when it starts the attempt.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secrets: SecretUses,
    /// Variables of the pool, of the project and of the places above it; the runner's own and the job's take precedence.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub inherited_variables: BTreeMap<String, String>,
    pub time_limit_us: Micros,
    /// The largest size of its log.
    pub log_cap: ByteSize,
    /// Whether it must end before its lease expires, because it holds seats that others get then.
    #[serde(default)]
    pub exclusive: bool,
    /// What it may reach and use.
    #[serde(default)]
    pub policy: JobPolicy,
    /// Whether its code is trusted. A runner that takes several jobs refuses untrusted ones.
    #[serde(default)]
    pub trust: Trust,
    /// The files that it begins with; its workspace is empty otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<JobSource>,
    /// The commands of a job of a job sheet, one after another; they are `command` together. None for other jobs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub commands: Vec<String>,
}

/// What the programs that a runner puts before a job's own commands report, at the job's socket.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PhaseReport {
    /// The files with which the job begins are there.
    SourceReady,
    /// They could not be had.
    SourceFailed { message: String },
    /// A command begins, counted from 1.
    Command { number: u32 },
}

/// Asks for the secrets of an attempt.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct SecretsRequest {
    pub lease: LeaseToken,
}

/// The values of an attempt's secrets, by name.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct AttemptSecrets {
    pub values: BTreeMap<String, SecretText>,
}

/// Asks for an identity token of an attempt.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct IdentityRequest {
    pub lease: LeaseToken,
    /// For whom it is: the verifier's name for itself.
    pub audience: String,
    #[serde(default)]
    pub algorithm: SigningAlgorithm,
}

/// An identity token of an attempt.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct IdentityToken {
    /// A JSON Web Token (RFC 7519).
    pub token: SecretText,
    /// How long it is valid, in microseconds.
    pub expires_in_us: Micros,
}

/// An attempt to end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stop {
    pub attempt: AttemptId,
    pub cause: StopCause,
    /// The reason for people.
    pub message: String,
}

/// Why an attempt is to be ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StopCause {
    /// The job was cancelled: end it and report.
    Cancelled,
    /// The attempt has ended for the service, or never was this runner's: end it; reports about it are refused.
    Over,
}

/// Reports that the command was started: exec has returned.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StartedReport {
    pub session: SessionId,
    pub lease: LeaseToken,
    /// How long ago, by the runner's monotonic clock.
    pub ago_us: Micros,
}

/// Reports that the attempt has ended and its log is complete.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FinishedReport {
    pub session: SessionId,
    pub lease: LeaseToken,
    pub result: Outcome,
    /// The command's exit code, if it exited by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit_code: Option<i32>,
    /// The message, if there is more to say than the exit code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// How long ago the command ended.
    pub exited_ago_us: Micros,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor_us: Option<Micros>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_memory: Option<ByteSize>,
    /// Bytes that came from storage, without what the system had in memory.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes_read: Option<ByteSize>,
    /// Bytes that were sent to storage.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes_written: Option<ByteSize>,
    /// The complete length of the log. The report is refused until that much is durable.
    pub log_bytes: ByteSize,
    /// Whether bytes beyond the cap were omitted.
    #[serde(default)]
    pub log_capped: bool,
    /// How long ago the command was started, for a service that has not received that report.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started_ago_us: Option<Micros>,
    /// When its parts began.
    #[serde(default, skip_serializing_if = "Phases::is_empty")]
    pub phases: Phases,
}

/// Why an attempt has no result.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LossCause {
    /// The runner's program ended and was restarted.
    #[default]
    Restarted,
    /// The runner was disconnected for so long that it ended an attempt that must not overlap with a retry.
    CutOff,
    /// It was not started: the shared limit of the host's runners was reached.
    HostFull,
    /// It was not started: the machine cannot isolate jobs as their pool asks.
    NotIsolated,
}

/// Reports that the attempt has ended without a result.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct LostReport {
    #[serde(default)]
    pub cause: LossCause,
    pub session: SessionId,
    pub lease: LeaseToken,
    /// The complete length of the log. The report is refused until that much is durable.
    pub log_bytes: ByteSize,
}

/// The durable length of a log: the offset of the next bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LogAcknowledgement {
    pub next_offset: u64,
}

/// Ends a session.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SessionEnd {
    pub session: SessionId,
}

/// The runner's program for one platform, as the service provides it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Program {
    /// The operating system and the architecture: `linux-x86-64`.
    pub platform: String,
    /// In hexadecimal.
    pub sha256: String,
    pub bytes: ByteSize,
}

/// The answer to `hello`, which needs no credential.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ServiceInfo {
    /// Always `pennine`, to detect a wrong address.
    pub service: String,
    pub version: String,
    pub protocol: u32,
    pub oldest_protocol: u32,
    pub now: Moment,
}
