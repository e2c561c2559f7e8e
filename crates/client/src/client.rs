//! The client of people and programs, with a token; what it asks stands by area in the files beside this one.

use crate::{Link, Result, Route};
use reqwest::Method;
use reqwest::header::IF_MATCH;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::sync::Arc;

/// A client with a token. Clones share their connections.
#[derive(Clone)]
pub struct Client {
    pub(crate) link: Arc<Link>,
    /// The version that what is changed has to have.
    expected: Option<String>,
}

impl Client {
    /// A client for the service at this address.
    pub fn new(url: &str, token: &str, route: &Route) -> Result<Client> {
        let link = Arc::new(Link::new(url, token, route)?);
        Ok(Client {
            link,
            expected: None,
        })
    }

    /// The service's address; the one that answered last, where several are known.
    pub fn url(&self) -> &str {
        self.link.url()
    }

    /// The same client, whose changes are refused where the settings that they change have another version by now than this
    /// one: the `settings_version` of what was read. No version, no condition.
    pub fn if_version(&self, version: Option<&str>) -> Client {
        Client {
            link: self.link.clone(),
            expected: version.map(str::to_owned),
        }
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.link
            .json(self.link.request(Method::GET, &format!("/api/v1{path}")))
            .await
    }

    pub(crate) async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        self.link
            .json(
                self.link
                    .request(Method::POST, &format!("/api/v1{path}"))
                    .json(body),
            )
            .await
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<()> {
        let request = self.link.request(Method::DELETE, &format!("/api/v1{path}"));
        self.link.send(request).await.map(drop)
    }

    pub(crate) async fn send<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        let mut request = self.link.request(method, &format!("/api/v1{path}"));
        if let Some(version) = &self.expected {
            request = request.header(IF_MATCH, format!("\"{version}\""));
        }
        self.link.json(request.json(body)).await
    }
}
