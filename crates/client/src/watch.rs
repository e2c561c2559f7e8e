//! Targets, alerts, listeners and the yard file.

use crate::client::Client;
use crate::{Result, segment};
use pennine_wire::{
    Alert, AlertThresholds, AppliedYardFile, Listener, ListenerChange, MadeListener, NewListener,
    NewTarget, Page, Target, TargetChange, ThresholdsChange, TriedListener, YardFile,
};
use reqwest::Method;

impl Client {
    /// Returns the targets with their standings.
    pub async fn targets(&self) -> Result<Page<Target>> {
        self.get("/targets").await
    }

    /// Adds a target.
    pub async fn add_target(&self, new: &NewTarget) -> Result<Target> {
        self.post("/targets", new).await
    }

    /// Changes a target.
    pub async fn change_target(&self, name: &str, change: &TargetChange) -> Result<Target> {
        let path = format!("/targets/{}", segment(name));
        self.send(Method::PATCH, &path, change).await
    }

    /// Removes a target.
    pub async fn remove_target(&self, name: &str) -> Result<()> {
        self.delete(&format!("/targets/{}", segment(name))).await
    }

    /// Returns the yard file that was applied last.
    pub async fn yard_file(&self) -> Result<Option<YardFile>> {
        self.get("/yard-file").await
    }

    /// Records that a yard file was applied.
    pub async fn note_yard_file(&self, applied: &AppliedYardFile) -> Result<YardFile> {
        self.send(Method::PUT, "/yard-file", applied).await
    }

    /// Forgets the yard file.
    pub async fn forget_yard_file(&self) -> Result<()> {
        self.delete("/yard-file").await
    }

    /// Returns the open alerts; with `all`, past ones as well.
    pub async fn alerts(&self, all: bool) -> Result<Page<Alert>> {
        self.get(if all { "/alerts?all=true" } else { "/alerts" })
            .await
    }

    /// Acknowledges an alert.
    pub async fn acknowledge_alert(&self, name: &str) -> Result<Alert> {
        self.post(&format!("/alerts/{}/acknowledge", segment(name)), &())
            .await
    }

    /// Returns the thresholds of alerts.
    pub async fn thresholds(&self) -> Result<AlertThresholds> {
        self.get("/alerts/thresholds").await
    }

    /// Changes the thresholds of alerts.
    pub async fn change_thresholds(&self, change: &ThresholdsChange) -> Result<AlertThresholds> {
        self.send(Method::PATCH, "/alerts/thresholds", change).await
    }

    /// Returns the listeners.
    pub async fn listeners(&self) -> Result<Page<Listener>> {
        self.get("/listeners").await
    }

    /// Adds a listener. Its secret is shown this once.
    pub async fn add_listener(&self, new: &NewListener) -> Result<MadeListener> {
        self.post("/listeners", new).await
    }

    /// Changes a listener.
    pub async fn change_listener(&self, name: &str, change: &ListenerChange) -> Result<Listener> {
        let path = format!("/listeners/{}", segment(name));
        self.send(Method::PATCH, &path, change).await
    }

    /// Removes a listener.
    pub async fn remove_listener(&self, name: &str) -> Result<()> {
        self.delete(&format!("/listeners/{}", segment(name))).await
    }

    /// Renews a listener's secret; events are signed with the previous one as well for a day.
    pub async fn renew_listener(&self, name: &str) -> Result<MadeListener> {
        self.post(&format!("/listeners/{}/renew", segment(name)), &())
            .await
    }

    /// Sends a listener a test event.
    pub async fn try_listener(&self, name: &str) -> Result<TriedListener> {
        self.post(&format!("/listeners/{}/try", segment(name)), &())
            .await
    }
}
