//! What `/metrics` tells: OpenMetrics text, with the names of OpenTelemetry's CI/CD semantic conventions where there is one.
//!
//! What counts up is read from the sums of the record, so that every replica says the same and a restart resets nothing. A
//! job is the conventions' pipeline run, its project their pipeline, a runner their worker.

use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use crate::views;
use crate::views::measures::target_standings;
use crate::yard::{Yard, shown_state};
use pennine_core::access::Action;
use pennine_core::alert::AlertKind;
use pennine_core::dispatch::Reason;
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::measure::{Adder, Cell, Histogram, Resolution, Run};
use pennine_core::time::Moment;
use pennine_core::visibility::Visibility;
use pennine_store::pool::OwnedPool;
use pennine_store::rollup::{self, RollupKey, RollupKind};
use pennine_store::waiting_line::{self, LineFilter};
use pennine_store::{Connection, alert, job, machine, measure, pool, supplier};
use prometheus_client::collector::Collector;
use prometheus_client::encoding::{DescriptorEncoder, MetricEncoder, NoLabelSet, text as encoding};
use prometheus_client::metrics::MetricType;
use prometheus_client::registry::{Registry, Unit};
use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::time::Duration;

/// Upper bounds of the histograms' buckets, in seconds.
const BOUNDS: [f64; 14] = [
    0.1, 0.5, 1.0, 5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0, 1800.0, 3600.0, 7200.0, 21_600.0,
];

/// Before anything was counted.
const BEGINNING: Moment = Moment::from_micros(0);

/// Sums are there for this long ahead at most: those of the month that it is.
const AHEAD: Duration = Duration::from_secs(32 * 86_400);

