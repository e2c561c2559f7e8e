//! The subject of a trend query: the keys whose sums answer it, and its groups.

use crate::access::Principal;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::measures::sums::{self, KeyFilter, LiveCounts, Scope, Window};
use crate::views::measures::trends::TrendParams;
use pennine_core::access::Action;
use pennine_core::dispatch::below;
use pennine_core::id::{PlaceId, PoolId, RunnerId, SupplierId};
use pennine_core::measure::WindowFigures;
use pennine_core::requirement::Requirement;
use pennine_store::rollup::{RollupKey, RollupKind};
use pennine_store::{Connection, measure, place, pool, runner, supplier};
use pennine_wire::By;
use std::collections::{BTreeMap, HashMap};

/// A question with the things that it names. Sums are kept by one thing each, and by pool and project together.
pub struct TrendQuery {
    pub scope: Scope,
    /// What it is of, in words: "jobs of shore".
    pub subject: String,
    pub pool: Option<PoolId>,
    /// The projects at or below the team or project that was named.
    pub projects: Option<Vec<PlaceId>>,
    places: Vec<place::Place>,
    /// Whether a team or a project was named.
    is_named: bool,
}

impl TrendParams {
    /// Looks up what the question names. For those who do not see the whole installation, the answer is of the projects that
    /// they see, or of a pool whose owner's place they see.
    ///
    /// Errors: a combination of which no sums are kept, or an unknown name.
    pub async fn resolve(
        &self,
        connection: &mut Connection,
        who: &Principal,
    ) -> Result<TrendQuery> {
        self.check_combination()?;
        let mut places = place::all(connection).await?;
        places.retain(|place| who.sees.includes(&place.path));
        let mut query = TrendQuery {
            scope: Scope::yard(),
            subject: "jobs".to_owned(),
            pool: None,
            projects: None,
            places,
            is_named: self.team.is_some() || self.project.is_some(),
        };
        let named: (&[&str], Option<&String>) = match (&self.team, &self.project) {
            (Some(team), _) => (&["team"], Some(team)),
            (None, project) => (&["project"], project.as_ref()),
        };
        if let (kinds, Some(text)) = named {
            query.narrow_to_place(connection, who, kinds, text).await?;
        } else if !who.sees.is_whole() {
            query.narrow_to_visible();
        }
        if let Some(name) = &self.pool {
            query.narrow_to_pool(connection, who, name).await?;
        } else if let Some(title) = &self.title {
            query.narrow_to_title(title)?;
        } else {
            self.narrow_to_one(connection, who, &mut query).await?;
        }
        Ok(query)
    }

    /// Narrows to a requirement, a runner, a supplier or an image, where one is named.
    async fn narrow_to_one(
        &self,
        connection: &mut Connection,
        who: &Principal,
        query: &mut TrendQuery,
    ) -> Result<()> {
        let across_projects = [&self.requirement, &self.runner, &self.supplier, &self.image];
        if across_projects.iter().any(|named| named.is_some()) {
            // Sums of these are kept for all projects together.
            who.require(Action::View, "")?;
        }
        if let Some(text) = &self.requirement {
            let parsed: Requirement = text
                .parse()
                .map_err(|error| ServiceError::requirement("where", error))?;
            let text = parsed.to_string();
            query.subject = format!("jobs with the requirement {text:?}");
            query.scope = Scope::of(RollupKey::Requirement(text));
        } else if let Some(text) = &self.runner {
            let id = views::runners::runner::find(connection, who, text).await?;
            query.subject = format!("jobs on {text}");
            query.scope = Scope::of(RollupKey::Runner(id));
        } else if let Some(name) = &self.supplier {
            let found = supplier::find(connection, name).await?;
            let found = found.ok_or_else(|| ServiceError::unknown("supplier", name))?;
            query.subject = format!("jobs on machines of {name}");
            query.scope = Scope::of(RollupKey::Supplier(found.id.0));
        } else if let Some(image) = &self.image {
            query.subject = format!("jobs on machines made from {image}");
            query.scope = Scope::of(RollupKey::Image(image.clone()));
        }
        Ok(())
    }

