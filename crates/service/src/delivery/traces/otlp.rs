//! The shape of traces: OpenTelemetry Protocol 1, in its JSON encoding (ids as hexadecimal, times as decimal strings of
//! nanoseconds), with the attributes of the CI/CD semantic conventions.
//!
//! ```text
//! run-207                       the conventions' pipeline run, named for its project
//!   build and test              a job: their task run
//!     waits: all-busy           each part of each wait
//!     attempt 1                 what its runner did
//!       commands
//!       finalizing
//! ```

use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Moment;
use pennine_wire::{Attempt, Job};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use uuid::Uuid;

/// Who tells.
pub struct TraceSource<'a> {
    pub installation: Uuid,
    pub name: &'a str,
    pub public_url: &'a str,
}

/// Of what happens inside something (OTLP's SPAN_KIND_INTERNAL).
const INTERNAL: u8 = 1;
/// Of a pipeline run, as the conventions have it (SPAN_KIND_SERVER).
const SERVER: u8 = 2;
/// STATUS_CODE_ERROR.
const ERROR: u8 = 2;

/// A span's id, the same each time: the first bytes of the SHA-256 of what it is of.
fn span_id(of: &str) -> String {
    let hash = Sha256::digest(of.as_bytes());
    hex::encode(hash.get(..8).unwrap_or_default())
}

fn nanos(at: Moment) -> String {
    (i128::from(at.micros()) * 1000).to_string()
}

fn attributes(all: &[(&str, Option<String>)]) -> Value {
    let given = all
        .iter()
        .filter_map(|(key, value)| Some((key, value.as_ref()?)));
    given
        .map(|(key, value)| json!({"key": key, "value": {"stringValue": value}}))
        .collect()
}

struct Span<'a> {
    trace: &'a str,
    id: String,
    parent: Option<String>,
    name: String,
    kind: u8,
    from: Moment,
    until: Moment,
    attributes: Value,
    failed: Option<String>,
}

impl Span<'_> {
    fn value(self) -> Value {
        let status = match self.failed {
            Some(message) => json!({"code": ERROR, "message": message}),
            None => json!({}),
        };
        let mut span = json!({
            "traceId": self.trace,
            "spanId": self.id,
            "name": self.name,
            "kind": self.kind,
            "startTimeUnixNano": nanos(self.from),
            "endTimeUnixNano": nanos(self.until.max(self.from)),
            "attributes": self.attributes,
            "status": status,
        });
        if let (Some(parent), Some(fields)) = (self.parent, span.as_object_mut()) {
            fields.insert("parentSpanId".to_owned(), parent.into());
        }
        span
    }
}

