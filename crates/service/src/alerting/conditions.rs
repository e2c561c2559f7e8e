//! The conditions of alerts.

use crate::app::App;
use crate::views::capacity_state;
use crate::views::measures::target_standings;
use crate::yard::{Yard, shown_state};
use pennine_core::alert::{AlertKind, Condition, Thresholds};
use pennine_core::capacity::Money;
use pennine_core::count::grouped;
use pennine_core::dispatch::Entity;
use pennine_core::id::ShortName;
use pennine_core::lifecycle::job::JobState;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::sign_in::MANY;
use pennine_core::target::TargetState;
use pennine_core::time::{Moment, spoken};
use pennine_store::runner::{self, Runner};
use pennine_store::waiting_line::{self, UnmatchedLine};
use pennine_store::{Connection, Error, capacity, job, machine, sign_in, supplier, target, token};
use pennine_wire::AlertAbout;
use serde_json::Value;
use std::collections::BTreeMap;
use std::time::Duration;

/// The most alerts of one kind; beyond it, the worst are raised.
const OF_A_KIND: usize = 50;
/// Names that one sentence holds.
const NAMED: usize = 5;

/// Everything that is so.
pub async fn all(
    app: &App,
    connection: &mut Connection,
    thresholds: &Thresholds,
    now: Moment,
) -> Result<Vec<Condition<Value>>, Error> {
    let yard = Yard::read(connection, now).await?;
    let most = i64::try_from(OF_A_KIND).unwrap_or(i64::MAX);
    let unmatched = waiting_line::unmatched(connection, most).await?;
    let mut found = no_match(&unmatched, &yard);
    found.extend(full(connection, &yard).await?);
    found.extend(failing(connection).await?);
    found.extend(idle(connection, &yard, thresholds.idle_us.into()).await?);
    found.extend(near_budget(connection, &yard, thresholds.budget_percent, now).await?);
    found.extend(set_aside(connection, now).await?);
    found.extend(stalled(app));
    found.extend(expiring(connection, now).await?);
    found.extend(guessed(connection, now).await?);
    let all = target::list(connection).await?;
    for (target, standing) in target_standings::standings(app, connection, &yard, all).await? {
        let about = AlertAbout {
            pool: target.pool.clone(),
            place: target.place.clone(),
            target: Some(target.name.clone()),
            remedy: "see why jobs wait: pennine queue, and pennine trends waits".to_owned(),
            ..AlertAbout::default()
        };
        let (name, promise) = (target.name.as_str(), target.promise());
        let within = spoken(promise.within_us.into());
        if standing.fast {
            let hour = &standing.hour;
            let breaks = match (standing.state, standing.missed_in_us) {
                (TargetState::Missed, _) => "; the target is missed".to_owned(),
                (_, Some(breaks)) => {
                    format!("; at this rate it is missed in {}", spoken(breaks.into()))
                }
                (_, None) => String::new(),
            };
            let message = format!(
                "Target {name} at risk: {} of {} jobs waited longer than {within} in the last hour{breaks}.",
                grouped(hour.late),
                grouped(hour.decided()),
            );
            found.push(condition(
                AlertKind::TargetAtRisk,
                name,
                None,
                message,
                &about,
            ));
        }
        if standing.state == TargetState::Missed {
            let message = format!(
                "Target {name} missed: {} of {} jobs waited longer than {within} in the last {} (allowed: {}).",
                grouped(standing.window.late),
                grouped(standing.window.decided()),
                spoken(promise.window()),
                grouped(standing.allowed),
            );
            found.push(condition(
                AlertKind::TargetMissed,
                name,
                None,
                message,
                &about,
            ));
        }
    }
    let mut told: BTreeMap<AlertKind, usize> = BTreeMap::new();
    found.retain(|one| {
        let count = told.entry(one.kind).or_default();
        *count += 1;
        *count <= OF_A_KIND
    });
    Ok(found)
}

