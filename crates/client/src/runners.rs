//! Runners, their tickets and their maintenance.

use crate::filters::RunnerFilter;
use crate::{Client, Result, segment};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_wire::{
    ChangedRunner, Checkup, MadeTicket, Maintenance, NewMaintenance, NewTicket, NextJob, Page,
    Retirement, Runner, RunnerChange, RunnerTime, TakeRunnerBack, Ticket,
};
use reqwest::Method;

impl Client {
    /// Says what a runner is wanted to do.
    pub async fn set_desired_state(
        &self,
        name: &str,
        desired_state: DesiredState,
    ) -> Result<Runner> {
        let body = serde_json::json!({"desired_state": desired_state});
        self.send(
            Method::PUT,
            &format!("/runners/{}/desired-state", segment(name)),
            &body,
        )
        .await
    }

    /// Changes a runner.
    pub async fn change_runner(&self, name: &str, change: &RunnerChange) -> Result<ChangedRunner> {
        let path = format!("/runners/{}", segment(name));
        self.send(Method::PATCH, &path, change).await
    }

    /// Retires a runner.
    pub async fn retire_runner(&self, name: &str, how: &Retirement) -> Result<ChangedRunner> {
        let path = format!("/runners/{}/retire", segment(name));
        self.send(Method::POST, &path, how).await
    }

    /// Makes a ticket for a pool.
    pub async fn add_ticket(&self, pool: &str, new: &NewTicket) -> Result<MadeTicket> {
        self.post(&format!("/pools/{}/tickets", segment(pool)), new)
            .await
    }

    /// Makes a ticket worth nothing.
    pub async fn revoke_ticket(&self, name: &str) -> Result<Ticket> {
        let path = format!("/tickets/{}/revoke", segment(name));
        self.post(&path, &serde_json::json!({})).await
    }

    /// The tickets.
    pub async fn tickets(&self) -> Result<Page<Ticket>> {
        self.get("/tickets").await
    }

    /// The runners.
    pub async fn runners(&self, filter: &RunnerFilter) -> Result<Page<Runner>> {
        let request = self.link.request(Method::GET, "/api/v1/runners");
        self.link.json(request.query(filter)).await
    }

    /// What the service can tell of a runner that does not do what it should.
    pub async fn check_runner(&self, name: &str) -> Result<Checkup> {
        self.get(&format!("/runners/{}/doctor", segment(name)))
            .await
    }

    /// The jobs that would be next on a runner.
    pub async fn next_on(&self, name: &str) -> Result<Page<NextJob>> {
        self.get(&format!("/runners/{}/next", segment(name))).await
    }

    /// Recent activity of some runners.
    pub async fn runner_time(&self, names: &[&str], hours: u32) -> Result<Page<RunnerTime>> {
        let request = self.link.request(Method::GET, "/api/v1/runner-time");
        let query = [("runners", names.join(",")), ("hours", hours.to_string())];
        self.link.json(request.query(&query)).await
    }

    /// Takes a runner back from the jobs that have it.
    pub async fn take_runner_back(
        &self,
        name: &str,
        back: &TakeRunnerBack,
    ) -> Result<ChangedRunner> {
        self.post(&format!("/runners/{}/take-back", segment(name)), back)
            .await
    }

    /// Maintenance that is on or to come.
    pub async fn maintenance(&self) -> Result<Page<Maintenance>> {
        self.get("/maintenance").await
    }

    /// Plans maintenance.
    pub async fn add_maintenance(&self, new: &NewMaintenance) -> Result<Maintenance> {
        self.post("/maintenance", new).await
    }

    /// Ends or cancels maintenance.
    pub async fn end_maintenance(&self, name: &str) -> Result<()> {
        let path = format!("/api/v1/maintenance/{}/end", segment(name));
        self.link
            .send(self.link.request(Method::POST, &path))
            .await?;
        Ok(())
    }

    /// One runner.
    pub async fn runner(&self, name: &str) -> Result<Runner> {
        self.get(&format!("/runners/{}", segment(name))).await
    }
}
