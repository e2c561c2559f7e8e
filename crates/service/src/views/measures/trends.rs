//! How long jobs waited, for what, how busy machines were, and what it cost.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::measures::sums::{self, LONGEST, LiveCounts, Scope, Window, pool_project};
use pennine_core::dispatch::{Reason, below};
use pennine_core::id::{PlaceId, PoolId, ShortName, SupplierId};
use pennine_core::measure::{WindowFigures, answer};
use pennine_core::requirement::Requirement;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use pennine_store::rollup::RollupKind;
use pennine_store::work_span::{self, SpanFilter as Stints};
use pennine_store::{Connection, measure, place, pool, runner, supplier};
use pennine_wire::{
    By, LongestWait, Page, TrendGroup, TrendStep, Trends, WaitPart, WeekHour, WeekPattern,
};
use serde::Deserialize;
use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;
use utoipa::IntoParams;

/// The window that is shown when none is asked for.
const USUAL: Duration = Duration::from_secs(86_400);

/// The most groups of an answer.
const GROUPS: usize = 500;

/// The most waits of an answer.
const WAITS: i64 = 200;

/// Of what, and when.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
pub struct TrendParams {
    /// From when (RFC 3339); `last` before `until` when not given.
    from: Option<Moment>,
    /// Until when; now when not given.
    until: Option<Moment>,
    /// How long the window is, in microseconds; a day when not given.
    last_us: Option<Micros>,
    /// Of one pool's runners.
    pool: Option<String>,
    /// Of everything at or below a team.
    team: Option<String>,
    /// Of one project.
    project: Option<String>,
    /// Of jobs with this requirement.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    requirement: Option<String>,
    /// Of jobs with this title, numbers as `#`; goes with a project.
    title: Option<String>,
    /// Of one runner.
    runner: Option<String>,
    /// Of one supplier's machines.
    supplier: Option<String>,
    /// Of machines made from this.
    image: Option<String>,
    /// By what figures are told apart: pool, team, project, requirement, title, runner, supplier, image.
    by: Option<By>,
    /// Whether to tell the window before it, too.
    #[serde(default)]
    compare: bool,
    /// The time zone of hours of the week; UTC when not given.
    zone: Option<String>,
    /// Of waits: those that were for this reason, in part at least.
    reason: Option<Reason>,
    /// Of waits: how many; 10 when not given.
    limit: Option<i64>,
}

/// What was asked for, with the names of things.
struct ResolvedQuery {
    scope: Scope,
    /// How it is called: "jobs of shore".
    whose: String,
    pool: Option<PoolId>,
    /// The projects at or below the team or project that was named.
    projects: Option<Vec<PlaceId>>,
    places: Vec<place::Place>,
}

impl TrendParams {
    fn window(&self, app: &App, kind: RollupKind) -> Result<Window> {
        let now = app.clock.now();
        let until = self.until.unwrap_or(now);
        let last = self.last_us.map_or(USUAL, Duration::from);
        let from = self.from.unwrap_or(until - last);
        if from >= until {
            return Err(ServiceError::invalid(
                "from",
                "the window ends before it begins",
            ));
        }
        if until.since(from) > LONGEST {
            return Err(ServiceError::invalid(
                "from",
                "a window is at most two years long",
            ));
        }
        let days = |days: u64| Duration::from_secs(days * 86_400);
        let limits = &app.config.limits;
        let (five, hours) = (days(limits.five_minute_days), days(limits.hour_days));
        Ok(Window::new(from, until, kind, now - five, now - hours))
    }

