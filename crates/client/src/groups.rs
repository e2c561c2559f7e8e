//! Roles of the people in a group of the OpenID provider.

use crate::{Client, Result};
use pennine_wire::{GroupGrant, GroupGrantRemoval, NewGroupGrant, Page};
use reqwest::Method;

impl Client {
    /// The roles of groups at the places where access is managed.
    pub async fn group_grants(&self) -> Result<Page<GroupGrant>> {
        let request = self.link.request(Method::GET, "/api/v1/groups");
        self.link.json(request).await
    }

    /// Gives a group a role at a place.
    pub async fn grant_to_group(&self, new: &NewGroupGrant) -> Result<GroupGrant> {
        self.post("/groups", new).await
    }

    /// Takes the role of a group at a place away.
    pub async fn revoke_from_group(&self, removal: &GroupGrantRemoval) -> Result<()> {
        let request = self.link.request(Method::POST, "/api/v1/groups/revoke");
        self.link.send(request.json(removal)).await.map(drop)
    }
}
