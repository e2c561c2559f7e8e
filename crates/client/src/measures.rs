//! What is measured: the status, trends, waits and the history.

use crate::filters::TrendFilter;
use crate::{Client, Result};
use pennine_core::time::Moment;
use pennine_wire::{ImportSummary, LongestWait, Page, Skyline, Status, Trends, WeekPattern};
use reqwest::Method;
use std::time::Duration;

/// How long a whole history may take, one way or the other.
const LARGE: Duration = Duration::from_secs(600);

impl Client {
    /// Figures of a window.
    pub async fn trends(&self, of: &TrendFilter) -> Result<Trends> {
        let request = self.link.request(Method::GET, "/api/v1/trends");
        self.link.json(request.query(of)).await
    }

    /// The hours of the week over a window.
    pub async fn week(&self, of: &TrendFilter) -> Result<WeekPattern> {
        let request = self.link.request(Method::GET, "/api/v1/trends/week");
        self.link.json(request.query(of)).await
    }

    /// The longest waits of a window.
    pub async fn waits(&self, of: &TrendFilter) -> Result<Page<LongestWait>> {
        let request = self.link.request(Method::GET, "/api/v1/trends/waits");
        self.link.json(request.query(of)).await
    }

    /// Jobs that are over, as CSV, piece by piece.
    pub async fn export_history(&self, from: Moment, until: Moment) -> Result<reqwest::Response> {
        let request = self.link.request(Method::GET, "/api/v1/history");
        let query = [("from", from), ("until", until)];
        self.link.send(request.query(&query).timeout(LARGE)).await
    }

    /// Imports jobs that are over, from CSV: all of them, or none.
    pub async fn import_history(&self, csv: Vec<u8>) -> Result<ImportSummary> {
        let request = self.link.request(Method::POST, "/api/v1/history");
        let request = request.header("content-type", "text/csv").body(csv);
        self.link.json(request.timeout(LARGE)).await
    }

    /// How things stand.
    pub async fn status(&self) -> Result<Status> {
        self.get("/status").await
    }

    /// The last hour.
    pub async fn skyline(&self) -> Result<Skyline> {
        self.get("/skyline").await
    }
}
