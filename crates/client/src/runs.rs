//! Runs of job sheets.

use crate::{Client, Result, RunListFilter, segment};
use pennine_wire::{NewRun, Page, Run, RunLine, RunRetry, TakenRun, UploadedSource};
use reqwest::Method;
use reqwest::header::{CONTENT_LENGTH, CONTENT_TYPE};
use std::time::Duration;

/// How long the upload of files may take.
const LARGE: Duration = Duration::from_secs(3600);

impl Client {
    /// Submits the jobs of a sheet.
    pub async fn submit_run(&self, new: &NewRun) -> Result<TakenRun> {
        self.post("/runs", new).await
    }

    /// Uploads an archive of files for runs of a project: a tar file, compressed with gzip.
    pub async fn upload_source(
        &self,
        project: &str,
        archive: impl Into<reqwest::Body>,
        bytes: u64,
    ) -> Result<UploadedSource> {
        let request = self.link.request(Method::POST, "/api/v1/sources");
        let request = request
            .query(&[("project", project)])
            .header(CONTENT_TYPE, "application/octet-stream")
            .header(CONTENT_LENGTH, bytes)
            .timeout(LARGE)
            .body(archive);
        self.link.json(request).await
    }

    /// Runs, newest first: one page.
    pub async fn runs(&self, filter: &RunListFilter) -> Result<Page<RunLine>> {
        let request = self.link.request(Method::GET, "/api/v1/runs");
        self.link.json(request.query(filter)).await
    }

    /// A run with its jobs.
    pub async fn run(&self, name: &str) -> Result<Run> {
        self.get(&format!("/runs/{}", segment(name))).await
    }

    /// Cancels every job of a run that is not done.
    pub async fn cancel_run(&self, name: &str) -> Result<Run> {
        let path = format!("/runs/{}/cancel", segment(name));
        self.post(&path, &serde_json::json!({})).await
    }

    /// Tries jobs of a run again.
    pub async fn retry_run(&self, name: &str, retry: &RunRetry) -> Result<Run> {
        self.post(&format!("/runs/{}/retry", segment(name)), retry)
            .await
    }

    /// Releases a job that waits for a person.
    pub async fn release_job(&self, job: &str) -> Result<Run> {
        let path = format!("/jobs/{}/release", segment(job));
        self.post(&path, &serde_json::json!({})).await
    }
}
