//! Teams and projects, people, their roles, and the audit log.

use crate::filters::AuditFilter;
use crate::{Client, Result, segment};
use pennine_core::access::Grant;
use pennine_wire::{
    AuditEntry, GrantRemoval, MadeLink, NewLink, NewPerson, NewProject, NewTeam, Page, Permission,
    Person, PersonChange, Place, PlaceChange, ProjectView, SignedIn,
};
use reqwest::Method;

impl Client {
    /// Changes a team or project.
    pub async fn change_place(&self, path: &str, change: &PlaceChange) -> Result<Place> {
        self.send(Method::PATCH, &format!("/places/{}", segment(path)), change)
            .await
    }

    /// Removes an empty team or project.
    pub async fn remove_place(&self, path: &str) -> Result<()> {
        self.delete(&format!("/places/{}", segment(path))).await
    }

    /// Who the token is.
    pub async fn who(&self) -> Result<SignedIn> {
        self.get("/session").await
    }

    /// The teams.
    pub async fn teams(&self) -> Result<Page<Place>> {
        self.get("/teams").await
    }

    /// Adds a team.
    pub async fn add_team(&self, new: &NewTeam) -> Result<Place> {
        self.post("/teams", new).await
    }

    /// The projects.
    pub async fn projects(&self) -> Result<Page<Place>> {
        self.get("/projects").await
    }

    /// Adds a project.
    pub async fn add_project(&self, new: &NewProject) -> Result<Place> {
        self.post("/projects", new).await
    }

    /// A project with its pools.
    pub async fn project(&self, name: &str) -> Result<ProjectView> {
        let path = format!("/api/v1/projects/{}", segment(name));
        self.link.json(self.link.request(Method::GET, &path)).await
    }

    /// A page of the audit log, the latest first.
    pub async fn audit(&self, filter: &AuditFilter) -> Result<Page<AuditEntry>> {
        let request = self.link.request(Method::GET, "/api/v1/audit");
        self.link.json(request.query(filter)).await
    }

    /// The people who may be seen.
    pub async fn people(&self) -> Result<Page<Person>> {
        self.get("/people").await
    }

    /// One person.
    pub async fn person(&self, name: &str) -> Result<Person> {
        self.get(&format!("/people/{}", segment(name))).await
    }

    /// Adds a person with a first role.
    pub async fn add_person(&self, new: &NewPerson) -> Result<MadeLink> {
        self.post("/people", new).await
    }

    /// Changes a person's name for others, disables the account or enables it.
    pub async fn change_person(&self, name: &str, change: &PersonChange) -> Result<Person> {
        let path = format!("/api/v1/people/{}", segment(name));
        let request = self.link.request(Method::PATCH, &path);
        self.link.json(request.json(change)).await
    }

    /// Makes a link with which a person sets another password.
    pub async fn add_person_link(&self, name: &str, asked: &NewLink) -> Result<MadeLink> {
        self.post(&format!("/people/{}/link", segment(name)), asked)
            .await
    }

    /// Gives a person a role at a place.
    pub async fn grant_role(&self, name: &str, grant: &Grant) -> Result<Person> {
        self.post(&format!("/people/{}/grants", segment(name)), grant)
            .await
    }

    /// Takes the role of a person at a place away.
    pub async fn revoke_role(&self, name: &str, removal: &GrantRemoval) -> Result<Person> {
        let path = format!("/people/{}/grants/revoke", segment(name));
        self.post(&path, removal).await
    }

    /// Whether a person may do something at a place, and by which grant.
    pub async fn permission(&self, name: &str, action: &str, place: &str) -> Result<Permission> {
        let path = format!("/api/v1/people/{}/permission", segment(name));
        let request = self.link.request(Method::GET, &path);
        let asked = [("action", action), ("place", place)];
        self.link.json(request.query(&asked)).await
    }
}