    /// What was asked for. Sums are kept by one thing each, and by pool and project together.
    async fn asked(&self, connection: &mut Connection) -> Result<ResolvedQuery> {
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
        if !together {
            let said = format!("{} cannot be asked for together", given.join(" and "));
            return Err(ServiceError::invalid("by", said).remedy(
                "ask for one, for a pool and a team or project, or for a title and its project",
            ));
        }
        let places = place::all(connection).await?;
        let mut asked = ResolvedQuery {
            scope: Scope::yard(),
            whose: "jobs".to_owned(),
            pool: None,
            projects: None,
            places,
        };
        let kinds: (&[&str], Option<&String>) = match (&self.team, &self.project) {
            (Some(team), _) => (&["team"], Some(team)),
            (None, project) => (&["project"], project.as_ref()),
        };
        if let (kinds, Some(text)) = kinds {
            let noun = kinds.first().copied().unwrap_or("project");
            let place = views::people::place::find(connection, kinds, noun, text).await?;
            let all = asked.places.iter();
            let mine = all.filter(|one| one.kind == "project" && below(&place.path, &one.path));
            let ids: Vec<PlaceId> = mine.map(|one| one.id.0).collect();
            asked.scope = Scope {
                kind: RollupKind::Project,
                texts: ids.iter().map(ToString::to_string).collect(),
            };
            asked.whose = format!("jobs of {}", place.path);
            asked.projects = Some(ids);
        }
        let one = |kind, text: String| Scope {
            kind,
            texts: vec![text],
        };
        if let Some(name) = &self.pool {
            let found = pool::find(connection, name).await?;
            let id = found
                .ok_or_else(|| ServiceError::unknown("pool", name))?
                .pool
                .id
                .0;
            asked.pool = Some(id);
            asked.scope = match &asked.projects {
                None => one(RollupKind::Pool, id.to_string()),
                Some(projects) => Scope {
                    kind: RollupKind::PoolProject,
                    texts: projects
                        .iter()
                        .map(|project| pool_project(id, *project))
                        .collect(),
                },
            };
            asked.whose += &format!(" on {name}");
        } else if let Some(title) = &self.title {
            let title = measure::plain_title(title);
            let Some(projects) = &asked.projects else {
                let said = "titles are told apart by project";
                return Err(ServiceError::invalid("project", said));
            };
            asked.scope = Scope {
                kind: RollupKind::Title,
                texts: projects
                    .iter()
                    .map(|project| format!("{project}/{title}"))
                    .collect(),
            };
            asked.whose = format!("{} called {title:?}", asked.whose);
        } else if let Some(text) = &self.requirement {
            let parsed: Requirement = text
                .parse()
                .map_err(|error| ServiceError::requirement("where", error))?;
            asked.whose = format!("jobs that ask for {:?}", parsed.to_string());
            asked.scope = one(RollupKind::Requirement, parsed.to_string());
        } else if let Some(text) = &self.runner {
            let id = views::runners::runner::find(connection, text).await?;
            asked.whose = format!("jobs on {text}");
            asked.scope = one(RollupKind::Runner, id.to_string());
        } else if let Some(name) = &self.supplier {
            let found = supplier::find(connection, name).await?;
            let id = found
                .ok_or_else(|| ServiceError::unknown("supplier", name))?
                .id
                .0;
            asked.whose = format!("jobs on machines of {name}");
            asked.scope = one(RollupKind::Supplier, id.to_string());
        } else if let Some(image) = &self.image {
            asked.whose = format!("jobs on machines made from {image}");
            asked.scope = one(RollupKind::Image, image.clone());
        }
        Ok(asked)
    }
}

impl ResolvedQuery {
    /// Of the kinds that the answer is made of, the one whose sums are kept least finely.
    fn finest(&self, by: Option<By>) -> RollupKind {
        let narrowed = self.pool.is_some() || self.projects.is_some();
        match by {
            Some(By::Title) => RollupKind::Title,
            Some(By::Runner) => RollupKind::Runner,
            Some(By::Pool | By::Project | By::Team) if narrowed => RollupKind::PoolProject,
            None | Some(By::Pool) => self.scope.kind,
            Some(_) if self.scope.kind.many() => self.scope.kind,
            Some(_) => RollupKind::Project,
        }
    }

