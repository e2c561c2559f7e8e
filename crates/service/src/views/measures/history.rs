//! History as CSV, out and in: jobs that are over, one in each line, with the columns that docs/measures.md describes.

use crate::app::App;
use futures::Stream;
use pennine_core::dispatch::Reason;
use pennine_core::id::ShortName;
use pennine_core::time::Moment;
use pennine_store::work_span;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;

/// The most lines whose errors are reported.
pub const TOLD: usize = 20;

/// Which stretch of time.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields, default)]
pub struct TimeRange {
    /// Of jobs that became ready from then on (RFC 3339).
    from: Option<Moment>,
    /// Before then; now when not given.
    until: Option<Moment>,
}

/// Lines that are read at once.
const LINES_AT_ONCE: i64 = 2000;

/// Every attempt that is over, and every wait that led to none, in the order in which they became ready: CSV, some lines
/// at a time.
pub fn export(
    app: &App,
    when: TimeRange,
) -> impl Stream<Item = std::result::Result<Vec<u8>, pennine_store::Error>> + use<> {
    let until = when.until.unwrap_or_else(|| app.clock.now());
    let start = (when.from.unwrap_or_default(), Uuid::nil(), true);
    let store = app.store.clone();
    futures::stream::try_unfold(start, move |(from, after, first)| {
        let store = store.clone();
        async move {
            let mut connection = store.analysis().await?;
            let rows =
                work_span::between(&mut connection, (from, after), until, LINES_AT_ONCE).await?;
            let Some(last) = rows.last() else {
                return Ok(first.then(|| (heads(), (until, Uuid::max(), false))));
            };
            let next = (last.past.ready_at.0, last.id, false);
            let mut text = if first { heads() } else { Vec::new() };
            for row in &rows {
                text.extend(line(&fields(row)));
            }
            Ok::<_, pennine_store::Error>(Some((text, next)))
        }
    })
}

pub fn line(fields: &[String]) -> Vec<u8> {
    let mut writer = csv::Writer::from_writer(Vec::new());
    // Writing to memory does not fail.
    let _ = writer.write_record(fields);
    writer.into_inner().unwrap_or_default()
}

pub fn heads() -> Vec<u8> {
    let first = [
        "job",
        "title",
        "project",
        "where",
        "pool",
        "runner",
        "ready",
        "assigned",
        "started",
        "finished",
        "result",
        "waited_us",
        "processor_us",
        "peak_memory_bytes",
    ];
    let reasons = Reason::ALL
        .iter()
        .map(|reason| format!("waited_{reason}_us").replace('-', "_"));
    let heads: Vec<String> = first
        .map(str::to_owned)
        .into_iter()
        .chain(reasons)
        .collect();
    line(&heads)
}

pub fn fields(row: &work_span::RecordedSpan) -> Vec<String> {
    let past = &row.past;
    let at = |at: Option<Moment>| at.map_or(String::new(), |at| at.to_string());
    let mut fields = vec![
        ShortName::Job.name(past.job_number),
        past.title.clone(),
        past.project.clone(),
        past.requirement.clone(),
        past.pool.clone().unwrap_or_default(),
        past.runner.clone().unwrap_or_default(),
        past.ready_at.0.to_string(),
        at(row.assigned_at.map(|at| at.0)),
        at(past.started_at.map(|at| at.0)),
        past.ended_at.0.to_string(),
        past.result
            .map_or(String::new(), |result| result.0.to_string()),
        past.waited_us.to_string(),
        past.processor_us.to_string(),
        past.peak_memory.to_string(),
    ];
    fields.extend(past.reasons.iter().map(i64::to_string));
    fields
}