/// Background tasks of this replica that make no progress.
fn stalled(app: &App) -> Vec<Condition<Value>> {
    let about = AlertAbout {
        remedy: "restart this pennined: its log says what it did last, and another replica or the next process goes on"
            .to_owned(),
        ..AlertAbout::default()
    };
    let all = app.turns.stalled().into_iter();
    all.map(|one| {
        let message = format!(
            "The background task {} of {} has made no progress for {}.",
            one.task,
            app.public_url,
            spoken(one.since)
        );
        condition(
            AlertKind::TaskStalled,
            one.task.name(),
            None,
            message,
            &about,
        )
    })
    .collect()
}

fn condition(
    kind: AlertKind,
    subject: &str,
    since: Option<Moment>,
    message: String,
    about: &AlertAbout,
) -> Condition<Value> {
    Condition {
        kind,
        subject: subject.to_owned(),
        since,
        message,
        about: serde_json::to_value(about).unwrap_or_default(),
    }
}

fn jobs(count: u64) -> String {
    match count {
        1 => "1 job".to_owned(),
        n => format!("{n} jobs"),
    }
}

fn verb(count: u64, one: &str, many: &str) -> String {
    if count == 1 { one } else { many }.to_owned()
}

/// Some names, and how many more there are.
fn names(all: &[&str]) -> String {
    let some = all
        .iter()
        .take(NAMED)
        .copied()
        .collect::<Vec<_>>()
        .join(", ");
    match all.len().saturating_sub(NAMED) {
        0 => some,
        more => format!("{some} and {more} more"),
    }
}

/// Projects with jobs that nothing can ever run, the longest wait first.
fn no_match(projects: &[UnmatchedLine], yard: &Yard) -> Vec<Condition<Value>> {
    let one = |line: &UnmatchedLine| {
        let count = line.jobs.max(0).unsigned_abs();
        let first = ShortName::Job.name(line.first);
        let waiting = format!(
            "{} of {} {}",
            jobs(count),
            line.project,
            verb(count, "waits", "wait")
        );
        let message = match line.requirements {
            1 => format!(
                "{waiting} for a requirement that no runner and no pool can satisfy: {}.",
                line.requirement
            ),
            n => format!(
                "{waiting} for {} requirements that no runner and no pool can satisfy; the longest wait is for {}.",
                grouped(n.max(0).unsigned_abs()),
                line.requirement
            ),
        };
        let hints = line.requirement.parse().map(|parsed| yard.hints(&parsed));
        let see = format!("pennine why {first}");
        let about = AlertAbout {
            place: Some(line.project.clone()),
            remedy: match hints.unwrap_or_default().first() {
                Some(hint) => format!("{} ({see})", hint.describe()),
                None => see,
            },
            job: Some(first),
            ..AlertAbout::default()
        };
        let since = Some(line.oldest.0);
        condition(AlertKind::NoMatch, &line.project, since, message, &about)
    };
    projects.iter().map(one).collect()
}

/// Pools that have as many machines as they may while jobs wait for one more.
async fn full(connection: &mut Connection, yard: &Yard) -> Result<Vec<Condition<Value>>, Error> {
    let mut found = Vec::new();
    for owned in &yard.pools {
        let name = owned.pool.name.as_str();
        let Some(ceiling) = owned.view().full.filter(|ceiling| *ceiling > 0) else {
            continue;
        };
        let levels = capacity::levels(connection, owned.pool.id.0, yard.now).await?;
        let jobs_waiting = match levels.last() {
            Some((_, level)) if level.waiting > 0 => u64::from(level.waiting),
            _ => continue,
        };
        let machines = match ceiling {
            1 => "its one machine".to_owned(),
            n => format!("all of its {n} machines"),
        };
        let message = format!(
            "{name} uses {machines}, and {} that it can run {}.",
            jobs(jobs_waiting),
            verb(jobs_waiting, "waits", "wait"),
        );
        let about = AlertAbout {
            pool: Some(name.to_owned()),
            remedy: format!(
                "preview a higher ceiling: pennine pool set {name} --ceiling {} --preview",
                ceiling + 1
            ),
            ..AlertAbout::default()
        };
        found.push(condition(AlertKind::PoolFull, name, None, message, &about));
    }
    Ok(found)
}