    fn place(&self, id: PlaceId) -> Option<&place::Place> {
        self.places.iter().find(|place| place.id.0 == id)
    }

    fn project_name(&self, text: &str) -> Option<String> {
        let id = PlaceId(text.parse().ok()?);
        if self
            .projects
            .as_ref()
            .is_some_and(|mine| !mine.contains(&id))
        {
            return None;
        }
        Some(self.place(id)?.path.clone())
    }

    /// The team of a project, by its path.
    fn team(path: String) -> String {
        path.rsplit_once('/')
            .map(|(team, _)| team.to_owned())
            .unwrap_or(path)
    }

    /// Groups of what was asked for.
    async fn groups(
        &self,
        connection: &mut Connection,
        live: &LiveCounts,
        window: &Window,
        by: By,
    ) -> Result<BTreeMap<String, WindowFigures>> {
        let pools: HashMap<String, String> = pool::every(connection)
            .await?
            .into_iter()
            .map(|(id, name)| (id.to_string(), name))
            .collect();
        let narrowed = self.pool.is_some() || self.projects.is_some();
        let otherwise = !narrowed && self.scope.kind != RollupKind::Yard
            || self.scope.kind == RollupKind::Title;
        let apart = |text: &str| {
            text.split_once('/')
                .map(|(a, b)| (a.to_owned(), b.to_owned()))
        };
        // Ids hold nothing that a pattern could take for another sign.
        let projects = self.projects.iter().flatten();
        let titles: Vec<String> = projects
            .clone()
            .map(|project| format!("{project}/%"))
            .collect();
        let pairs: Vec<String> = match self.pool {
            Some(pool) => vec![format!("{pool}/%")],
            None => projects.map(|project| format!("%/{project}")).collect(),
        };
        let found = match (by, self.pool, &self.projects) {
            _ if otherwise => return Err(kept_otherwise()),
            (By::Pool, None, None) => {
                let name = |text: &str| pools.get(text).cloned();
                sums::groups(connection, live, (RollupKind::Pool, &[]), window, name).await?
            }
            (By::Pool, _, Some(_)) => {
                let name = |text: &str| {
                    let (pool, project) = apart(text)?;
                    self.project_name(&project)?;
                    pools.get(&pool).cloned()
                };
                sums::groups(
                    connection,
                    live,
                    (RollupKind::PoolProject, &pairs),
                    window,
                    name,
                )
                .await?
            }
            (By::Project | By::Team, Some(pool), _) => {
                let name = |text: &str| {
                    let (of, project) = apart(text)?;
                    let path = self
                        .project_name(&project)
                        .filter(|_| of == pool.to_string())?;
                    Some(if by == By::Team {
                        ResolvedQuery::team(path)
                    } else {
                        path
                    })
                };
                sums::groups(
                    connection,
                    live,
                    (RollupKind::PoolProject, &pairs),
                    window,
                    name,
                )
                .await?
            }
            (By::Project | By::Team, None, _) => {
                let name = |text: &str| {
                    let path = self.project_name(text)?;
                    Some(if by == By::Team {
                        ResolvedQuery::team(path)
                    } else {
                        path
                    })
                };
                sums::groups(connection, live, (RollupKind::Project, &[]), window, name).await?
            }
            (By::Title, None, _) => {
                let name = |text: &str| {
                    let (project, title) = apart(text)?;
                    let path = self.project_name(&project)?;
                    Some(format!("{path}: {title}"))
                };
                sums::groups(connection, live, (RollupKind::Title, &titles), window, name).await?
            }
            (By::Requirement, ..) if !narrowed => {
                let name = |text: &str| {
                    Some(if text.is_empty() {
                        "(anything)".to_owned()
                    } else {
                        text.to_owned()
                    })
                };
                sums::groups(
                    connection,
                    live,
                    (RollupKind::Requirement, &[]),
                    window,
                    name,
                )
                .await?
            }
            (By::Runner, ..) if !narrowed => {
                let names: HashMap<String, String> = runner::names(connection)
                    .await?
                    .into_iter()
                    .map(|(id, name)| (id.to_string(), name))
                    .collect();
                let name = |text: &str| names.get(text).cloned();
                sums::groups(connection, live, (RollupKind::Runner, &[]), window, name).await?
            }
            (By::Supplier, ..) if !narrowed => {
                let rows = supplier::list(connection).await?;
                let name = |text: &str| {
                    let id = SupplierId(text.parse().ok()?);
                    Some(rows.iter().find(|row| row.id.0 == id)?.name.clone())
                };
                sums::groups(connection, live, (RollupKind::Supplier, &[]), window, name).await?
            }
            (By::Image, ..) if !narrowed => {
                sums::groups(connection, live, (RollupKind::Image, &[]), window, |text| {
                    Some(text.to_owned())
                })
                .await?
            }
            _ => return Err(kept_otherwise()),
        };
        Ok(found)
    }
}

