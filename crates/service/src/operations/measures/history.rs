//! History as CSV, out and in: jobs that are over, one in each line, with the columns that docs/measures.md describes.

use crate::access::{Principal, Role};
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views::measures::history::TOLD;
use pennine_core::dispatch::{Band, SeatNeeds, StrandKey};
use pennine_core::fact::Facts;
use pennine_core::id::{AttemptId, JobId, LeaseToken, PlaceId, PoolId, RunId, RunnerId, StrandId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::requirement::Requirement;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use pennine_store::connect::in_transaction;
use pennine_store::history::{self, PastJob, PastRunner};
use pennine_store::rollup::KeyCache;
use pennine_store::{Connection, audit, measure, partition, place, pool, strand};
use pennine_wire::ImportSummary;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;
use uuid::Uuid;

/// The most bytes of a file.
pub const MOST_BYTES: usize = 64 << 20;

/// Lines that are read from, and written to, the record at once.
const AT_ONCE: usize = 2000;

/// The oldest job that is taken.
const OLDEST: Duration = Duration::from_secs(10 * 366 * 86_400);

/// What a file has to have, and what it may have besides.
const NEEDED: [&str; 6] = ["project", "pool", "ready", "started", "finished", "result"];

const OPTIONAL: [&str; 7] = [
    "title",
    "where",
    "runner",
    "assigned",
    "exit_code",
    "processor_us",
    "peak_memory_bytes",
];

/// What lines name.
struct NameCache {
    projects: HashMap<String, PlaceId>,
    pools: HashMap<String, (PoolId, i32)>,
}

impl NameCache {
    async fn read(connection: &mut Connection) -> Result<NameCache> {
        let places = place::all(connection).await?.into_iter();
        let pools = pool::list(connection).await?.into_iter();
        Ok(NameCache {
            projects: places
                .filter(|place| place.kind == "project")
                .map(|place| (place.path, place.id.0))
                .collect(),
            pools: pools
                .map(|one| (one.pool.name, (one.pool.id.0, one.pool.policy_version)))
                .collect(),
        })
    }
}

/// A line that can be imported.
#[derive(Debug)]
struct Line {
    /// What tells it from every other: its content, and which of its like it is.
    mark: [u8; 32],
    project: PlaceId,
    pool: (PoolId, i32),
    runner: String,
    title: String,
    requirement: String,
    ready: Moment,
    assigned: Moment,
    started: Moment,
    finished: Moment,
    result: Outcome,
    exit_code: Option<i32>,
    processor: Micros,
    peak_memory: ByteSize,
}

/// Reads a file whole, or says what is wrong with it, line by line.
fn read(body: &[u8], names: &NameCache, now: Moment) -> Result<Vec<Line>> {
    let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(body);
    let wrong = |message: String| ServiceError::invalid("body", message);
    let heads = reader
        .headers()
        .map_err(|error| wrong(error.to_string()))?
        .clone();
    let missing: Vec<&str> = NEEDED
        .into_iter()
        .filter(|name| !heads.iter().any(|head| head == *name))
        .collect();
    if !missing.is_empty() {
        return Err(wrong(format!(
            "the header line has no column {}",
            missing.join(", ")
        ))
        .remedy(format!(
            "required: {}; optional: {}; other columns are ignored",
            NEEDED.join(", "),
            OPTIONAL.join(", ")
        )));
    }
    let (mut lines, mut troubles, mut bad) = (Vec::new(), Vec::new(), 0usize);
    let mut like: HashMap<[u8; 32], u32> = HashMap::new();
    for record in reader.records() {
        let read = record
            .map_err(|error| error.to_string())
            .and_then(|record| {
                let number = record.position().map_or(0, csv::Position::line);
                let at: BTreeMap<&str, &str> = heads.iter().zip(record.iter()).collect();
                one(&at, names, now, &mut like)
                    .map_err(|message| format!("line {number}: {message}"))
            });
        match read {
            Ok(line) => lines.push(line),
            Err(message) => {
                bad += 1;
                if troubles.len() < TOLD {
                    troubles.push(message);
                }
            }
        }
    }
    if bad > 0 {
        if bad > troubles.len() {
            troubles.push(format!("and {} more", bad - troubles.len()));
        }
        return Err(wrong(format!(
            "nothing was imported:\n{}",
            troubles.join("\n")
        )));
    }
    Ok(lines)
}

/// The cells of a line by their column's name.
struct Cells<'a>(&'a BTreeMap<&'a str, &'a str>);