type Labels = Vec<(&'static str, String)>;

/// One metric with what it is of.
enum Value {
    Gauge(f64),
    Counter(f64),
    Histogram {
        sum: f64,
        count: u64,
        buckets: Vec<(f64, u64)>,
    },
}

struct Family {
    name: &'static str,
    help: &'static str,
    unit: Option<Unit>,
    values: Vec<(Labels, Value)>,
}

impl fmt::Debug for Family {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

impl Collector for Family {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), fmt::Error> {
        let Some((_, first)) = self.values.first() else {
            return Ok(());
        };
        let kind = match first {
            Value::Gauge(_) => MetricType::Gauge,
            Value::Counter(_) => MetricType::Counter,
            Value::Histogram { .. } => MetricType::Histogram,
        };
        let unit = self.unit.as_ref();
        let mut family = encoder.encode_descriptor(self.name, self.help, unit, kind)?;
        for (labels, value) in &self.values {
            if labels.is_empty() {
                write(&mut family, value)?;
            } else {
                write(&mut family.encode_family(labels)?, value)?;
            }
        }
        Ok(())
    }
}

fn write(metric: &mut MetricEncoder<'_>, value: &Value) -> Result<(), fmt::Error> {
    match value {
        Value::Gauge(value) => metric.encode_gauge(value),
        Value::Counter(value) => metric.encode_counter::<NoLabelSet, f64, f64>(value, None),
        Value::Histogram {
            sum,
            count,
            buckets,
        } => metric.encode_histogram::<NoLabelSet>(*sum, *count, buckets, None),
    }
}

/// Counts for each bucket, the last of them for all that is longer.
fn buckets(histogram: &Histogram) -> Vec<(f64, u64)> {
    let mut counts: Vec<(f64, u64)> = BOUNDS.iter().map(|bound| (*bound, 0)).collect();
    counts.push((f64::INFINITY, 0));
    for (micros, count) in histogram.values() {
        let seconds = micros as f64 / 1e6;
        if let Some(bucket) = counts.iter_mut().find(|(bound, _)| seconds <= *bound) {
            bucket.1 += count;
        }
    }
    counts
}

fn duration(histogram: &Histogram, sum_us: u64) -> Value {
    Value::Histogram {
        sum: seconds(sum_us),
        count: histogram.count(),
        buckets: buckets(histogram),
    }
}

fn seconds(micros: u64) -> f64 {
    micros as f64 / 1e6
}

/// Everything that was ever counted of a kind, by its key.
async fn totals(
    connection: &mut Connection,
    kind: RollupKind,
    now: Moment,
) -> Result<HashMap<RollupKey, Cell>> {
    let run = Run {
        resolution: Resolution::Month,
        from: BEGINNING,
        until: now + AHEAD,
    };
    let mut sums: HashMap<i64, Adder> = HashMap::new();
    for one in rollup::stored_sums(connection, run, kind, None).await? {
        rollup::add(sums.entry(one.key).or_default(), &one)?;
    }
    let numbers: Vec<i64> = sums.keys().copied().collect();
    let mut keys = rollup::keys(connection, &numbers).await?;
    let mut by_key = HashMap::new();
    for (number, adder) in sums {
        if let Some(key) = keys.remove(&number) {
            by_key.insert(key, rollup::summed(adder)?);
        }
    }
    Ok(by_key)
}

async fn jobs(
    connection: &mut Connection,
    sees: &Visibility,
    yard: &Yard,
    now: Moment,
) -> Result<Vec<Family>> {
    let path = |id: PlaceId| {
        let mut places = yard.places.iter();
        let place = places.find(|place| place.id.0 == id)?;
        Some(place.path.clone()).filter(|path| sees.includes(path))
    };
    let mut counts: BTreeMap<(String, JobState), i64> = BTreeMap::new();
    for (project, state, count) in job::active(connection).await? {
        if let Some(name) = path(project) {
            *counts.entry((name, state)).or_default() += count;
        }
    }
    for line in waiting_line::by_project(connection).await? {
        if let Some(name) = path(line.project_id.0) {
            *counts.entry((name, JobState::Pending)).or_default() += line.jobs;
        }
    }
    let active = counts.into_iter().map(|((name, state), count)| {
        let labels = vec![
            ("cicd_pipeline_name", name),
            ("cicd_pipeline_run_state", state.to_string()),
        ];
        (labels, Value::Gauge(count as f64))
    });
    let (mut durations, mut ended, mut errors) = (Vec::new(), Vec::new(), Vec::new());
    let mut by_project: BTreeMap<String, Cell> = BTreeMap::new();
    for (key, cell) in totals(connection, RollupKind::Project, now).await? {
        let RollupKey::Project(project) = key else {
            continue;
        };
        if let Some(name) = path(project) {
            by_project.entry(name).or_default().merge(&cell);
        }
    }
    for (name, cell) in &by_project {
        let of = |more: &[(&'static str, String)]| -> Labels {
            let first = ("cicd_pipeline_name", name.clone());
            std::iter::once(first).chain(more.iter().cloned()).collect()
        };
        let state = |state: JobState| of(&[("cicd_pipeline_run_state", state.to_string())]);
        let waited: u64 = cell.waited.iter().sum();
        durations.push((state(JobState::Pending), duration(&cell.waits, waited)));
        durations.push((state(JobState::Executing), duration(&cell.runs, cell.ran)));
        for (result, count) in Outcome::ALL.iter().zip(cell.results) {
            let count = Value::Counter(count as f64);
            if matches!(result, Outcome::Failure | Outcome::Error | Outcome::Timeout) {
                errors.push((of(&[("error_type", result.to_string())]), count));
            } else {
                ended.push((of(&[("cicd_pipeline_result", result.to_string())]), count));
            }
        }
    }
    Ok(vec![
        Family {
            name: "cicd_pipeline_run_active",
            help: "Open jobs, by project and state",
            unit: None,
            values: active.collect(),
        },
        Family {
            name: "cicd_pipeline_run_duration",
            help: "Durations of finished jobs: pending (the wait for a runner) and executing",
            unit: Some(Unit::Seconds),
            values: durations,
        },
        Family {
            name: "cicd_pipeline_run_errors",
            help: "Jobs that ended with failure, error or timeout, by project and result",
            unit: None,
            values: errors,
        },
        Family {
            name: "pennine_jobs_ended",
            help: "Jobs that succeeded, were cancelled or skipped, by project and result",
            unit: None,
            values: ended,
        },
    ])
}

/// The queue, and how far the sums and the lead are.
async fn queue(
    app: &App,
    connection: &mut Connection,
    sees: &Visibility,
    now: Moment,
) -> Result<Vec<Family>> {
    let filter = LineFilter {
        visible: sees.paths().map(<[String]>::to_vec),
        ..LineFilter::default()
    };
    let groups = waiting_line::groups(connection, &filter).await?;
    let waiting = Reason::ALL.iter().map(|reason| {
        let of_reason = groups.iter().filter(|group| group.reason.0 == *reason);
        let jobs: i64 = of_reason.map(|group| group.jobs).sum();
        (
            vec![("reason", reason.to_string())],
            Value::Gauge(jobs as f64),
        )
    });
    let oldest = groups.iter().map(|group| group.oldest.0).min();
    let longest = oldest.map_or(0.0, |oldest| now.since(oldest).as_secs_f64());
    let (_, counted) = measure::progress(connection).await?;
    let leads = if app.leads() { 1.0 } else { 0.0 };
    Ok(vec![
        Family {
            name: "pennine_waiting_jobs",
            help: "Waiting jobs, by reason",
            unit: None,
            values: waiting.collect(),
        },
        Family {
            name: "pennine_longest_wait",
            help: "Age of the oldest waiting job",
            unit: Some(Unit::Seconds),
            values: vec![(Vec::new(), Value::Gauge(longest))],
        },
        Family {
            name: "pennine_counted_until_timestamp",
            help: "Time up to which finished work is included in the counters",
            unit: Some(Unit::Seconds),
            values: vec![(Vec::new(), Value::Gauge(counted.micros() as f64 / 1e6))],
        },
        Family {
            name: "pennine_leads",
            help: "1 at the replica that leads dispatch",
            unit: None,
            values: vec![(Vec::new(), Value::Gauge(leads))],
        },
    ])
}

/// The pools of which metrics are shown: those whose owners' places are visible.
fn pools<'a>(sees: &'a Visibility, yard: &'a Yard) -> impl Iterator<Item = &'a OwnedPool> {
    let pools = yard.pools.iter();
    pools.filter(|owned| sees.includes(&owned.owner))
}

/// Runners and their slots.
fn runners(sees: &Visibility, yard: &Yard) -> Vec<Family> {
    let (mut workers, mut slots, mut used) = (Vec::new(), Vec::new(), Vec::new());
    for pool in pools(sees, yard) {
        let mine = || {
            yard.runners
                .iter()
                .filter(|runner| runner.pool_id == pool.pool.id)
        };
        let name = &pool.pool.name;
        for state in RunnerState::ALL
            .iter()
            .filter(|state| **state != RunnerState::Retired)
        {
            let count = mine()
                .filter(|runner| shown_state(runner) == *state)
                .count();
            let labels = vec![
                ("pennine_pool", name.clone()),
                ("cicd_worker_state", state.to_string()),
            ];
            workers.push((labels, Value::Gauge(count as f64)));
        }
        let (all, free) = crate::yard::slots(mine());
        if all > 0 {
            let labels = vec![("pennine_pool", name.clone())];
            let share = f64::from(all.saturating_sub(free)) / f64::from(all);
            used.push((labels, Value::Gauge(share)));
        }
        for (state, count) in [("free", free), ("busy", all.saturating_sub(free))] {
            let labels = vec![("pennine_pool", name.clone()), ("state", state.to_owned())];
            slots.push((labels, Value::Gauge(f64::from(count))));
        }
    }
    vec![
        Family {
            name: "cicd_worker_count",
            help: "Runners by pool and state",
            unit: None,
            values: workers,
        },
        Family {
            name: "pennine_slots",
            help: "Slots of connected runners that take work, by pool",
            unit: None,
            values: slots,
        },
        Family {
            name: "pennine_pool_utilisation",
            help: "Busy part of the slots of connected runners that take work, by pool",
            unit: Some(Unit::Ratios),
            values: used,
        },
    ]
}

/// What is counted up of each pool: slot-time, machine-time and cost.
async fn pool_sums(
    connection: &mut Connection,
    sees: &Visibility,
    yard: &Yard,
    now: Moment,
) -> Result<Vec<Family>> {
    // Pools that were removed belong to the root.
    let names: HashMap<PoolId, String> = match sees.is_whole() {
        true => pool::every(connection).await?.into_iter().collect(),
        false => pools(sees, yard)
            .map(|owned| (owned.pool.id.0, owned.pool.name.clone()))
            .collect(),
    };
    // A pool's name may have been another's before.
    let mut by_pool: BTreeMap<String, Cell> = BTreeMap::new();
    for (key, cell) in totals(connection, RollupKind::Pool, now).await? {
        let RollupKey::Pool(pool) = key else {
            continue;
        };
        if let Some(name) = names.get(&pool) {
            by_pool.entry(name.clone()).or_default().merge(&cell);
        }
    }
    let mut by_reason: BTreeMap<(String, Reason), Cell> = BTreeMap::new();
    for (key, cell) in totals(connection, RollupKind::PoolReason, now).await? {
        let RollupKey::PoolReason { pool, reason } = key else {
            continue;
        };
        if let Some(name) = names.get(&pool) {
            let sum = by_reason.entry((name.clone(), reason)).or_default();
            sum.merge(&cell);
        }
    }
    let reasons = by_reason.into_iter().map(|((name, reason), cell)| {
        let labels = vec![("pennine_pool", name), ("reason", reason.to_string())];
        (labels, duration(&cell.waits, cell.waited.iter().sum()))
    });
    let mut waits = Vec::new();
    let (mut slot_time, mut machine_time, mut cost) = (Vec::new(), Vec::new(), Vec::new());
    for (name, cell) in &by_pool {
        let pool = || vec![("pennine_pool", name.clone())];
        waits.push((pool(), duration(&cell.waits, cell.waited.iter().sum())));
        let of = |kind: &str| vec![("pennine_pool", name.clone()), ("kind", kind.to_owned())];
        slot_time.push((of("busy"), Value::Counter(seconds(cell.busy))));
        slot_time.push((of("offered"), Value::Counter(seconds(cell.offered))));
        machine_time.push((of("paid"), Value::Counter(seconds(cell.paid))));
        machine_time.push((of("served"), Value::Counter(seconds(cell.served))));
        let spent = Value::Counter(cell.money().0 as f64 / 1e6);
        cost.push((vec![("pennine_pool", name.clone())], spent));
    }
    Ok(vec![
        Family {
            name: "pennine_wait",
            help: "Finished waits for a runner, by the pool that ended them",
            unit: Some(Unit::Seconds),
            values: waits,
        },
        Family {
            name: "pennine_wait_reason",
            help: "The parts of these waits that were for one reason, by pool and reason",
            unit: Some(Unit::Seconds),
            values: reasons.collect(),
        },
        Family {
            name: "pennine_slot_time",
            help: "Slot-time that finished attempts held and that runners offered, by pool",
            unit: Some(Unit::Seconds),
            values: slot_time,
        },
        Family {
            name: "pennine_machine_time",
            help: "Paid machine-time of machines that are gone, and the part of it in which their runners were connected",
            unit: Some(Unit::Seconds),
            values: machine_time,
        },
        Family {
            name: "pennine_machine_cost",
            help: "Cost of machines that are gone, in the installation's currency, by pool",
            unit: None,
            values: cost,
        },
    ])
}

/// Machines and their suppliers.
async fn machines(
    connection: &mut Connection,
    sees: &Visibility,
    yard: &Yard,
    now: Moment,
) -> Result<Vec<Family>> {
    let existing = machine::existing(connection).await?;
    let there: Vec<MachineState> = MachineState::ALL
        .iter()
        .copied()
        .filter(|state| state.exists())
        .collect();
    let mut made = Vec::new();
    for pool in pools(sees, yard).filter(|pool| pool.supply().is_some()) {
        for state in &there {
            let mine = existing
                .iter()
                .filter(|one| one.pool_id == pool.pool.id && one.state.0 == *state);
            let labels = vec![
                ("pennine_pool", pool.pool.name.clone()),
                ("state", state.to_string()),
            ];
            made.push((labels, Value::Gauge(mine.count() as f64)));
        }
    }
    let suppliers = match sees.is_whole() {
        true => supplier::list(connection).await?,
        false => Vec::new(),
    };
    let failing = suppliers.iter().map(|row| {
        let fails = row.failure.is_some() && row.retry_at.is_some_and(|at| at.0 > now);
        let labels = vec![("supplier", row.name.clone())];
        (labels, Value::Gauge(if fails { 1.0 } else { 0.0 }))
    });
    Ok(vec![
        Family {
            name: "pennine_machines",
            help: "Machines that suppliers made, by pool and state",
            unit: None,
            values: made,
        },
        Family {
            name: "pennine_supplier_failing",
            help: "1 while a failed supplier is backed off",
            unit: None,
            values: failing.collect(),
        },
    ])
}

/// Targets and open alerts.
async fn promises(
    app: &App,
    connection: &mut Connection,
    sees: &Visibility,
    yard: &Yard,
) -> Result<Vec<Family>> {
    let all = views::measures::target::visible(connection, sees).await?;
    let (mut waits, mut allowed) = (Vec::new(), Vec::new());
    for (target, standing) in target_standings::standings(app, connection, yard, all).await? {
        let name = || ("target", target.name.clone());
        for (word, count) in [
            ("kept", standing.window.kept),
            ("late", standing.window.late),
            ("undecided", standing.window.undecided),
        ] {
            let labels = vec![name(), ("state", word.to_owned())];
            waits.push((labels, Value::Gauge(count as f64)));
        }
        allowed.push((vec![name()], Value::Gauge(standing.allowed as f64)));
    }
    let open = alert::open(connection).await?;
    let told = views::measures::alert::visible(connection, sees, open).await?;
    let alerts = AlertKind::ALL.iter().map(|kind| {
        let mine = told
            .iter()
            .filter(|one| one.kind.0 == *kind && one.state.0.is_told());
        let labels = vec![("kind", kind.to_string())];
        (labels, Value::Gauge(mine.count() as f64))
    });
    Ok(vec![
        Family {
            name: "pennine_target_waits",
            help: "Waits in a target's window: in time, late, or undecided",
            unit: None,
            values: waits,
        },
        Family {
            name: "pennine_target_allowed_late_waits",
            help: "Late waits that a target's window allows: its error budget",
            unit: None,
            values: allowed,
        },
        Family {
            name: "pennine_alerts",
            help: "Open alerts, by kind",
            unit: None,
            values: alerts.collect(),
        },
    ])
}

/// Returns the metrics as OpenMetrics text: those of the places at which the principal may read them.
pub async fn text(app: &App, who: &Principal) -> Result<String> {
    let sees = Visibility::of(&who.rights, Action::ReadMetrics);
    let yard = app.yard.recent(&app.store, &app.clock).await?;
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let mut registry = Registry::default();
    let mut families = jobs(&mut connection, &sees, &yard, now).await?;
    families.extend(queue(app, &mut connection, &sees, now).await?);
    families.extend(runners(&sees, &yard));
    families.extend(pool_sums(&mut connection, &sees, &yard, now).await?);
    families.extend(machines(&mut connection, &sees, &yard, now).await?);
    families.extend(promises(app, &mut connection, &sees, &yard).await?);
    for family in families {
        registry.register_collector(Box::new(family));
    }
    let mut body = String::new();
    encoding::encode(&mut body, &registry)
        .map_err(|error| crate::error::ServiceError::ours(&std::io::Error::other(error)))?;
    Ok(body)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_value_is_in_one_bucket() {
        let mut histogram = Histogram::default();
        for micros in [50_000, 100_000, 700_000, 59_000_000, 90_000_000_000] {
            histogram.add(micros);
        }
        let counts = buckets(&histogram);
        assert_eq!(counts.iter().map(|(_, count)| count).sum::<u64>(), 5);
        assert_eq!(counts.last(), Some(&(f64::INFINITY, 1)));
        let at = |bound: f64| counts.iter().find(|(one, _)| *one == bound).unwrap().1;
        assert_eq!((at(0.1), at(1.0), at(60.0)), (2, 1, 1));
    }
}
