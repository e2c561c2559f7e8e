//! What a runner says and asks, with its credential.

use crate::{Link, Result, Route};
use bytes::Bytes;
use futures::{Stream, TryStreamExt};
use pennine_core::id::{AttemptId, LeaseToken, SessionId};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_wire::runner_protocol::{
    AttemptSecrets, Enrol, Enrolled, FinishedReport, IdentityRequest, IdentityToken, LeaveRequest,
    LogAcknowledgement, LostReport, NewCredential, NewDesiredStateHere, Poll, PollAnswer,
    SecretsRequest, ServiceInfo, SessionEnd, StartedReport,
};
use pennine_wire::{ChangedRunner, Runner};
use reqwest::Method;
use serde::Serialize;
use std::time::Duration;

/// How long an archive of files may take.
const LARGE: Duration = Duration::from_secs(3600);

/// A runner's side of the protocol.
pub struct RunnerClient(Link);

impl RunnerClient {
    /// A client with a runner's credential; with an empty one for a machine that has not joined yet.
    pub fn new(url: &str, credential: &str, route: &Route) -> Result<RunnerClient> {
        Link::new(url, credential, route).map(RunnerClient)
    }

    async fn report(&self, path: &str, body: &impl Serialize) -> Result<()> {
        self.0
            .send(
                self.0
                    .request(Method::POST, &format!("/runner/v1{path}"))
                    .json(body),
            )
            .await?;
        Ok(())
    }

    /// Asks who is there.
    pub async fn hello(&self) -> Result<ServiceInfo> {
        let hello: ServiceInfo = self
            .0
            .json(self.0.request(Method::GET, "/runner/v1/hello"))
            .await?;
        if hello.service != "pennine" {
            return Err(self
                .0
                .strange(format!("it calls itself {:?}", hello.service)));
        }
        Ok(hello)
    }

    /// Joins with a ticket.
    pub async fn enrol(&self, enrol: &Enrol) -> Result<Enrolled> {
        self.0
            .json(self.0.request(Method::POST, "/runner/v1/enrol").json(enrol))
            .await
    }

    /// How the service sees this runner.
    pub async fn me(&self) -> Result<Runner> {
        let request = self.0.request(Method::GET, "/runner/v1/me");
        self.0.json(request).await
    }

    /// Says what is wanted of this runner.
    pub async fn set_desired_state(&self, desired_state: DesiredState) -> Result<Runner> {
        let request = self.0.request(Method::PUT, "/runner/v1/desired-state");
        self.0
            .json(request.json(&NewDesiredStateHere { desired_state }))
            .await
    }

    /// Retires this runner.
    pub async fn leave(&self, leave: LeaveRequest) -> Result<ChangedRunner> {
        let request = self.0.request(Method::POST, "/runner/v1/leave");
        self.0.json(request.json(&leave)).await
    }

    /// Polls.
    pub async fn poll(&self, poll: &Poll) -> Result<PollAnswer> {
        self.0
            .json(self.0.request(Method::POST, "/runner/v1/poll").json(poll))
            .await
    }

    /// Reports that a command was started.
    pub async fn started(&self, attempt: AttemptId, started: &StartedReport) -> Result<()> {
        self.report(&format!("/attempts/{attempt}/started"), started)
            .await
    }

    /// Asks for the values of an attempt's secrets.
    pub async fn secrets(
        &self,
        attempt: AttemptId,
        asked: &SecretsRequest,
    ) -> Result<AttemptSecrets> {
        let path = format!("/runner/v1/attempts/{attempt}/secrets");
        self.0
            .json(self.0.request(Method::POST, &path).json(asked))
            .await
    }

    /// Asks for an identity token of an attempt.
    pub async fn identity(
        &self,
        attempt: AttemptId,
        asked: &IdentityRequest,
    ) -> Result<IdentityToken> {
        let path = format!("/runner/v1/attempts/{attempt}/identity");
        self.0
            .json(self.0.request(Method::POST, &path).json(asked))
            .await
    }

    /// Returns the archive of files with which the job of an attempt begins, as it comes.
    pub async fn source(
        &self,
        attempt: AttemptId,
        lease: LeaseToken,
    ) -> Result<impl Stream<Item = std::io::Result<Bytes>> + use<>> {
        let path = format!("/runner/v1/attempts/{attempt}/source");
        let request = self.0.request(Method::GET, &path).timeout(LARGE);
        let answer = self
            .0
            .send(request.header("pennine-lease", lease.to_string()))
            .await?;
        Ok(answer.bytes_stream().map_err(std::io::Error::other))
    }

    /// Reports that an attempt has ended.
    pub async fn finished(&self, attempt: AttemptId, finished: &FinishedReport) -> Result<()> {
        self.report(&format!("/attempts/{attempt}/finished"), finished)
            .await
    }

    /// Reports that an attempt ended with the program that ran it.
    pub async fn lost(&self, attempt: AttemptId, lost: &LostReport) -> Result<()> {
        self.report(&format!("/attempts/{attempt}/lost"), lost)
            .await
    }

    /// Asks for another credential. It is shown from [`RunnerClient::show`] on.
    pub async fn renew(&self) -> Result<NewCredential> {
        let request = self.0.request(Method::POST, "/runner/v1/credential");
        self.0.json(request).await
    }

    /// Shows this credential from now on.
    pub fn show(&self, credential: &str) {
        self.0.show(credential);
    }

    /// Sends log bytes. Returns the offset of the next ones.
    pub async fn log(
        &self,
        attempt: AttemptId,
        lease: LeaseToken,
        offset: u64,
        bytes: Bytes,
    ) -> Result<u64> {
        let request = self
            .0
            .request(Method::POST, &format!("/runner/v1/attempts/{attempt}/log"))
            .query(&[("offset", offset)])
            .header("pennine-lease", lease.to_string())
            .header("content-type", "application/octet-stream")
            .body(bytes);
        let taken: LogAcknowledgement = self.0.json(request).await?;
        Ok(taken.next_offset)
    }

    /// Says that this process ends.
    pub async fn goodbye(&self, session: SessionId) -> Result<()> {
        self.report("/goodbye", &SessionEnd { session }).await
    }
}