impl Cells<'_> {
    fn get(&self, name: &str) -> &str {
        self.0.get(name).copied().unwrap_or_default()
    }

    fn moment(&self, name: &str) -> Result<Moment, String> {
        let text = self.get(name);
        serde_json::from_value(text.into())
            .map_err(|_| format!("{name}: {text:?} is not a time such as 2026-11-23T06:00:00Z"))
    }

    /// A whole number; 0 where the cell is empty.
    fn number(&self, name: &str) -> Result<u64, String> {
        match self.get(name) {
            "" => Ok(0),
            text => text
                .parse()
                .map_err(|_| format!("{name}: {text:?} is not a whole number")),
        }
    }

    /// A short text; `usual` where the cell is empty.
    fn text(&self, name: &str, usual: &str) -> Result<String, String> {
        match self.get(name) {
            "" => Ok(usual.to_owned()),
            text if text.len() <= 200 && !text.contains(char::is_control) => Ok(text.to_owned()),
            _ => Err(format!(
                "{name}: at most 200 bytes, and no control characters"
            )),
        }
    }

    /// When the job became ready, was assigned, started and finished, in this order.
    fn times(&self, now: Moment) -> Result<[Moment; 4], String> {
        let ready = self.moment("ready")?;
        let (started, finished) = (self.moment("started")?, self.moment("finished")?);
        let assigned = match self.get("assigned") {
            "" => started,
            _ => self.moment("assigned")?,
        };
        if !(ready <= assigned && assigned <= started && started <= finished) {
            return Err("ready, assigned, started and finished are not in this order".to_owned());
        }
        if finished > now || now.since(ready) > OLDEST {
            return Err("the job has to have finished, within the last ten years".to_owned());
        }
        Ok([ready, assigned, started, finished])
    }

    /// The identity of a line: its content, and its number among lines of the same content, which `like` counts.
    fn mark(&self, like: &mut HashMap<[u8; 32], u32>) -> [u8; 32] {
        let mut hash = Sha256::new();
        let cells = self.0.iter();
        for (name, value) in
            cells.filter(|(name, _)| NEEDED.contains(name) || OPTIONAL.contains(name))
        {
            hash.update(format!("{name}={value}\n"));
        }
        let content: [u8; 32] = hash.finalize().into();
        let number = like.entry(content).or_default();
        *number += 1;
        Sha256::new()
            .chain_update(content)
            .chain_update(number.to_be_bytes())
            .finalize()
            .into()
    }
}

fn one(
    at: &BTreeMap<&str, &str>,
    names: &NameCache,
    now: Moment,
    like: &mut HashMap<[u8; 32], u32>,
) -> Result<Line, String> {
    let cells = Cells(at);
    let [ready, assigned, started, finished] = cells.times(now)?;
    let project = cells.get("project");
    let project = *names
        .projects
        .get(project)
        .ok_or_else(|| format!("project: unknown project {project:?}"))?;
    let pool = cells.get("pool");
    let pool = *names
        .pools
        .get(pool)
        .ok_or_else(|| format!("pool: unknown pool {pool:?}"))?;
    let result: Outcome = cells
        .get("result")
        .parse()
        .map_err(|message| format!("result: {message}"))?;
    let requirement: Requirement =
        cells
            .get("where")
            .parse()
            .map_err(|error: pennine_core::requirement::SyntaxError| {
                format!("where: column {}: {}", error.column, error.message)
            })?;
    let exit_code = match cells.get("exit_code") {
        "" => None,
        code => Some(
            code.parse()
                .map_err(|_| format!("exit_code: {code:?} is not an exit code"))?,
        ),
    };
    Ok(Line {
        mark: cells.mark(like),
        project,
        pool,
        runner: cells.text("runner", "elsewhere")?,
        title: cells.text("title", "imported")?,
        requirement: if requirement.is_any() {
            String::new()
        } else {
            requirement.to_string()
        },
        ready,
        assigned,
        started,
        finished,
        result,
        exit_code,
        processor: Micros(cells.number("processor_us")?),
        peak_memory: ByteSize(cells.number("peak_memory_bytes")?),
    })
}

/// A version 7 UUID of a moment, the same for the same mark, so that what is imported twice is noticed.
fn id_at(at: Moment, mark: &[u8; 32], which: u8) -> Uuid {
    let millis = at.micros().max(0).unsigned_abs() / 1000;
    let drawn: [u8; 32] = Sha256::new()
        .chain_update(mark)
        .chain_update([which])
        .finalize()
        .into();
    let mut random = [0; 10];
    random.copy_from_slice(drawn.first_chunk::<10>().unwrap_or(&[0; 10]));
    uuid::Builder::from_unix_timestamp_millis(millis, &random).into_uuid()
}