fn kept_otherwise() -> ServiceError {
    let said = "sums of what was asked for are not kept apart by this";
    ServiceError::invalid("by", said).remedy(
        "of a pool: by team or project; of a team or project: by pool, project or title; of everything: by any",
    )
}

/// Figures of a window: waits with their reasons, work, slots, machines and money.
pub async fn show(app: &App, which: TrendParams) -> Result<Trends> {
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    let asked = which.asked(&mut connection).await?;
    let window = which.window(app, asked.finest(which.by))?;
    let (_, counted_until) = measure::progress(&mut connection).await?;
    let live = LiveCounts::read(&mut connection, now).await?;
    let whole = sums::whole(&mut connection, &live, &asked.scope, &window).await?;
    let before = if which.compare {
        Some(sums::whole(&mut connection, &live, &asked.scope, &window.before()).await?)
    } else {
        None
    };
    let groups = match which.by {
        None => BTreeMap::new(),
        Some(by) => asked.groups(&mut connection, &live, &window, by).await?,
    };
    let mut groups: Vec<TrendGroup> = groups
        .into_iter()
        .map(|(name, figures)| TrendGroup { name, figures })
        .collect();
    groups.sort_by_key(|group| Reverse((group.figures.wait.sum_us, group.figures.busy_us)));
    groups.truncate(GROUPS);
    let steps = sums::steps(&mut connection, &live, &asked.scope, &window).await?;
    Ok(Trends {
        answer: answer(&whole, before.as_ref(), &asked.whose),
        from: window.from,
        until: window.until,
        counted_until,
        whole,
        before,
        groups,
        step_us: window.step.into(),
        steps: steps
            .into_iter()
            .map(|(at, figures)| TrendStep { at, figures })
            .collect(),
    })
}

/// The hours of the week over a window.
pub async fn week(app: &App, which: TrendParams) -> Result<WeekPattern> {
    let name = which.zone.clone().unwrap_or_else(|| "UTC".to_owned());
    let zone = jiff::tz::TimeZone::get(&name).map_err(|_| {
        let said = format!("{name:?} is no time zone: a name such as Europe/Dublin");
        ServiceError::invalid("zone", said)
    })?;
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    let asked = which.asked(&mut connection).await?;
    let window = which.window(app, asked.finest(which.by))?;
    let live = LiveCounts::read(&mut connection, now).await?;
    let hours = sums::week(&mut connection, &live, &asked.scope, &window, &zone).await?;
    let hours = hours.into_iter().map(|(hour, figures)| WeekHour {
        day: hour / 24,
        hour: hour % 24,
        figures,
    });
    Ok(WeekPattern {
        zone: name,
        from: window.from,
        until: window.until,
        hours: hours.collect(),
    })
}

