//! Tokens.

use crate::{Client, Result, segment};
use pennine_wire::{MadeToken, NewToken, Page, Token, TokenChange, TokenRotation};
use reqwest::Method;

impl Client {
    /// The tokens that may be seen and contain a text, by name, revoked ones last: all pages.
    pub async fn tokens(&self, search: Option<&str>) -> Result<Page<Token>> {
        let mut items = Vec::new();
        let mut after: Option<String> = None;
        loop {
            let asked: Vec<_> = (search.map(|text| ("search", text)).into_iter())
                .chain(after.as_deref().map(|after| ("after", after)))
                .collect();
            let request = self.link.request(Method::GET, "/api/v1/tokens");
            let page: Page<Token> = self.link.json(request.query(&asked)).await?;
            items.extend(page.items);
            after = page.next;
            if after.is_none() {
                return Ok(Page { items, next: None });
            }
        }
    }

    /// Makes a token.
    pub async fn add_token(&self, new: &NewToken) -> Result<MadeToken> {
        self.post("/tokens", new).await
    }

    /// Gives a token another secret.
    pub async fn rotate_token(&self, name: &str, rotation: &TokenRotation) -> Result<MadeToken> {
        self.post(&format!("/tokens/{}/rotate", segment(name)), rotation)
            .await
    }

    /// Makes a token worth nothing.
    pub async fn revoke_token(&self, name: &str) -> Result<Token> {
        let path = format!("/tokens/{}/revoke", segment(name));
        self.post(&path, &serde_json::json!({})).await
    }

    /// Changes what a token permits.
    pub async fn change_token(&self, name: &str, change: &TokenChange) -> Result<Token> {
        let path = format!("/api/v1/tokens/{}", segment(name));
        let request = self.link.request(Method::PATCH, &path);
        self.link.json(request.json(change)).await
    }
}
