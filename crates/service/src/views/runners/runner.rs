//! Runners, as people see them.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::views::pools::pool::VisiblePools;
use pennine_core::id::{RunnerId, ShortName};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::requirement::Requirement;
use pennine_store::Connection;
use pennine_store::runner::{self, Executing};
use pennine_store::types::Json as Jsonb;
use pennine_wire::{Page, Runner, RunnerJob};
use serde::Deserialize;
use std::collections::HashMap;
use utoipa::IntoParams;
use uuid::Uuid;

pub fn shown(row: &runner::Runner, executing: &[Executing]) -> Runner {
    let mine = executing
        .iter()
        .filter(|one| one.runner_id == row.id)
        .map(|one| RunnerJob {
            job: ShortName::Job.name(one.job_number),
            title: one.title.clone(),
            project: one.project.clone(),
            started_at: one.started_at.map(|at| at.0),
        });
    Runner {
        settings_version: row.version(),
        id: row.id.0,
        short: ShortName::Runner.name(row.number),
        name: row.name.clone(),
        pool: row.pool.clone(),
        state: crate::yard::shown_state(row),
        since: row.state_since.0,
        reason: row.state_reason.clone(),
        desired_state: row.desired_state.0,
        slots: row.slots(),
        used: row.used(),
        labels: row.labels.clone(),
        pool_labels: row.pool_labels.clone(),
        facts: row.facts.0.clone(),
        version: row.program.clone(),
        seen_at: row.seen_at.map(|at| at.0),
        executing: mine.collect(),
        findings: row.reported.0.findings.clone(),
        description: row.description.clone(),
        set: row.settings.0.clone(),
        created_at: row.created_at.0,
    }
}

/// Which runners are wanted.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct RunnerParams {
    /// Only runners that satisfy this requirement.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    requirement: Option<String>,
    /// Only runners of this pool.
    pool: Option<String>,
    /// Only runners in this state.
    state: Option<RunnerState>,
    /// Leave out what is only wanted of one at a time: facts, findings and what people set.
    #[serde(default)]
    brief: bool,
}

/// The runners that are not retired, by pool and name.
pub async fn list(app: &App, who: &Principal, which: RunnerParams) -> Result<Page<Runner>> {
    let wanted = which.requirement.as_deref().unwrap_or_default();
    let wanted: Requirement = wanted
        .parse()
        .map_err(|error| ServiceError::requirement("where", error))?;
    let mut connection = app.store.people().await?;
    let mut rows = if which.brief && wanted.is_any() {
        runner::list_brief(&mut connection).await?
    } else {
        runner::list(&mut connection, None).await?
    };
    let mut executing = runner::executing(&mut connection).await?;
    let pools = VisiblePools::read(&mut connection, who).await?;
    drop(connection);
    executing.retain(|one| who.sees.includes(&one.project));
    rows.retain(|row| {
        pools.includes(row.pool_id.0)
            && which.pool.as_ref().is_none_or(|pool| *pool == row.pool)
            && which
                .state
                .is_none_or(|state| state == crate::yard::shown_state(row))
            && (wanted.is_any() || wanted.satisfied_by(&row.view().subject))
    });
    let mut by_runner: HashMap<RunnerId, Vec<Executing>> = HashMap::new();
    for one in executing {
        by_runner.entry(one.runner_id.0).or_default().push(one);
    }
    let items = rows.iter_mut().map(|row| {
        if which.brief {
            row.facts = Jsonb(Default::default());
            row.reported = Jsonb(Default::default());
        }
        if which.brief || !pools.includes_whole(row.pool_id.0) {
            row.settings = Jsonb(Default::default());
        }
        shown(row, by_runner.get(&row.id.0).map_or(&[], Vec::as_slice))
    });
    Ok(Page {
        items: items.collect(),
        next: None,
    })
}

/// The runner with this id, short name or name that the principal may see.
pub async fn find(connection: &mut Connection, who: &Principal, text: &str) -> Result<RunnerId> {
    let mut found = runner::find(
        connection,
        text.parse::<Uuid>().ok(),
        ShortName::Runner.number(text),
        text,
    )
    .await?;
    let mut rows = Vec::new();
    if found.len() > 1 || !(found.is_empty() || who.sees.is_whole()) {
        let pools = VisiblePools::read(connection, who).await?;
        rows = runner::list(connection, Some(&found)).await?;
        rows.retain(|row| pools.includes(row.pool_id.0));
        found = rows.iter().map(|row| row.id.0).collect();
    }
    match found.as_slice() {
        [] => Err(ServiceError::unknown("runner", text)),
        [one] => Ok(*one),
        _ => {
            let choices: Vec<String> = rows
                .iter()
                .map(|row| format!("{} (pool {})", ShortName::Runner.name(row.number), row.pool))
                .collect();
            Err(ServiceError::ambiguous("runner", text, &choices))
        }
    }
}

/// One runner with all its jobs, for those who manage it.
pub async fn one(connection: &mut Connection, id: RunnerId) -> Result<Runner> {
    let rows = runner::list(connection, Some(&[id])).await?;
    let executing = runner::executing(connection).await?;
    let row = rows
        .first()
        .ok_or_else(|| ServiceError::unknown("runner", &id.to_string()))?;
    Ok(shown(row, &executing))
}

/// One runner, by id, short name or name.
pub async fn show(app: &App, who: &Principal, text: &str) -> Result<Runner> {
    let mut connection = app.store.people().await?;
    let id = find(&mut connection, who, text).await?;
    let mut rows = runner::list(&mut connection, Some(&[id])).await?;
    let row = rows.first_mut();
    let row = row.ok_or_else(|| ServiceError::unknown("runner", text))?;
    let mut executing = runner::executing(&mut connection).await?;
    let pools = VisiblePools::read(&mut connection, who).await?;
    executing.retain(|one| who.sees.includes(&one.project));
    if !pools.includes_whole(row.pool_id.0) {
        row.settings = Jsonb(Default::default());
    }
    Ok(shown(row, &executing))
}
