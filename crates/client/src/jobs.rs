//! Jobs: submitting, following and comparing them, the queue, and actions on many.

use crate::filters::{JobListFilter, QueueFilter};
use crate::{Client, Result, header, segment};
use bytes::Bytes;
use pennine_core::time::Micros;
use pennine_wire::{
    BulkAction, BulkProgress, BulkResult, Comparison, Job, JobLine, JobSizing, LOG_ATTEMPT,
    LOG_COMPLETE, LogLines, NEXT_OFFSET, NewJob, NewTrial, Page, Queue, TakenJob, Trial,
    WaitExplanation,
};
use reqwest::Method;

/// A stretch of a log.
#[derive(Clone, Debug)]
pub struct LogPart {
    pub bytes: Bytes,
    /// The offset at which the next stretch begins.
    pub next: u64,
    /// The number of the attempt whose log it is; none while there is no attempt.
    pub attempt: Option<u32>,
    /// Whether nothing more will come.
    pub complete: bool,
}

impl Client {
    /// Tries a requirement against the yard.
    pub async fn try_requirement(&self, new: &NewTrial) -> Result<Trial> {
        self.post("/where", new).await
    }

    /// Does something to many jobs.
    pub async fn act_on_jobs(&self, action: &BulkAction) -> Result<BulkResult> {
        self.post("/jobs/actions", action).await
    }

    /// The latest actions on many jobs that were carried out in the background.
    pub async fn job_actions(&self) -> Result<Page<BulkProgress>> {
        self.get("/jobs/actions").await
    }

    /// How far an action on many jobs is.
    pub async fn job_action(&self, name: &str) -> Result<BulkProgress> {
        self.get(&format!("/jobs/actions/{}", segment(name))).await
    }

    /// Stops an action on many jobs.
    pub async fn stop_job_action(&self, name: &str) -> Result<BulkProgress> {
        let path = format!("/jobs/actions/{}/stop", segment(name));
        self.post(&path, &serde_json::json!({})).await
    }

    /// The waiting jobs by reason.
    pub async fn queue(&self, filter: &QueueFilter) -> Result<Queue> {
        let request = self.link.request(Method::GET, "/api/v1/queue");
        self.link.json(request.query(filter)).await
    }

    /// Submits a job. With a key, sending it again makes no second one.
    pub async fn submit(&self, new: &NewJob, key: Option<&str>) -> Result<TakenJob> {
        let mut request = self.link.request(Method::POST, "/api/v1/jobs").json(new);
        if let Some(key) = key {
            request = request.header("idempotency-key", format!("\"{key}\""));
        }
        self.link.json(request).await
    }

    /// Jobs, newest first.
    pub async fn jobs(
        &self,
        filter: &JobListFilter,
        after: Option<&str>,
        limit: u32,
    ) -> Result<Page<JobLine>> {
        let limit = limit.to_string();
        let mut query = vec![("limit", limit.as_str())];
        query.extend(after.map(|after| ("after", after)));
        let request = self.link.request(Method::GET, "/api/v1/jobs");
        self.link.json(request.query(filter).query(&query)).await
    }

    /// One job.
    pub async fn job(&self, name: &str) -> Result<Job> {
        self.get(&format!("/jobs/{}", segment(name))).await
    }

    /// Compares a job that is done with another, or with the median of earlier ones like it.
    pub async fn compare_job(&self, name: &str, with: Option<&str>) -> Result<Comparison> {
        let path = format!("/api/v1/jobs/{}/comparison", segment(name));
        let request = self.link.request(Method::GET, &path);
        let query: Vec<(&str, &str)> = with.map(|with| ("with", with)).into_iter().collect();
        self.link.json(request.query(&query)).await
    }

    /// What the last attempts of a job and of earlier ones like it used, and what follows for its machine.
    pub async fn size_job(&self, name: &str) -> Result<JobSizing> {
        self.get(&format!("/jobs/{}/sizing", segment(name))).await
    }

    /// Cancels a job.
    pub async fn cancel(&self, name: &str) -> Result<Job> {
        self.post(&format!("/jobs/{}/cancel", segment(name)), &())
            .await
    }

    /// Why a job waits.
    pub async fn why(&self, name: &str) -> Result<WaitExplanation> {
        self.get(&format!("/jobs/{}/why", segment(name))).await
    }

    /// A job's log from an offset on; waits that long for something new.
    pub async fn log(
        &self,
        name: &str,
        attempt: Option<u32>,
        from: u64,
        wait: Micros,
    ) -> Result<LogPart> {
        let mut query = vec![("from", from.to_string()), ("wait_us", wait.0.to_string())];
        query.extend(attempt.map(|attempt| ("attempt", attempt.to_string())));
        let path = format!("/api/v1/jobs/{}/log", segment(name));
        let response = self
            .link
            .send(self.link.request(Method::GET, &path).query(&query))
            .await?;
        let next = header(&response, NEXT_OFFSET).and_then(|next| next.parse().ok());
        let next = next.ok_or_else(|| {
            self.link
                .strange(format!("the header {NEXT_OFFSET} is missing"))
        })?;
        let attempt = header(&response, LOG_ATTEMPT).and_then(|attempt| attempt.parse().ok());
        let complete = header(&response, LOG_COMPLETE) == Some("true");
        let bytes = response
            .bytes()
            .await
            .map_err(|e| self.link.no_connection(&e))?;
        Ok(LogPart {
            bytes,
            next,
            attempt,
            complete,
        })
    }

    /// A job's log by lines.
    pub async fn log_lines(&self, name: &str, from: u64, count: u32) -> Result<LogLines> {
        let path = format!("/api/v1/jobs/{}/log/lines", segment(name));
        let query = [("from", from.to_string()), ("count", count.to_string())];
        self.link
            .json(self.link.request(Method::GET, &path).query(&query))
            .await
    }
}
