//! Finished jobs, exported as traces.

use crate::support::{Ear, Runner, Service, until};
use axum::http::StatusCode;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::trace::v1::{Span, status::StatusCode as Status};
use pennine_core::lifecycle::runner::RunnerState;
use std::collections::{HashMap, HashSet};

fn attribute<'a>(span: &'a Span, key: &str) -> Option<&'a str> {
    let found = span.attributes.iter().find(|one| one.key == key)?;
    match found.value.as_ref()?.value.as_ref()? {
        Value::StringValue(text) => Some(text),
        _ => None,
    }
}

/// The spans of a request, as the protocol's own types read them.
fn spans(bytes: &[u8]) -> Vec<Span> {
    let request: ExportTraceServiceRequest = serde_json::from_slice(bytes).expect("OTLP");
    let scopes = request
        .resource_spans
        .into_iter()
        .flat_map(|one| one.scope_spans);
    scopes.flat_map(|one| one.spans).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_finished_job_is_traced_once_with_each_part_of_its_wait() {
    let ear = Ear::open().await;
    ear.deaf(true);
    let secret = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(secret.path(), "Authorization: Bearer tide-and-time\n").unwrap();
    let service = Service::with(|config| {
        config.traces.url = format!("{}/v1/traces", ear.url);
        config.traces.headers_file = secret.path().to_owned();
    })
    .await;
    service.furnish().await;
    until("the start of the export is recorded", || async {
        let known = service
            .database
            .texts("select id::text from trace_cursor")
            .await;
        (!known.is_empty()).then_some(())
    })
    .await;
    let first = service.submit("linux", "true").await;
    let second = service.submit("linux", "exit 3").await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let jobs = [service.done(&first).await, service.done(&second).await];
    until("it was tried", || async {
        (!ear.heard().is_empty()).then_some(())
    })
    .await;
    ear.deaf(false);
    // What was not taken comes again, with the same ids.
    let found: HashMap<Vec<u8>, Span> = until("both are exported", || async {
        let taken = ear
            .heard()
            .into_iter()
            .filter(|one| one.answered == StatusCode::OK);
        let all = taken.flat_map(|one| spans(&one.bytes));
        let all: HashMap<Vec<u8>, Span> = all.map(|span| (span.span_id.clone(), span)).collect();
        let roots = all
            .values()
            .filter(|span| span.parent_span_id.is_empty())
            .count();
        (roots == 2).then_some(all)
    })
    .await;
    let header = &ear.heard()[0].headers["authorization"];
    assert_eq!(header, "Bearer tide-and-time");
    let refused = ear
        .heard()
        .into_iter()
        .find(|one| one.answered != StatusCode::OK)
        .unwrap();
    let again: HashSet<Vec<u8>> = spans(&refused.bytes)
        .into_iter()
        .map(|one| one.span_id)
        .collect();
    assert!(again.iter().all(|id| found.contains_key(id)));
    for job in &jobs {
        let of_job =
            |span: &&Span| attribute(span, "cicd.pipeline.task.run.id") == Some(&job.line.name);
        let task = found.values().find(of_job).expect("its span");
        assert_eq!(task.name, job.line.title);
        let root = &found[&task.parent_span_id];
        assert_eq!(attribute(root, "cicd.pipeline.name"), Some("firmware/buoy"));
        assert_eq!((root.trace_id.len(), &root.trace_id), (16, &task.trace_id));
        let failed = task
            .status
            .as_ref()
            .is_some_and(|status| status.code() == Status::Error);
        assert_eq!(failed, job.line.name == second);
        // The parts of its wait equal those of the service, to the microsecond.
        let parts = found
            .values()
            .filter(|one| one.parent_span_id == task.span_id);
        let waits = parts.filter(|one| one.name.starts_with("waits: "));
        let sum: u64 = waits
            .map(|one| one.end_time_unix_nano - one.start_time_unix_nano)
            .sum();
        assert_eq!(sum, job.line.wait_us.0 * 1000);
        let attempt = found
            .values()
            .find(|one| one.parent_span_id == task.span_id && one.name == "attempt 1")
            .expect("its attempt");
        assert_eq!(attribute(attempt, "cicd.worker.name"), Some("fell-01"));
        let commands = found
            .values()
            .find(|one| one.parent_span_id == attempt.span_id && one.name == "commands")
            .expect("its commands");
        let ran = commands.end_time_unix_nano - commands.start_time_unix_nano;
        assert_eq!(Some(ran / 1000), job.line.ran_us.map(|micros| micros.0));
    }
}
