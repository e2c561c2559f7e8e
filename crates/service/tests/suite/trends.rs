//! How long jobs waited, for what, and how busy the machines were, from real jobs on the record.

use crate::command_line::prints;
use crate::support::{Runner, Service, until};
use pennine_client::TrendFilter;
use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::measure::rank::PerMille;
use pennine_core::time::{Micros, Moment};
use pennine_store::connect::PoolSizes;
use pennine_store::{Store, measure};
use pennine_wire::{By, Job, NewTarget, Trends};
use std::time::Duration;

const HOUR: Duration = Duration::from_secs(3600);

fn last_hour() -> TrendFilter {
    TrendFilter {
        last_us: Some(Micros::from(HOUR)),
        ..TrendFilter::default()
    }
}

/// Trends in which everything is counted that was over at a moment.
async fn counted(service: &Service, of: &TrendFilter, at: Moment) -> Trends {
    until("what is over is counted", || async {
        let trends = service.client.trends(of).await.ok()?;
        (trends.counted_until > at).then_some(trends)
    })
    .await
}

fn waited(jobs: &[Job]) -> u64 {
    let attempts = jobs.iter().flat_map(|job| &job.attempts);
    attempts.map(|attempt| attempt.wait_us.0).sum()
}

/// What is kept, as bytes, in order.
async fn kept(service: &Service) -> Vec<String> {
    service
        .database
        .texts(
            "select concat_ws(' ', r.resolution, r.kind, k.owner_id, k.project_id, k.text, r.at, encode(r.cell, 'hex')) from rollup r
             join rollup_key k on k.id = r.key
             union all select concat_ws(' ', id, ready_at, waited_us, reasons::text, ended_at, result, lost) from work_span
             order by 1",
        )
        .await
}

/// Told apart by anything, one group holds all the work.
async fn groups_add_up(service: &Service, busy: u64) {
    for (by, name) in [
        (By::Pool, "staithe"),
        (By::Project, "firmware/buoy"),
        (By::Team, "firmware"),
        (By::Requirement, "linux"),
        (By::Runner, "staithe/fell-01"),
        (By::Title, "firmware/buoy: sh"),
    ] {
        let of = TrendFilter {
            by: Some(by),
            ..last_hour()
        };
        let groups = service.client.trends(&of).await.unwrap().groups;
        let found = groups.iter().find(|group| group.name.starts_with(name));
        let found = found.unwrap_or_else(|| panic!("{name} in {groups:?}"));
        assert_eq!(found.figures.busy_us.0, busy, "{name}");
    }
}