async fn write(
    app: &App,
    connection: &mut Connection,
    lines: &[Line],
    by: &str,
) -> Result<(), pennine_store::Error> {
    measure::lock(connection).await?;
    // Runners from elsewhere have a record of their own in their pool, retired.
    let mut runners: BTreeMap<(PoolId, &str), RunnerId> = BTreeMap::new();
    for line in lines {
        runners
            .entry((line.pool.0, &line.runner))
            .or_insert_with(|| RunnerId(app.fresh_id()));
    }
    for ((pool, name), id) in &runners {
        let mine = || {
            lines
                .iter()
                .filter(|line| line.pool.0 == *pool && line.runner == *name)
        };
        let past = PastRunner {
            id: *id,
            pool: *pool,
            name: (*name).to_owned(),
            slots: 1,
            labels: Vec::new(),
            facts: Facts::new(),
            from: mine().map(|line| line.assigned).min().unwrap_or_default(),
            until: mine().map(|line| line.finished).max().unwrap_or_default(),
            reason: format!("imported by {by}"),
        };
        history::add_runner(connection, &past).await?;
    }
    let mut strands: BTreeMap<(PlaceId, &str), StrandId> = BTreeMap::new();
    let keys: BTreeSet<(PlaceId, &str)> = lines
        .iter()
        .map(|line| (line.project, line.requirement.as_str()))
        .collect();
    for (project, requirement) in keys {
        let key = StrandKey {
            requirement: requirement.to_owned(),
            project,
            band: Band::Normal,
            seats: SeatNeeds::default(),
            workspace: None,
        };
        let fresh = StrandId(app.fresh_id());
        let id = strand::ensure(connection, fresh, &key, app.clock.now()).await?;
        strands.insert((project, requirement), id);
    }
    let mut known = KeyCache::default();
    for some in lines.chunks(AT_ONCE) {
        let jobs: Vec<PastJob> = some
            .iter()
            .filter_map(|line| {
                let strand = *strands.get(&(line.project, line.requirement.as_str()))?;
                let runner = *runners.get(&(line.pool.0, line.runner.as_str()))?;
                Some(past(line, strand, runner, by))
            })
            .collect();
        history::add_jobs(connection, &jobs).await?;
        let attempts: Vec<Uuid> = jobs.iter().map(|job| job.attempt.0).collect();
        let rows = measure::uncounted(connection, &attempts, &[]).await?;
        measure::add_work_spans(connection, &mut known, rows).await?;
    }
    Ok(())
}

fn past(line: &Line, strand: StrandId, runner: RunnerId, by: &str) -> PastJob {
    let id = |at, which| id_at(at, &line.mark, which);
    PastJob {
        imported: true,
        id: JobId(id(line.ready, 0)),
        run: RunId(id(line.ready, 1)),
        attempt: AttemptId(id(line.assigned, 2)),
        lease: LeaseToken(id(line.assigned, 3)),
        project: line.project,
        strand,
        runner,
        pool: line.pool.0,
        policy_version: line.pool.1,
        by: by.to_owned(),
        title: line.title.clone(),
        requirement: line.requirement.clone(),
        command: Vec::new(),
        band: Band::Normal,
        seats: SeatNeeds::default(),
        time_limit_us: Micros::from(line.finished.since(line.started)),
        result: line.result,
        message: None,
        exit_code: line.exit_code,
        ready_at: line.ready,
        assigned_at: line.assigned,
        started_at: line.started,
        exited_at: line.finished,
        finished_at: line.finished,
        processor_us: line.processor,
        peak_memory: line.peak_memory,
    }
}

/// Imports jobs that are over, from a CSV file: all of them, or none where a line cannot be read.
pub async fn import(app: &App, who: &Principal, body: &[u8]) -> Result<ImportSummary> {
    who.require(Role::Admin)?;
    let now = app.clock.now();
    let mut connection = app.store.patient().await?;
    let names = NameCache::read(&mut connection).await?;
    let lines = read(body, &names, now)?;
    let (Some(first), Some(last)) = (
        lines.iter().map(|line| line.ready).min(),
        lines.iter().map(|line| line.ready).max(),
    ) else {
        return Err(ServiceError::invalid(
            "body",
            "the file has no lines below its header",
        ));
    };
    partition::ensure(&mut connection, first, now).await?;
    let jobs = lines.len() as u64;
    let kept = in_transaction(&mut connection, async |connection| {
        write(app, connection, &lines, &who.name).await
    });
    match kept.await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let message =
                "a line is already on record: the file, or part of it, was imported before";
            return Err(ServiceError::conflict(
                "exists-already",
                "Already imported",
                message,
            ));
        }
        other => other?,
    }
    let detail = json!({"jobs": jobs, "first": first, "last": last});
    audit::write(
        &mut connection,
        now,
        &who.name,
        "history.import",
        "",
        detail,
    )
    .await?;
    Ok(ImportSummary { jobs, first, last })
}
