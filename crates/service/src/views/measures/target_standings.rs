//! How targets stand: the sums of their windows, what was decided recently, and what waits now.
//!
//! A job that waits belongs to no pool yet. It counts for each pool that could take it: an outage of a pool would be a
//! quiet day of its target otherwise.

use crate::app::App;
use crate::views::measures::sums::{self, LiveCounts, Scope, Window};
use crate::yard::Yard;
use pennine_core::dispatch::{Origin, below};
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::requirement::Requirement;
use pennine_core::target::{HOUR, RECENT, Tally, TargetStanding};
use pennine_core::time::{Micros, Moment};
use pennine_store::rollup::{RollupKey, RollupKind};
use pennine_store::target::{self, Target, WaitScope};
use pennine_store::{Connection, Error};
use std::collections::{BTreeSet, HashMap};
use std::time::Duration;

/// Reads how these targets stand.
pub async fn standings(
    app: &App,
    connection: &mut Connection,
    yard: &Yard,
    targets: Vec<Target>,
) -> Result<Vec<(Target, TargetStanding)>, Error> {
    if targets.is_empty() {
        return Ok(Vec::new());
    }
    let now = yard.now;
    let live = LiveCounts::read(connection, now).await?;
    let willing = WillingPools::among(&live, yard);
    let mut all = Vec::with_capacity(targets.len());
    for target in targets {
        let standing = one(app, connection, yard, &live, &willing, &target, now).await?;
        all.push((target, standing));
    }
    Ok(all)
}

async fn one(
    app: &App,
    connection: &mut Connection,
    yard: &Yard,
    live: &LiveCounts,
    willing: &WillingPools,
    target: &Target,
    now: Moment,
) -> Result<TargetStanding, Error> {
    let promise = target.promise();
    let (scope, whose) = scope(yard, target);
    let days = |days: u64| Duration::from_secs(days * 86_400);
    let limits = &app.config.limits;
    let (five, hours) = (
        now - days(limits.five_minute_days),
        now - days(limits.hour_days),
    );
    let window = Window::new(now - promise.window(), now, scope.kind, five, hours);
    let over = sums::over(connection, &scope, &window).await?;
    // What has started and goes on is settled as well.
    let mut open = live.within(&scope, window.from, window.until);
    open.within.waits.merge(&over.waits);
    let (hour, recent) = (now - HOUR, now - RECENT);
    let (mut last_hour, mut last_minutes) =
        target::recent_waits(connection, &whose, &promise, (hour, recent), now).await?;
    for (row, keys, work_span, waits) in &live.work_spans {
        let could = match whose {
            WaitScope::Pool(pool) => {
                *waits && willing.may(&row.requirement, row.project_id.0, pool)
            }
            _ => false,
        };
        if !could && !scope.holds(keys) {
            continue;
        }
        let waited = Micros(work_span.waited());
        let wait = (work_span.ready, waited, *waits);
        // A moment is over once it has passed: what is decided now counts.
        let end = now + Duration::from_micros(1);
        last_hour.count(&promise, wait, (hour, end));
        last_minutes.count(&promise, wait, (recent, end));
        if could && work_span.ready >= window.from {
            open.ages.push(waited.0);
        }
    }
    let whole = Tally::of(&promise, &open.within.waits, &open.ages);
    Ok(TargetStanding::of(&promise, whole, last_hour, last_minutes))
}

fn scope(yard: &Yard, target: &Target) -> (Scope, WaitScope) {
    if let Some(pool) = target.pool_id {
        return (Scope::of(RollupKey::Pool(pool.0)), WaitScope::Pool(pool.0));
    }
    let Some(path) = &target.place else {
        return (Scope::yard(), WaitScope::Everybodys);
    };
    let projects = yard.places.iter();
    let mine = projects.filter(|one| one.kind == "project" && below(path, &one.path));
    let ids: Vec<PlaceId> = mine.map(|one| one.id.0).collect();
    let scope = Scope {
        kind: RollupKind::Project,
        keys: ids.iter().copied().map(RollupKey::Project).collect(),
    };
    (scope, WaitScope::Projects(ids))
}

/// Which pools could take what waits.
struct WillingPools(HashMap<(String, PlaceId), BTreeSet<PoolId>>);

impl WillingPools {
    fn among(live: &LiveCounts, yard: &Yard) -> WillingPools {
        let paths: HashMap<PlaceId, &str> = yard
            .places
            .iter()
            .map(|place| (place.id.0, place.path.as_str()))
            .collect();
        let mut found: HashMap<(String, PlaceId), BTreeSet<PoolId>> = HashMap::new();
        for (row, _, _, waits) in &live.work_spans {
            let key = (row.requirement.clone(), row.project_id.0);
            if !waits || found.contains_key(&key) {
                continue;
            }
            let path = paths.get(&key.1).copied().unwrap_or_default();
            // What is stored was parsed before; should it not parse any more, nothing takes it.
            let pools = row
                .requirement
                .parse::<Requirement>()
                .map(|requirement| yard.takers(&requirement, Origin::trusted(path)));
            found.insert(key, pools.unwrap_or_default());
        }
        WillingPools(found)
    }

    fn may(&self, requirement: &str, project: PlaceId, pool: PoolId) -> bool {
        let pools = self.0.get(&(requirement.to_owned(), project));
        pools.is_some_and(|pools| pools.contains(&pool))
    }
}
