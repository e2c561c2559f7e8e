//! How long jobs waited, for what, how busy machines were, and what it cost.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views::measures::sums::{self, LONGEST, LiveCounts, Window};
use pennine_core::dispatch::Reason;
use pennine_core::id::ShortName;
use pennine_core::measure::answer;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use pennine_store::measure;
use pennine_store::rollup::RollupKind;
use pennine_store::work_span::{self, SpanFilter};
use pennine_wire::{
    By, LongestWait, Page, TrendGroup, TrendStep, Trends, WaitPart, WeekHour, WeekPattern,
};
use serde::Deserialize;
use std::cmp::Reverse;
use std::collections::BTreeMap;
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
    pub(super) pool: Option<String>,
    /// Of everything at or below a team.
    pub(super) team: Option<String>,
    /// Of one project.
    pub(super) project: Option<String>,
    /// Of jobs with this requirement.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub(super) requirement: Option<String>,
    /// Of jobs with this title, numbers as `#`; goes with a project.
    pub(super) title: Option<String>,
    /// Of one runner.
    pub(super) runner: Option<String>,
    /// Of one supplier's machines.
    pub(super) supplier: Option<String>,
    /// Of machines made from this.
    pub(super) image: Option<String>,
    /// Group by: pool, team, project, requirement, title, runner, supplier, image.
    by: Option<By>,
    /// Whether to tell the window before it, too.
    #[serde(default)]
    compare: bool,
    /// The time zone of hours of the week; UTC when not given.
    zone: Option<String>,
    /// Only waits that include this reason.
    reason: Option<Reason>,
    /// Of waits: how many; 10 when not given.
    limit: Option<i64>,
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
}

/// Figures of a window: waits with their reasons, work, slots, machines and money.
pub async fn show(app: &App, who: &Principal, which: TrendParams) -> Result<Trends> {
    let mut connection = app.store.analysis().await?;
    let now = app.clock.now();
    let asked = which.resolve(&mut connection, who).await?;
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
        answer: answer(&whole, before.as_ref(), &asked.subject),
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
pub async fn week(app: &App, who: &Principal, which: TrendParams) -> Result<WeekPattern> {
    let name = which.zone.clone().unwrap_or_else(|| "UTC".to_owned());
    let zone = jiff::tz::TimeZone::get(&name).map_err(|_| {
        let message = format!("{name:?} is not a time zone; use a name such as Europe/Dublin");
        ServiceError::invalid("zone", message)
    })?;
    let mut connection = app.store.analysis().await?;
    let now = app.clock.now();
    let asked = which.resolve(&mut connection, who).await?;
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
pub async fn waits(app: &App, who: &Principal, which: TrendParams) -> Result<Page<LongestWait>> {
    let limit = which.limit.unwrap_or(10);
    if !(1..=WAITS).contains(&limit) {
        return Err(ServiceError::invalid("limit", format!("1 to {WAITS}")));
    }
    let mut connection = app.store.analysis().await?;
    let now = app.clock.now();
    let asked = which.resolve(&mut connection, who).await?;
    let window = which.window(app, asked.finest(which.by))?;
    let (from, until) = (window.from, window.until);
    let live = LiveCounts::read(&mut connection, now).await?;
    let mine = SpanFilter {
        from,
        until,
        reason: which.reason,
        pool: asked.pool,
        projects: asked.projects.clone(),
        keys: asked.scope.keys.clone(),
        limit,
    };
    let over = work_span::longest(&mut connection, &mine).await?;
    let mut items: Vec<LongestWait> = over.into_iter().map(past).collect();
    let scope = &asked.scope;
    for (row, keys, work_span, _) in &live.work_spans {
        let here = work_span.ready < until && work_span.waited_until > from;
        let in_scope = scope.holds(keys);
        let parts = parts(
            work_span
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
                ready_at: work_span.ready,
                started_at: work_span.started,
                ended_at: None,
                result: None,
                wait_us: Micros(work_span.waited()),
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