    fn check_combination(&self) -> Result<()> {
        let given = [
            ("requirement", self.requirement.is_some()),
            ("runner", self.runner.is_some()),
            ("supplier", self.supplier.is_some()),
            ("image", self.image.is_some()),
            ("title", self.title.is_some()),
            ("pool", self.pool.is_some()),
            ("team", self.team.is_some()),
            ("project", self.project.is_some()),
        ];
        let given: Vec<&str> = given
            .iter()
            .filter(|(_, given)| *given)
            .map(|(name, _)| *name)
            .collect();
        let together = matches!(
            given.as_slice(),
            [] | [_] | ["pool", "team" | "project"] | ["title", "project"]
        );
        if together {
            return Ok(());
        }
        let message = format!("{} cannot be combined", given.join(" and "));
        Err(ServiceError::invalid("by", message)
            .remedy("give one, or a pool and a team or project, or a title and its project"))
    }
}

impl TrendQuery {
    /// Narrows to the projects that are visible.
    fn narrow_to_visible(&mut self) {
        let projects = self.places.iter().filter(|place| place.kind == "project");
        let projects: Vec<PlaceId> = projects.map(|place| place.id.0).collect();
        self.scope = Scope {
            kind: RollupKind::Project,
            keys: projects.iter().copied().map(RollupKey::Project).collect(),
        };
        self.subject = "jobs of the projects that you see".to_owned();
        self.projects = Some(projects);
    }

    async fn narrow_to_place(
        &mut self,
        connection: &mut Connection,
        who: &Principal,
        kinds: &[&str],
        text: &str,
    ) -> Result<()> {
        let noun = kinds.first().copied().unwrap_or("project");
        let place = views::people::place::find(connection, &who.sees, kinds, noun, text).await?;
        let all = self.places.iter();
        let mine = all.filter(|one| one.kind == "project" && below(&place.path, &one.path));
        let projects: Vec<PlaceId> = mine.map(|one| one.id.0).collect();
        self.scope = Scope {
            kind: RollupKind::Project,
            keys: projects.iter().copied().map(RollupKey::Project).collect(),
        };
        self.subject = format!("jobs of {}", place.path);
        self.projects = Some(projects);
        Ok(())
    }

    async fn narrow_to_pool(
        &mut self,
        connection: &mut Connection,
        who: &Principal,
        name: &str,
    ) -> Result<()> {
        let found = views::pools::capacity::find(connection, who, name).await?;
        let pool = found.pool.id.0;
        if !self.is_named && who.sees.includes(&found.owner) {
            // All jobs on it, whosever they are.
            self.projects = None;
            self.subject = "jobs".to_owned();
        }
        let pair = |project: &PlaceId| RollupKey::PoolProject {
            pool,
            project: *project,
        };
        self.pool = Some(pool);
        self.scope = match &self.projects {
            None => Scope::of(RollupKey::Pool(pool)),
            Some(projects) => Scope {
                kind: RollupKind::PoolProject,
                keys: projects.iter().map(pair).collect(),
            },
        };
        self.subject += &format!(" on {name}");
        Ok(())
    }

    fn narrow_to_title(&mut self, title: &str) -> Result<()> {
        let title = measure::plain_title(title);
        let Some(projects) = &self.projects else {
            let message = "a title needs its project";
            return Err(ServiceError::invalid("project", message));
        };
        let key = |project: &PlaceId| RollupKey::Title {
            project: *project,
            title: title.clone(),
        };
        self.scope = Scope {
            kind: RollupKind::Title,
            keys: projects.iter().map(key).collect(),
        };
        self.subject = format!("{} called {title:?}", self.subject);
        Ok(())
    }

    /// Of the kinds that the answer is made of, the one whose sums are kept least finely.
    pub fn finest(&self, by: Option<By>) -> RollupKind {
        match by {
            Some(By::Title) => RollupKind::Title,
            Some(By::Runner) => RollupKind::Runner,
            Some(By::Pool | By::Project | By::Team) if self.is_narrowed() => {
                RollupKind::PoolProject
            }
            None | Some(By::Pool) => self.scope.kind,
            Some(_) if self.scope.kind.many() => self.scope.kind,
            Some(_) => RollupKind::Project,
        }
    }

    /// Whether it is of one pool, or of one team or project.
    fn is_narrowed(&self) -> bool {
        self.pool.is_some() || self.projects.is_some()
    }

    pub fn place(&self, id: PlaceId) -> Option<&place::Place> {
        self.places.iter().find(|place| place.id.0 == id)
    }

    /// The path of a project that it is of.
    fn project_path(&self, id: PlaceId) -> Option<String> {
        let mine = self.projects.as_ref().is_none_or(|mine| mine.contains(&id));
        mine.then(|| self.place(id).map(|place| place.path.clone()))?
    }