async fn failing(connection: &mut Connection) -> Result<Vec<Condition<Value>>, Error> {
    let rows = supplier::list(connection).await?;
    let failing = rows.iter().filter_map(|row| {
        let (failure, since) = row.failure.as_ref().zip(row.failing_since)?;
        let message = format!("Supplier {} fails: {failure}.", row.name);
        let about = AlertAbout {
            supplier: Some(row.name.clone()),
            remedy: format!("pennine supplier check {}", row.name),
            ..AlertAbout::default()
        };
        let kind = AlertKind::SupplierFailing;
        Some(condition(kind, &row.name, Some(since.0), message, &about))
    });
    Ok(failing.collect())
}

/// Runners that have had nothing to do for days, by pool.
async fn idle(
    connection: &mut Connection,
    yard: &Yard,
    long: Duration,
) -> Result<Vec<Condition<Value>>, Error> {
    let lasts = |since: Moment| yard.now.since(since) >= long;
    let free: Vec<&Runner> = (yard.runners.iter())
        .filter(|runner| shown_state(runner) == RunnerState::Available && runner.used() == 0)
        .filter(|runner| lasts(runner.state_since.0))
        .collect();
    let ids: Vec<_> = free.iter().map(|runner| runner.id).collect();
    let worked = runner::last_worked(connection, &ids).await?;
    let mut idle: BTreeMap<&str, Vec<(&str, Moment)>> = BTreeMap::new();
    for runner in free {
        let joined = runner.state_since.0;
        let since = worked
            .get(&runner.id.0)
            .map_or(joined, |at| joined.max(*at));
        if lasts(since) {
            let pool = idle.entry(runner.pool.as_str()).or_default();
            pool.push((runner.name.as_str(), since));
        }
    }
    Ok(idle_alerts(idle, long))
}

fn idle_alerts(idle: BTreeMap<&str, Vec<(&str, Moment)>>, long: Duration) -> Vec<Condition<Value>> {
    idle.into_iter()
        .map(|(pool, runners)| {
            let all: Vec<&str> = runners.iter().map(|(name, _)| *name).collect();
            let latest = runners.iter().map(|(_, since)| *since).max();
            let count = all.len() as u64;
            let message = format!(
                "{} of {pool} {} had no job for {} or longer: {}.",
                match count {
                    1 => "1 runner".to_owned(),
                    n => format!("{n} runners"),
                },
                verb(count, "has", "have"),
                spoken(long),
                names(&all)
            );
            let about = AlertAbout {
                pool: Some(pool.to_owned()),
                remedy: format!("see its utilisation: pennine trends --pool {pool} --last 14d"),
                ..AlertAbout::default()
            };
            condition(AlertKind::MachinesIdle, pool, latest, message, &about)
        })
        .collect()
}

/// What is left out of dispatch.
/// A token expires soon where it does within this ...
const EXPIRES_SOON: Duration = Duration::from_secs(7 * 86_400);
/// ... and is in use where it was used within this.
const IN_USE: Duration = Duration::from_secs(30 * 86_400);

async fn expiring(
    connection: &mut Connection,
    now: Moment,
) -> Result<Vec<Condition<Value>>, Error> {
    let most = i64::try_from(OF_A_KIND).unwrap_or(i64::MAX);
    let soon = now + EXPIRES_SOON;
    let tokens = token::expiring(connection, now, soon, now - IN_USE, most).await?;
    let conditions = tokens.into_iter().filter_map(|token| {
        let at = token.expires_at?.0.minute();
        let message = format!("Token {} is in use and expires on {at}.", token.name);
        let about = AlertAbout {
            place: Some(token.place).filter(|place| !place.is_empty()),
            remedy: format!(
                "give it another secret, and its programs that one: pennine token rotate {}",
                token.name
            ),
            ..AlertAbout::default()
        };
        Some(condition(
            AlertKind::TokenExpiring,
            &token.name,
            None,
            message,
            &about,
        ))
    });
    Ok(conditions.collect())
}

