//! Imports history from CSV: a file is read whole, and then written piece by piece, each piece in a transaction of its own.
//! A file whose import was interrupted can be imported again: lines on record are skipped.

pub mod lines;

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use lines::{HistoryLine, KnownNames};
use pennine_core::access::Action;
use pennine_core::dispatch::{Band, SeatNeeds, StrandKey};
use pennine_core::fact::Facts;
use pennine_core::id::{AttemptId, JobId, LeaseToken, PlaceId, PoolId, RunId, RunnerId, StrandId};
use pennine_core::time::{Micros, Moment};
use pennine_core::trust::Trust;
use pennine_store::audit::Permit;
use pennine_store::connect::in_transaction;
use pennine_store::history::{self, PastJob, PastRunner};
use pennine_store::rollup::KeyCache;
use pennine_store::{Connection, audit, measure, partition, strand};
use pennine_wire::ImportSummary;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// The most bytes of a file.
pub const MOST_BYTES: usize = 64 << 20;

/// How many lines are written in one transaction, which excludes other updates of the sums: some tenths of a second.
const AT_ONCE: usize = 2000;

/// Checks the permission to import, before the file is read.
///
/// # Errors
/// Forbidden for every role but admin.
pub fn check_import(who: &Principal) -> Result<Permit> {
    who.require(Action::ImportHistory, "")
}

/// Imports finished jobs from a CSV file. Nothing is written where a line cannot be read. Lines that are on record are
/// skipped, and counted. Each piece of the file writes an audit row.
///
/// # Errors
/// As [`check_import`] and [`lines::read`]. An error of the database leaves the pieces that were written before.
pub async fn import(app: &App, who: &Principal, body: &[u8]) -> Result<ImportSummary> {
    let permit = check_import(who)?;
    let now = app.clock.now();
    let mut connection = app.store.patient().await?;
    let names = KnownNames::load(&mut connection).await?;
    let lines = lines::read(body, &names, now)?;
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
    let mut import = Import {
        app,
        by: permit,
        now,
        strands: BTreeMap::new(),
        keys: KeyCache::default(),
    };
    let (mut jobs, mut on_record) = (0, 0);
    for piece in lines.chunks(AT_ONCE) {
        let written = in_transaction(&mut connection, async |connection| {
            import.write(connection, piece).await
        });
        let written = written.await?;
        jobs += written as u64;
        on_record += (piece.len() - written) as u64;
    }
    Ok(ImportSummary {
        jobs,
        on_record,
        first,
        last,
    })
}

/// An import on its way.
struct Import<'a> {
    app: &'a App,
    by: Permit,
    now: Moment,
    /// Of earlier pieces, by project and requirement.
    strands: BTreeMap<(PlaceId, String), StrandId>,
    keys: KeyCache,
}

