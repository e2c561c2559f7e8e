//! How things stand now, and the skyline.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::views::jobs::job::JobContext;
use crate::visible_yard::VisibleYard;
use pennine_core::answer::{answer, text};
use pennine_core::queue_sample::{LevelStep, QueueSample};
use pennine_core::time::{Micros, Moment};
use pennine_store::waiting_line::{self, LineFilter};
use pennine_store::{capacity, job, pool, queue_sample};
use pennine_wire::{Skyline, Status};
use serde::Deserialize;
use std::cmp::Reverse;
use std::time::Duration;
use utoipa::IntoParams;

/// How many jobs the status shows.
const LATEST: i64 = 12;

/// How many steps the skyline has.
const STEPS: u64 = 240;

/// How things stand now: the answer line and the figures that prove it.
pub async fn status(app: &App, who: &Principal) -> Result<Status> {
    let yard = app.yard.recent(&app.store, &app.clock).await?;
    let yard = VisibleYard::of(&yard, who);
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let shown = LineFilter {
        visible: who.visible_places(),
        ..LineFilter::default()
    };
    let visible = shown.visible.as_deref();
    let groups = waiting_line::groups(&mut connection, &shown).await?;
    let picture = views::jobs::queue::picture(&mut connection, &shown, &groups, &yard, now).await?;
    let rows = job::latest(&mut connection, visible, LATEST).await?;
    let around = JobContext::read(&mut connection, &rows).await?;
    let pieces = answer(&picture);
    Ok(Status {
        answer: text(&pieces),
        pieces,
        waiting: picture.waiting,
        executing: job::with_runner(&mut connection, visible)
            .await?
            .max(0)
            .unsigned_abs(),
        slots: picture.slots,
        free: picture.free,
        longest_wait_us: picture
            .longest
            .as_ref()
            .map(|longest| longest.waited.into()),
        runners: crate::yard::counts(&yard.seen.runners),
        alerts: views::measures::alert::now(&mut connection, who).await?,
        latest: rows.iter().map(|row| around.line(row, now)).collect(),
        now,
    })
}

/// Which stretch of time to draw.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct SkylineParams {
    /// The length of the window in minutes: 1 to 1440, 60 when not given.
    minutes: Option<u64>,
}

/// Demand over capacity in the last hour, for the whole yard. For those who do not see all of it: the sum of the pools that
/// they see.
pub async fn skyline(app: &App, who: &Principal, params: SkylineParams) -> Result<Skyline> {
    let minutes = params.minutes.unwrap_or(60);
    if !(1..=1440).contains(&minutes) {
        return Err(ServiceError::invalid("minutes", "minutes is 1 to 1440"));
    }
    let window = Duration::from_secs(minutes * 60);
    let now = app.clock.now();
    let mut connection = app.store.people().await?;
    let step = step_of(window);
    let (mut level, mut sum) = (QueueSample::default(), Vec::new());
    if who.sees.is_whole() {
        let readings = queue_sample::since(&mut connection, now - window).await?;
        level = readings.last().map(|(_, level)| *level).unwrap_or_default();
        sum = steps(&readings, now, step);
    } else {
        let pools = pool::list(&mut connection).await?;
        for owned in pools.iter().filter(|owned| who.sees_pool(owned)) {
            let id = owned.pool.id.0;
            let readings = capacity::levels(&mut connection, id, now - window).await?;
            if let Some((_, last)) = readings.last() {
                level = level.plus(last);
            }
            add_steps(&mut sum, &steps(&readings, now, step));
        }
    }
    Ok(Skyline {
        now,
        window_us: window.into(),
        step_us: step.into(),
        level,
        steps: sum,
    })
}

/// Adds regular steps to a sum of such.
fn add_steps(sum: &mut Vec<LevelStep>, more: &[LevelStep]) {
    for step in more {
        match sum.iter_mut().find(|one| one.ago_us == step.ago_us) {
            Some(one) => one.level = one.level.plus(&step.level),
            None => sum.push(*step),
        }
    }
    sum.sort_by_key(|step| Reverse(step.ago_us));
}

/// The length of a step of a window.
pub fn step_of(window: Duration) -> Duration {
    Duration::from_micros(u64::try_from(window.as_micros()).unwrap_or(u64::MAX) / STEPS)
}

/// When each step of a window ends, the earliest first.
pub fn ends(now: Moment, step: Duration) -> impl Iterator<Item = Moment> {
    (0..STEPS)
        .rev()
        .map(move |n| now - step * u32::try_from(n).unwrap_or(u32::MAX))
}

fn demand(level: &QueueSample) -> u32 {
    level.waiting.saturating_add(level.executing)
}

/// Turns samples into regular steps: the sample with the highest demand in each.
pub fn steps(readings: &[(Moment, QueueSample)], now: Moment, step: Duration) -> Vec<LevelStep> {
    let mut steps = Vec::new();
    let mut held: Option<QueueSample> = None;
    let mut rest = readings.iter().peekable();
    for (n, end) in (0..STEPS).rev().zip(ends(now, step)) {
        let mut peak = held;
        while let Some((_, level)) = rest.next_if(|(at, _)| *at <= end) {
            // A whole reading, so that what is drawn was so at one moment.
            if peak.is_none_or(|peak| demand(level) >= demand(&peak)) {
                peak = Some(*level);
            }
            held = Some(*level);
        }
        if let Some(level) = peak {
            steps.push(LevelStep {
                ago_us: Micros::from(step * u32::try_from(n + 1).unwrap_or(u32::MAX)),
                level,
            });
        }
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: i64) -> Moment {
        Moment::from_micros(seconds * 1_000_000)
    }

    #[test]
    fn a_peak_between_two_steps_is_kept_and_what_is_unknown_is_left_out() {
        let level = |waiting, executing| QueueSample {
            waiting,
            executing,
            idle: 2,
            coming: 0,
        };
        let readings = [
            (at(100), level(0, 0)),
            (at(231), level(9, 1)),
            (at(232), level(0, 2)),
        ];
        let drawn = steps(&readings, at(240), Duration::from_secs(1));
        assert_eq!(drawn.len(), 141, "no data of the first 99 seconds");
        let most = drawn.iter().map(|step| step.level.waiting).max();
        assert_eq!(most, Some(9));
        assert_eq!(drawn.last().map(|step| step.level), Some(level(0, 2)));
    }
}