    /// The figures of a window by group.
    ///
    /// Errors: groups of which no sums are kept.
    pub async fn groups(
        &self,
        connection: &mut Connection,
        live: &LiveCounts,
        window: &Window,
        by: By,
    ) -> Result<BTreeMap<String, WindowFigures>> {
        let kind = self.kind_of_groups(by).ok_or_else(not_kept)?;
        let names = GroupNames::read(connection, by).await?;
        let filter = KeyFilter {
            kind,
            pool: self.pool.filter(|_| kind == RollupKind::PoolProject),
            projects: self
                .projects
                .as_deref()
                .filter(|_| matches!(kind, RollupKind::PoolProject | RollupKind::Title)),
        };
        let name = |key: &RollupKey| self.group(by, key, &names);
        Ok(sums::groups(connection, live, filter, window, name).await?)
    }

    /// The kind of key whose sums make these groups; none where no such sums are kept.
    fn kind_of_groups(&self, by: By) -> Option<RollupKind> {
        let is_of_other = !self.is_narrowed() && self.scope.kind != RollupKind::Yard;
        if is_of_other || self.scope.kind == RollupKind::Title {
            return None;
        }
        Some(match (by, self.pool, &self.projects) {
            (By::Pool, None, None) => RollupKind::Pool,
            (By::Pool, _, Some(_)) | (By::Project | By::Team, Some(_), _) => {
                RollupKind::PoolProject
            }
            (By::Project | By::Team, None, _) => RollupKind::Project,
            (By::Title, None, _) => RollupKind::Title,
            (By::Requirement, None, None) => RollupKind::Requirement,
            (By::Runner, None, None) => RollupKind::Runner,
            (By::Supplier, None, None) => RollupKind::Supplier,
            (By::Image, None, None) => RollupKind::Image,
            _ => return None,
        })
    }

    /// The group that a key belongs to; none where it is of something else.
    fn group(&self, by: By, key: &RollupKey, names: &GroupNames) -> Option<String> {
        let project_or_team = |project: PlaceId| {
            let path = self.project_path(project)?;
            Some(if by == By::Team { team(path) } else { path })
        };
        match key {
            RollupKey::Pool(pool) => names.pools.get(pool).cloned(),
            RollupKey::PoolProject { pool, project } if by == By::Pool => {
                self.project_path(*project)?;
                names.pools.get(pool).cloned()
            }
            RollupKey::PoolProject { project, .. } | RollupKey::Project(project) => {
                project_or_team(*project)
            }
            RollupKey::Title { project, title } => {
                let path = self.project_path(*project)?;
                Some(format!("{path}: {title}"))
            }
            RollupKey::Requirement(text) if text.is_empty() => Some("(anything)".to_owned()),
            RollupKey::Requirement(text) | RollupKey::Image(text) => Some(text.clone()),
            RollupKey::Runner(runner) => names.runners.get(runner).cloned(),
            RollupKey::Supplier(supplier) => names.suppliers.get(supplier).cloned(),
            RollupKey::Yard | RollupKey::PoolReason { .. } => None,
        }
    }
}

/// The team of a project, by its path.
fn team(path: String) -> String {
    match path.rsplit_once('/') {
        Some((team, _)) => team.to_owned(),
        None => path,
    }
}

/// The names of what groups are of; read only where it is needed.
#[derive(Default)]
struct GroupNames {
    pools: HashMap<PoolId, String>,
    runners: HashMap<RunnerId, String>,
    suppliers: HashMap<SupplierId, String>,
}

impl GroupNames {
    async fn read(connection: &mut Connection, by: By) -> Result<GroupNames> {
        let mut names = GroupNames::default();
        match by {
            By::Pool => names.pools = pool::every(connection).await?.into_iter().collect(),
            By::Runner => names.runners = runner::names(connection).await?.into_iter().collect(),
            By::Supplier => {
                let rows = supplier::list(connection).await?;
                names.suppliers = rows.into_iter().map(|row| (row.id.0, row.name)).collect();
            }
            By::Project | By::Team | By::Title | By::Requirement | By::Image => {}
        }
        Ok(names)
    }
}

fn not_kept() -> ServiceError {
    let message = "no sums are kept for this combination";
    ServiceError::invalid("by", message).remedy(
        "of a pool: by team or project; of a team or project: by pool, project or title; of everything: by any",
    )
}