impl Import<'_> {
    /// Writes the lines of one piece that are not on record, and returns how many these were. Needs a transaction.
    async fn write(
        &mut self,
        connection: &mut Connection,
        piece: &[HistoryLine],
    ) -> Result<usize, pennine_store::Error> {
        measure::lock(connection).await?;
        let ids: Vec<JobId> = piece.iter().map(job_id).collect();
        let on_record = history::jobs_on_record(connection, &ids).await?;
        let lines: Vec<&HistoryLine> = piece
            .iter()
            .filter(|line| !on_record.contains(&job_id(line)))
            .collect();
        let (Some(first), Some(last)) = (
            lines.iter().map(|line| line.ready).min(),
            lines.iter().map(|line| line.ready).max(),
        ) else {
            return Ok(0);
        };
        self.write_runners(connection, &lines).await?;
        self.find_strands(connection, &lines).await?;
        let jobs: Vec<PastJob> = lines
            .iter()
            .filter_map(|line| self.past_job(line))
            .collect();
        history::add_jobs(connection, &jobs).await?;
        let attempts: Vec<Uuid> = jobs.iter().map(|job| job.attempt.0).collect();
        let rows = measure::uncounted(connection, &attempts, &[]).await?;
        measure::add_work_spans(connection, &mut self.keys, rows).await?;
        let detail = json!({"jobs": jobs.len(), "first": first, "last": last});
        audit::write(connection, self.now, &self.by, "history.import", "", detail).await?;
        Ok(jobs.len())
    }

    /// Runners from elsewhere have a record in their pool, retired.
    async fn write_runners(
        &self,
        connection: &mut Connection,
        lines: &[&HistoryLine],
    ) -> Result<(), pennine_store::Error> {
        let mut spans: BTreeMap<(PoolId, &str), (Moment, Moment)> = BTreeMap::new();
        for line in lines {
            let span = spans
                .entry((line.pool.0, &line.runner))
                .or_insert((line.assigned, line.finished));
            *span = (span.0.min(line.assigned), span.1.max(line.finished));
        }
        for ((pool, name), (from, until)) in spans {
            let past = PastRunner {
                id: runner_id(pool, name),
                pool,
                name: name.to_owned(),
                slots: 1,
                labels: Vec::new(),
                facts: Facts::new(),
                from,
                until,
                reason: format!("imported by {}", self.by.actor.name),
            };
            history::add_runner(connection, &past).await?;
        }
        Ok(())
    }

    async fn find_strands(
        &mut self,
        connection: &mut Connection,
        lines: &[&HistoryLine],
    ) -> Result<(), pennine_store::Error> {
        let keys: BTreeSet<(PlaceId, String)> = lines
            .iter()
            .map(|line| (line.project, line.requirement.clone()))
            .filter(|key| !self.strands.contains_key(key))
            .collect();
        for (project, requirement) in keys {
            let key = StrandKey {
                requirement: requirement.clone(),
                project,
                band: Band::Normal,
                seats: SeatNeeds::default(),
                workspace: None,
                trust: Trust::Trusted,
                approved_in: Default::default(),
            };
            let fresh = StrandId(self.app.fresh_id());
            let id = strand::ensure(connection, fresh, &key, self.now).await?;
            self.strands.insert((project, requirement), id);
        }
        Ok(())
    }

    fn past_job(&self, line: &HistoryLine) -> Option<PastJob> {
        let strand = *self
            .strands
            .get(&(line.project, line.requirement.clone()))?;
        let id = |at, part| id_at(at, &line.mark, part);
        Some(PastJob {
            imported: true,
            id: job_id(line),
            run: RunId(id(line.ready, 1)),
            attempt: AttemptId(id(line.assigned, 2)),
            lease: LeaseToken(id(line.assigned, 3)),
            project: line.project,
            strand,
            runner: runner_id(line.pool.0, &line.runner),
            pool: line.pool.0,
            policy_version: line.pool.1,
            by: self.by.actor.name.clone(),
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
        })
    }
}

fn job_id(line: &HistoryLine) -> JobId {
    JobId(id_at(line.ready, &line.mark, 0))
}

/// The record of a runner from elsewhere: one for each name in a pool, also when several files name it.
fn runner_id(pool: PoolId, name: &str) -> RunnerId {
    let mark = Sha256::new()
        .chain_update(pool.0)
        .chain_update(name)
        .finalize()
        .into();
    RunnerId(id_at(Moment::default(), &mark, 4))
}

/// A version 7 UUID of a moment, the same for the same mark and part, so that a line on record is recognised.
fn id_at(at: Moment, mark: &[u8; 32], part: u8) -> Uuid {
    let millis = at.micros().max(0).unsigned_abs() / 1000;
    let drawn: [u8; 32] = Sha256::new()
        .chain_update(mark)
        .chain_update([part])
        .finalize()
        .into();
    let mut random = [0; 10];
    random.copy_from_slice(drawn.first_chunk::<10>().unwrap_or(&[0; 10]));
    uuid::Builder::from_unix_timestamp_millis(millis, &random).into_uuid()
}
