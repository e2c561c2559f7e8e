//! What runners did over the last hours: each slot as a strip of time, and the states that the runner was in.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::pools::pool::VisiblePools;
use pennine_core::id::{RunnerId, ShortName};
use pennine_store::{runner, timeline};
use pennine_wire::{Page, RunnerTime, StateStretch, TimelineSpan};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;

/// The most stretches of one runner: more could not be told apart where they are drawn.
const MOST: i64 = 300;

/// The most runners in one question.
const RUNNERS: usize = 100;

/// The longest time.
const HOURS: u32 = 168;

/// Of which runners, and for how long.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct TimelineParams {
    /// Ids, short names or names of up to 100 runners, with commas between.
    runners: String,
    /// How many hours back, up to 168; 6 when not given.
    hours: Option<u32>,
}

/// Recent activity of some runners.
pub async fn show(app: &App, who: &Principal, which: TimelineParams) -> Result<Page<RunnerTime>> {
    let names: Vec<&str> = which
        .runners
        .split(',')
        .filter(|name| !name.is_empty())
        .collect();
    if names.len() > RUNNERS {
        return Err(ServiceError::invalid(
            "runners",
            format!("at most {RUNNERS} runners at once"),
        ));
    }
    let hours = which.hours.unwrap_or(6);
    if !(1..=HOURS).contains(&hours) {
        return Err(ServiceError::invalid("hours", format!("1 to {HOURS}")));
    }
    let mut connection = app.store.people().await?;
    let mut ids = Vec::with_capacity(names.len());
    for name in names {
        match name.parse() {
            Ok(id) => ids.push(RunnerId(id)),
            Err(_) => ids.push(views::runners::runner::find(&mut connection, who, name).await?),
        }
    }
    let pools = VisiblePools::read(&mut connection, who).await?;
    let since = app.clock.now() - Duration::from_secs(u64::from(hours) * 3600);
    let mut rows = runner::list(&mut connection, Some(&ids)).await?;
    rows.retain(|row| pools.includes(row.pool_id.0));
    let stretches = timeline::recent_attempts(&mut connection, &ids, since, MOST).await?;
    let states = timeline::states(&mut connection, &ids, since).await?;
    let items = rows.iter().map(|row| {
        let mine: Vec<_> = stretches
            .iter()
            .filter(|one| one.runner_id == row.id)
            .collect();
        RunnerTime {
            runner: row.id.0,
            slots: row.slots(),
            cut: mine.len() >= usize::try_from(MOST).unwrap_or(usize::MAX),
            lanes: lanes(
                mine.into_iter().rev().map(|one| stretch(who, one)),
                row.slots() as usize,
            ),
            states: states
                .iter()
                .filter(|one| one.runner_id == row.id)
                .map(|one| StateStretch {
                    from: one.at.0,
                    state: one.state.0,
                    reason: one.reason.clone(),
                })
                .collect(),
        }
    });
    Ok(Page {
        items: items.collect(),
        next: None,
    })
}

/// One stretch as the principal sees it: a job that they may not see has no name, title, project or message.
fn stretch(who: &Principal, row: &timeline::TimelineSpan) -> TimelineSpan {
    let visible = who.sees.includes(&row.project);
    let text = |text: &str| {
        if visible {
            text.to_owned()
        } else {
            String::new()
        }
    };
    TimelineSpan {
        job: text(&ShortName::Job.name(row.job_number)),
        title: text(&row.title),
        project: text(&row.project),
        from: row.assigned_at.0,
        started: row.started_at.map(|at| at.0),
        until: row.finished_at.map(|at| at.0),
        result: row.result.map(|result| result.0),
        message: row.message.clone().filter(|_| visible),
    }
}

/// Puts each stretch into the first lane that is free by then. They come in the order in which they began.
fn lanes(stretches: impl Iterator<Item = TimelineSpan>, slots: usize) -> Vec<Vec<TimelineSpan>> {
    let mut lanes: Vec<Vec<TimelineSpan>> = vec![Vec::new(); slots];
    for one in stretches {
        let free = |lane: &&mut Vec<TimelineSpan>| {
            lane.last()
                .is_none_or(|last| last.until.is_some_and(|until| until <= one.from))
        };
        match lanes.iter_mut().find(free) {
            Some(lane) => lane.push(one),
            // It had more slots then.
            None => lanes.push(vec![one]),
        }
    }
    lanes
}

#[cfg(test)]
mod tests {
    use super::*;
    use pennine_core::time::Moment;

    #[test]
    fn overlapping_attempts_have_lanes_of_their_own() {
        let at = Moment::from_micros;
        let one = |from, until: Option<i64>| TimelineSpan {
            job: String::new(),
            title: String::new(),
            project: String::new(),
            from: at(from),
            started: None,
            until: until.map(at),
            result: None,
            message: None,
        };
        let all = [
            one(0, Some(10)),
            one(5, Some(20)),
            one(10, None),
            one(21, Some(22)),
            one(30, None),
        ];
        let lanes = lanes(all.into_iter(), 1);
        let shown: Vec<Vec<i64>> = lanes
            .iter()
            .map(|lane| lane.iter().map(|one| one.from.micros()).collect())
            .collect();
        assert_eq!(shown, [vec![0, 10], vec![5, 21, 30]]);
    }
}
