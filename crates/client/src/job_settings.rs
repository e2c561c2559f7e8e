//! What a place or a pool gives its jobs: variables and secrets.

use crate::{Client, Result};
use pennine_wire::{
    NewSecret, NewVariable, Page, Secret, SecretRemoval, Variable, VariableRemoval,
};
use reqwest::Method;
use serde::de::DeserializeOwned;

impl Client {
    async fn of_project<T: DeserializeOwned>(
        &self,
        path: &str,
        project: Option<&str>,
    ) -> Result<Page<T>> {
        let request = self.link.request(Method::GET, path);
        let asked: Vec<_> = project
            .map(|project| ("project", project))
            .into_iter()
            .collect();
        self.link.json(request.query(&asked)).await
    }

    /// The variables of the visible places and their pools, or the ones that a project's jobs get.
    pub async fn variables(&self, project: Option<&str>) -> Result<Page<Variable>> {
        self.of_project("/api/v1/variables", project).await
    }

    /// Sets a variable of a place or a pool.
    pub async fn set_variable(&self, new: &NewVariable) -> Result<Variable> {
        self.post("/variables", new).await
    }

    /// Removes a variable of a place or a pool.
    pub async fn remove_variable(&self, removal: &VariableRemoval) -> Result<()> {
        let request = self.link.request(Method::POST, "/api/v1/variables/remove");
        self.link.send(request.json(removal)).await.map(drop)
    }

    /// The secrets of the visible places and their pools, without values, or the ones that a project's jobs may name.
    pub async fn secrets(&self, project: Option<&str>) -> Result<Page<Secret>> {
        self.of_project("/api/v1/secrets", project).await
    }

    /// Sets a secret of a place or a pool.
    pub async fn set_secret(&self, new: &NewSecret) -> Result<Secret> {
        self.post("/secrets", new).await
    }

    /// Removes a secret of a place or a pool.
    pub async fn remove_secret(&self, removal: &SecretRemoval) -> Result<()> {
        let request = self.link.request(Method::POST, "/api/v1/secrets/remove");
        self.link.send(request.json(removal)).await.map(drop)
    }
}