/// The waits behind a figure: of the jobs that waited at some time in the window, the longest first.
pub async fn waits(app: &App, which: TrendParams) -> Result<Page<LongestWait>> {
    let limit = which.limit.unwrap_or(10);
    if !(1..=WAITS).contains(&limit) {
        return Err(ServiceError::invalid("limit", format!("1 to {WAITS}")));
    }
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    let asked = which.asked(&mut connection).await?;
    let window = which.window(app, asked.finest(which.by))?;
    let (from, until) = (window.from, window.until);
    let live = LiveCounts::read(&mut connection, now).await?;
    let mine = Stints {
        from,
        until,
        reason: which.reason,
        pool: asked.pool,
        projects: asked.projects.clone(),
        scope: (asked.scope.kind, asked.scope.texts.clone()),
        limit,
    };
    let over = work_span::longest(&mut connection, &mine).await?;
    let mut items: Vec<LongestWait> = over.into_iter().map(past).collect();
    let scope = &asked.scope;
    for (row, keys, stint, _) in &live.stints {
        let here = stint.ready < until && stint.waited_until > from;
        let in_scope = keys
            .iter()
            .any(|(kind, text)| *kind == scope.kind && scope.texts.contains(text));
        let parts = parts(
            stint
                .wait
                .iter()
                .map(|span| (span.reason, span.length_us.0)),
        );
        let wanted = which
            .reason
            .is_none_or(|reason| parts.iter().any(|part| part.reason == reason));
        if here && in_scope && wanted {
            items.push(LongestWait {
                job: ShortName::Job.name(row.job_number),
                title: row.title.clone(),
                project: asked
                    .place(row.project_id.0)
                    .map(|place| place.path.clone())
                    .unwrap_or_default(),
                requirement: row.requirement.clone(),
                pool: None,
                runner: None,
                ready_at: stint.ready,
                started_at: stint.started,
                ended_at: None,
                result: None,
                wait_us: Micros(stint.waited()),
                parts,
                processor_us: Micros(0),
                peak_memory: ByteSize(0),
            });
        }
    }
    items.sort_by_key(|one| Reverse(rank(one, which.reason)));
    items.truncate(usize::try_from(limit).unwrap_or(0));
    Ok(Page { items, next: None })
}

/// By what waits are in order.
fn rank(one: &LongestWait, reason: Option<Reason>) -> Micros {
    match reason {
        None => one.wait_us,
        Some(reason) => one
            .parts
            .iter()
            .find(|part| part.reason == reason)
            .map_or(Micros(0), |part| part.wait_us),
    }
}

fn parts(all: impl Iterator<Item = (Reason, u64)>) -> Vec<WaitPart> {
    let mut sums: BTreeMap<Reason, u64> = BTreeMap::new();
    for (reason, micros) in all.filter(|(_, micros)| *micros > 0) {
        *sums.entry(reason).or_default() += micros;
    }
    let part = |(reason, micros)| WaitPart {
        reason,
        wait_us: Micros(micros),
    };
    let mut parts: Vec<WaitPart> = sums.into_iter().map(part).collect();
    parts.sort_by_key(|part| Reverse(part.wait_us));
    parts
}

fn past(row: work_span::FinishedSpan) -> LongestWait {
    let count = |number: i64| number.max(0).unsigned_abs();
    let reasons = Reason::ALL
        .iter()
        .copied()
        .zip(row.reasons.iter().map(|micros| count(*micros)));
    LongestWait {
        job: ShortName::Job.name(row.job_number),
        title: row.title,
        project: row.project,
        requirement: row.requirement,
        pool: row.pool,
        runner: row.runner,
        ready_at: row.ready_at.0,
        started_at: row.started_at.map(|at| at.0),
        ended_at: Some(row.ended_at.0),
        result: row.result.map(|result| result.0),
        wait_us: Micros(count(row.waited_us)),
        parts: parts(reasons),
        processor_us: Micros(count(row.processor_us)),
        peak_memory: ByteSize(count(row.peak_memory)),
    }
}