impl TraceSource<'_> {
    /// These jobs, all of which are over, as one request.
    pub fn spans(&self, jobs: &[Job]) -> Value {
        let spans: Vec<Value> = jobs.iter().flat_map(|job| self.of(job)).collect();
        json!({"resourceSpans": [{
            "resource": {"attributes": attributes(&[
                ("service.name", Some("pennine".to_owned())),
                ("service.namespace", Some(self.name.to_owned())),
                ("service.instance.id", Some(self.installation.to_string())),
                ("service.version", Some(env!("CARGO_PKG_VERSION").to_owned())),
            ])},
            "scopeSpans": [{
                "scope": {"name": "pennine", "version": env!("CARGO_PKG_VERSION")},
                "spans": spans,
            }],
        }]})
    }

    /// A job, with the run that it is of: a run has one job.
    fn of(&self, job: &Job) -> Vec<Value> {
        let line = &job.line;
        let trace = Uuid::new_v5(&self.installation, job.run.as_bytes())
            .simple()
            .to_string();
        let (root, task) = (
            span_id(&format!("run {trace}")),
            span_id(&format!("job {}", line.id)),
        );
        let until = line.finished_at.unwrap_or(job.now);
        let failed = match line.result {
            Some(Outcome::Failure | Outcome::Error | Outcome::Timeout) => {
                Some(job.message.clone().unwrap_or_default())
            }
            _ => None,
        };
        let result = line.result.map(|result| result.word().to_owned());
        let url = format!("{}/jobs/{}", self.public_url, line.name);
        let run = Span {
            trace: &trace,
            id: root.clone(),
            parent: None,
            name: line.project.clone(),
            kind: SERVER,
            from: line.created_at,
            until,
            attributes: attributes(&[
                ("cicd.pipeline.name", Some(line.project.clone())),
                ("cicd.pipeline.run.id", Some(job.run.clone())),
                ("cicd.pipeline.run.url.full", Some(url.clone())),
                ("cicd.pipeline.result", result.clone()),
            ]),
            failed: failed.clone(),
        };
        let of_job = Span {
            trace: &trace,
            id: task.clone(),
            parent: Some(root),
            name: line.title.clone(),
            kind: INTERNAL,
            from: line.created_at,
            until,
            attributes: attributes(&[
                ("cicd.pipeline.task.name", Some(line.title.clone())),
                ("cicd.pipeline.task.run.id", Some(line.name.clone())),
                ("cicd.pipeline.task.run.result", result),
                ("cicd.pipeline.task.run.url.full", Some(url)),
                ("pennine.requirement", Some(line.requirement.clone())),
            ]),
            failed,
        };
        let mut spans = vec![run.value(), of_job.value()];
        let never = job.waiting.iter().map(|part| (None, part));
        let before = job.attempts.iter().flat_map(|one| {
            let parts = one.wait.iter();
            parts.map(move |part| (Some(one.number), part))
        });
        for (number, part) in before.chain(never) {
            let of = format!("wait {} {number:?} {}", line.id, part.from.micros());
            let span = Span {
                trace: &trace,
                id: span_id(&of),
                parent: Some(task.clone()),
                name: format!("waits: {}", part.reason),
                kind: INTERNAL,
                from: part.from,
                until: part.to,
                attributes: attributes(&[("pennine.wait.reason", Some(part.reason.to_string()))]),
                failed: None,
            };
            spans.push(span.value());
        }
        for one in &job.attempts {
            spans.extend(attempt(&trace, &task, one, until));
        }
        spans
    }
}

/// What a runner did of a job, where it began.
fn attempt(trace: &str, task: &str, one: &Attempt, job_ended: Moment) -> Vec<Value> {
    let Some(started) = one.started_at else {
        return Vec::new();
    };
    let until = one.finished_at.unwrap_or(job_ended);
    let id = span_id(&format!("attempt {}", one.id));
    let mut spans = Vec::new();
    let mut add = |id: String, parent: &str, name: String, from, until, attributes, failed| {
        let span = Span {
            trace,
            id,
            parent: Some(parent.to_owned()),
            name,
            kind: INTERNAL,
            from,
            until,
            attributes,
            failed,
        };
        spans.push(span.value());
    };
    let failed = (!one.accepted).then(|| one.message.clone().unwrap_or_default());
    let of = attributes(&[
        ("cicd.worker.id", Some(one.runner_id.to_string())),
        ("cicd.worker.name", Some(one.runner.clone())),
        ("pennine.pool", Some(one.pool.clone())),
    ]);
    add(
        id.clone(),
        task,
        format!("attempt {}", one.number),
        started,
        until,
        of,
        failed,
    );
    let exited = one.exited_at.unwrap_or(until);
    let none = || attributes(&[]);
    let part = |word: &str| span_id(&format!("{word} {}", one.id));
    add(
        part("commands"),
        &id,
        "commands".to_owned(),
        started,
        exited,
        none(),
        None,
    );
    if one.exited_at.is_some() {
        add(
            part("finalizing"),
            &id,
            "finalizing".to_owned(),
            exited,
            until,
            none(),
            None,
        );
    }
    spans
}