/// People whose passwords are guessed, also from many addresses.
async fn guessed(connection: &mut Connection, now: Moment) -> Result<Vec<Condition<Value>>, Error> {
    let people = sign_in::guessed(connection, MANY, now).await?;
    let conditions = people.into_iter().map(|one| {
        let from = match one.addresses {
            1 => "one address".to_owned(),
            addresses => format!("{addresses} addresses"),
        };
        let message = format!(
            "{} sign-ins as {} from {from} have failed within an hour.",
            one.failures, one.name
        );
        let about = AlertAbout {
            remedy: format!(
                "ask {} whether that was them; a second factor (Settings, My account) makes a guessed password useless",
                one.name
            ),
            ..AlertAbout::default()
        };
        condition(AlertKind::SignInGuessing, &one.name, None, message, &about)
    });
    Ok(conditions.collect())
}

async fn set_aside(
    connection: &mut Connection,
    now: Moment,
) -> Result<Vec<Condition<Value>>, Error> {
    let mut found = Vec::new();
    for one in pennine_store::set_aside::list(connection, now).await? {
        let entity = one.entity.0;
        let job = match entity {
            Entity::Job(id) => job::with_ids(connection, &[id]).await?.pop(),
            _ => None,
        };
        if job
            .as_ref()
            .is_some_and(|job| job.state.0 == JobState::Done)
        {
            continue;
        }
        let job = job.map(|job| ShortName::Job.name(job.number));
        let remedy = match &job {
            Some(job) => format!("cancel it and submit it again: pennine job cancel {job}"),
            None => "cancel the jobs concerned, or restart the service".to_owned(),
        };
        let about = AlertAbout {
            job: job.clone(),
            remedy: format!("{remedy}; report the defect with the service's log"),
            ..AlertAbout::default()
        };
        let name = job.map_or_else(|| entity.to_string(), |job| format!("job {job}"));
        let message = format!(
            "Dispatch has set {name} aside, because it made the dispatch state inconsistent twice ({}). All other jobs continue.",
            one.problem
        );
        let since = Some(one.first_at.0);
        let subject = entity.to_string();
        found.push(condition(
            AlertKind::SetAside,
            &subject,
            since,
            message,
            &about,
        ));
    }
    Ok(found)
}

/// Pools that have nearly spent what they may.
async fn near_budget(
    connection: &mut Connection,
    yard: &Yard,
    percent: u32,
    now: Moment,
) -> Result<Vec<Condition<Value>>, Error> {
    let limited = yard.pools.iter().filter(|owned| {
        let budget = owned.supply().map(|supply| supply.budget);
        budget.is_some_and(|budget| budget.day.is_some() || budget.month.is_some())
    });
    let managed_pools: Vec<_> = limited
        .clone()
        .filter_map(|owned| capacity_state::managed_pool(owned, false, &[]))
        .collect();
    if managed_pools.is_empty() {
        return Ok(Vec::new());
    }
    let machines = machine::existing(connection).await?;
    let keeper = capacity_state::read(connection, &managed_pools, &[], &machines, now).await?;
    let share = u128::from(percent);
    let mut found = Vec::new();
    for owned in limited {
        let name = owned.pool.name.as_str();
        let Some(budget) = owned.supply().map(|supply| supply.budget) else {
            continue;
        };
        let (day, month) = keeper.spent(owned.pool.id.0, now);
        let near = |spent: Money, budget: Option<Money>| {
            // A pool that may spend nothing is switched off.
            budget.filter(|all| all.0 > 0 && u128::from(spent.0) * 100 >= u128::from(all.0) * share)
        };
        for (spent, limit, word) in [
            (day, budget.day, "today"),
            (month, budget.month, "this month"),
        ] {
            let Some(all) = near(spent, limit) else {
                continue;
            };
            let message = format!("{name} has spent {spent} of {word}'s budget of {all}.");
            let about = AlertAbout {
                pool: Some(name.to_owned()),
                remedy: format!(
                    "no machines are ordered once it is spent; see pennine pool show {name}"
                ),
                ..AlertAbout::default()
            };
            let subject = format!("{name} {word}");
            found.push(condition(
                AlertKind::BudgetNear,
                &subject,
                None,
                message,
                &about,
            ));
        }
    }
    Ok(found)
}