/// The jobs behind a figure are listed, the longest wait first.
async fn waits_are_listed(service: &Service, jobs: &[Job], waits_on: &str) {
    let behind = TrendFilter {
        reason: Some(Reason::AllBusy),
        ..last_hour()
    };
    let behind = service.client.waits(&behind).await.unwrap().items;
    let behind: Vec<&str> = behind.iter().map(|one| one.job.as_str()).collect();
    let first = jobs.iter().max_by_key(|job| job.line.wait_us).unwrap();
    assert_eq!(behind[0], first.line.name);
    let all = service.client.waits(&last_hour()).await.unwrap().items;
    assert_eq!(all.len(), 5);
    assert!(
        all.iter()
            .any(|one| one.job == waits_on && one.ended_at.is_none())
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn figures_match_the_jobs_and_a_rebuild_gives_the_same_bytes() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let mut names = Vec::new();
    for script in ["sleep 1", "exit 3", "true"] {
        names.push(service.submit("linux", script).await);
    }
    let mut jobs = Vec::new();
    for name in &names {
        jobs.push(service.done(name).await);
    }
    // One that ends while it waits, and one that waits on.
    let given_up = service.submit("amr64", "true").await;
    service
        .job_when(&given_up, "waits", |job| {
            job.line.reason == Some(Reason::NoMatch)
        })
        .await;
    service.client.cancel(&given_up).await.unwrap();
    let over = service.done(&given_up).await;
    let waits_on = service.submit("amr64", "true").await;
    service
        .job_when(&waits_on, "waits", |job| {
            job.line.reason == Some(Reason::NoMatch)
        })
        .await;
    let at = service.client.job(&waits_on).await.unwrap().now;

    let trends = counted(&service, &last_hour(), at).await;
    let wait = &trends.whole.wait;
    assert_eq!((wait.count, wait.still_waiting), (5, 1), "{wait:?}");
    // To the microsecond: what the jobs say, and as much as the last has waited since.
    let settled = waited(&jobs) + over.line.wait_us.0;
    let open = wait.sum_us.0 - settled;
    assert!(Duration::from_micros(open) < HOUR, "{open}");
    let parts: u64 = wait.by_reason.values().map(|micros| micros.0).sum();
    assert_eq!(parts, wait.sum_us.0, "the parts add up to the whole");
    assert!(wait.by_reason[&Reason::AllBusy].0 > 500_000, "{wait:?}");
    let longest = wait.longest.unwrap();
    assert!(longest.at_least, "a job still waits: {longest:?}");
    // Everything that waited did so in this hour: the integral of the number waiting is the sum of the waits.
    let integral: u64 = trends
        .whole
        .waiting_us
        .values()
        .map(|micros| micros.0)
        .sum();
    assert_eq!(integral, wait.sum_us.0);
    let steps: u64 = trends
        .steps
        .iter()
        .flat_map(|step| step.figures.waiting_us.values())
        .map(|one| one.0)
        .sum();
    assert_eq!(steps, integral, "step by step as in all");
    let results = &trends.whole.results;
    assert_eq!(
        (
            results[&Outcome::Success],
            results[&Outcome::Failure],
            results[&Outcome::Cancellation]
        ),
        (2, 1, 1)
    );
    let busy = trends.whole.busy_us.0;
    let held = |job: &Job| {
        let attempt = &job.attempts[0];
        attempt
            .finished_at
            .unwrap()
            .since(attempt.assigned_at)
            .as_micros() as u64
    };
    assert_eq!(busy, jobs.iter().map(held).sum::<u64>());
    let offered = trends.whole.offered_us.unwrap().0;
    assert!(offered > busy, "{offered} offered, {busy} busy");

    groups_add_up(&service, busy).await;
    let staithe = TrendFilter {
        pool: Some("staithe".into()),
        by: Some(By::Project),
        ..last_hour()
    };
    let staithe = service.client.trends(&staithe).await.unwrap();
    assert_eq!(staithe.whole.wait.count, 3);
    assert_eq!(staithe.groups.len(), 1);

    waits_are_listed(&service, &jobs, &waits_on).await;
    let before = kept(&service).await;
    assert!(before.len() > 20, "{before:?}");
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let found = measure::rebuild(&mut store.patient().await.unwrap(), at)
        .await
        .unwrap();
    assert_eq!(found.work_spans, 4);
    assert_eq!(kept(&service).await, before);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lost_attempt_counts_once_and_its_job_waits_again() {
    let mut service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let job = service.submit("linux", "sleep 600").await;
    service
        .job_when(&job, "runs", |job| job.line.started_at.is_some())
        .await;
    runner.kill();
    runner.work();
    // The leader may be another by then: nothing is counted twice.
    service.goes_away().await;
    service.comes_back().await;
    let again = service
        .job_when(&job, "runs again", |job| {
            job.attempts.len() > 1
                && job
                    .attempts
                    .last()
                    .is_some_and(|last| last.started_at.is_some())
        })
        .await;
    let trends = counted(&service, &last_hour(), again.now).await;
    // On a slow machine an assignment may be taken back before the runner is there again.
    let tried = again.attempts.len() as u64;
    assert_eq!(trends.whole.lost, tried - 1);
    assert_eq!(trends.whole.wait.count, tried, "{:?}", trends.whole.wait);
    assert_eq!(
        trends.whole.wait.sum_us.0,
        waited(std::slice::from_ref(&again))
    );
    assert_eq!(trends.whole.wait.still_waiting, 0);
    // What runs is busy already.
    let first = &again.attempts[0];
    let held = first
        .finished_at
        .unwrap()
        .since(first.assigned_at)
        .as_micros() as u64;
    assert!(trends.whole.busy_us.0 > held);
    service.client.cancel(&job).await.unwrap();
    let done = service.done(&job).await;
    let trends = counted(&service, &last_hour(), done.now).await;
    let counts = (trends.whole.lost, trends.whole.wait.count);
    assert_eq!(counts, (tried - 1, tried));
    assert_eq!(trends.whole.results[&Outcome::Cancellation], 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_invalid_query_is_refused_with_the_valid_ones() {
    let service = Service::start().await;
    service.furnish().await;
    let refused = async |of: TrendFilter| {
        let error = service.client.trends(&of).await.unwrap_err();
        let problem = error.problem().unwrap();
        format!(
            "{} {}",
            problem.status,
            problem.field.clone().unwrap_or_default()
        )
    };
    let of = last_hour;
    let text = |text: &str| Some(text.to_owned());
    assert_eq!(
        refused(TrendFilter {
            pool: text("nowhere"),
            ..of()
        })
        .await,
        "404 "
    );
    assert_eq!(
        refused(TrendFilter {
            runner: text("x"),
            pool: text("staithe"),
            ..of()
        })
        .await,
        "422 by"
    );
    assert_eq!(
        refused(TrendFilter {
            title: text("x"),
            ..of()
        })
        .await,
        "422 project"
    );
    assert_eq!(
        refused(TrendFilter {
            requirement: text("mem >="),
            ..of()
        })
        .await,
        "422 where"
    );
    assert_eq!(
        refused(TrendFilter {
            pool: text("staithe"),
            by: Some(By::Runner),
            ..of()
        })
        .await,
        "422 by"
    );
    // A query for one requirement returns no figures of all pools.
    let linux = TrendFilter {
        requirement: text("linux"),
        by: Some(By::Pool),
        ..of()
    };
    assert_eq!(refused(linux).await, "422 by");
    let long = Micros::from(HOUR * 24 * 800);
    assert_eq!(
        refused(TrendFilter {
            last_us: Some(long),
            ..of()
        })
        .await,
        "422 from"
    );
    let zone = TrendFilter {
        zone: text("Atlantis/Deep"),
        ..of()
    };
    assert!(service.client.week(&zone).await.is_err());
    let nothing = prints(&service, &["trends"]).await;
    assert!(
        nothing.starts_with("No data on jobs in this period."),
        "{nothing}"
    );
    for csv in [
        &["trends", "--csv"][..],
        &["trends", "--by", "pool", "--csv"],
        &["trends", "week", "--csv"],
        &["trends", "waits", "--csv"],
    ] {
        let text = prints(&service, csv).await;
        let columns: Vec<usize> = text.lines().map(|line| line.split(',').count()).collect();
        assert!(
            columns
                .iter()
                .all(|count| *count == columns[0] && *count > 20),
            "{csv:?}: {text}"
        );
    }
}

/// Reads OpenMetrics with the reference parser of the format, and prints what it found.
const PARSE: &str = "
import sys
from prometheus_client.openmetrics.parser import text_string_to_metric_families
for family in text_string_to_metric_families(sys.stdin.read()):
    for sample in family.samples:
        labels = ','.join(f'{k}={v}' for k, v in sorted(sample.labels.items()))
        print(family.type, sample.name, '{' + labels + '}', sample.value)
";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn metrics_are_open_metrics_with_the_conventions_names() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    for script in ["true", "exit 1"] {
        let name = service.submit("linux", script).await;
        service.done(&name).await;
    }
    let waits = service.submit("amr64", "true").await;
    let job = service
        .job_when(&waits, "waits", |job| {
            job.line.reason == Some(Reason::NoMatch)
        })
        .await;
    counted(&service, &last_hour(), job.now).await;
    let promise = NewTarget {
        name: "prompt".into(),
        share: PerMille(950),
        within_us: Micros::from(HOUR),
        days: 1,
        ..NewTarget::default()
    };
    service.client.add_target(&promise).await.unwrap();
    let http = reqwest::Client::new();
    let url = format!("{}/metrics", service.url);
    assert_eq!(http.get(&url).send().await.unwrap().status(), 401);
    let answer = http
        .get(&url)
        .bearer_auth(&service.token)
        .send()
        .await
        .unwrap();
    let kind = answer.headers()["content-type"]
        .to_str()
        .unwrap()
        .to_owned();
    assert!(
        kind.starts_with("application/openmetrics-text; version=1.0.0"),
        "{kind}"
    );
    let text = answer.text().await.unwrap();
    assert!(text.ends_with("# EOF\n"), "{text}");
    // Debian's own, which has the parser's package.
    let python = "/usr/bin/python3";
    let there = std::process::Command::new(python)
        .args(["-c", "import prometheus_client.openmetrics.parser"])
        .output();
    if !there.is_ok_and(|output| output.status.success()) {
        eprintln!(
            "\n  SKIPPED: metrics were not read by another parser: python3-prometheus-client is not installed\n"
        );
        return;
    }
    let mut parser = std::process::Command::new(python)
        .args(["-c", PARSE])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut parser.stdin.take().unwrap(), text.as_bytes()).unwrap();
    let output = parser.wait_with_output().unwrap();
    assert!(
        output.status.success(),
        "{}\n{text}",
        String::from_utf8_lossy(&output.stderr)
    );
    let found = String::from_utf8(output.stdout).unwrap();
    let buoy = "cicd_pipeline_name=firmware/buoy";
    for line in [
        format!("gauge cicd_pipeline_run_active {{{buoy},cicd_pipeline_run_state=pending}} 1.0"),
        format!("counter cicd_pipeline_run_errors_total {{{buoy},error_type=failure}} 1.0"),
        format!(
            "histogram cicd_pipeline_run_duration_seconds_count {{{buoy},cicd_pipeline_run_state=executing}} 2"
        ),
        format!(
            "histogram cicd_pipeline_run_duration_seconds_bucket {{{buoy},cicd_pipeline_run_state=pending,le=+Inf}} 2"
        ),
        "gauge cicd_worker_count {cicd_worker_state=available,pennine_pool=staithe} 1.0".to_owned(),
        "gauge pennine_waiting_jobs {reason=no-match} 1.0".to_owned(),
        "gauge pennine_slots {pennine_pool=staithe,state=free} 2.0".to_owned(),
        "gauge pennine_target_waits {state=kept,target=prompt} 2.0".to_owned(),
        "gauge pennine_target_waits {state=undecided,target=prompt} 1.0".to_owned(),
        "gauge pennine_alerts {kind=target-missed} 0.0".to_owned(),
        "histogram pennine_wait_seconds_count {pennine_pool=staithe} 2".to_owned(),
        "histogram pennine_wait_reason_seconds_count {pennine_pool=staithe,reason=handover} 2"
            .to_owned(),
    ] {
        assert!(found.contains(&line), "{line} in {found}");
    }
}
