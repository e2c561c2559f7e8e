//! Runs of job sheets, on the real runner.

use crate::support::{PATIENCE, Runner, Service, refusal, until};
use pennine_client::{AuditFilter, RunListFilter};
use pennine_core::access::Role;
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::run::RunState;
use pennine_wire::{NewRun, Run, RunJob, RunRetry};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

pub fn new_run(sheet: &str) -> NewRun {
    NewRun {
        project: "buoy".into(),
        sheet: sheet.into(),
        ..NewRun::default()
    }
}

impl Service {
    /// Submits the jobs of a sheet, and returns the run's name.
    pub async fn submit_sheet(&self, sheet: &str) -> String {
        let taken = self.client.submit_run(&new_run(sheet)).await;
        taken.expect("the sheet is taken").run.line.name
    }

    /// Waits until a run is as wanted.
    pub async fn run_when(&self, name: &str, what: &str, wanted: impl Fn(&Run) -> bool) -> Run {
        let begun = Instant::now();
        loop {
            let run = self.client.run(name).await.expect("the run");
            if wanted(&run) {
                return run;
            }
            assert!(
                begun.elapsed() < PATIENCE,
                "waited in vain: {name}: {what}. The run: {run:#?}"
            );
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
    }

    pub async fn run_done(&self, name: &str) -> Run {
        let run = self.run_when(name, "it is done", |run| run.line.state == RunState::Done);
        run.await
    }
}

/// The job of this name in the sheet.
pub fn job<'a>(run: &'a Run, title: &str) -> &'a RunJob {
    let found = run.graph.iter().find(|job| job.job.title == title);
    found.unwrap_or_else(|| panic!("{title} in {run:#?}"))
}

pub fn results(run: &Run) -> BTreeMap<&str, Outcome> {
    let jobs = run.graph.iter();
    jobs.filter_map(|job| Some((job.job.title.as_str(), job.job.result?)))
        .collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_jobs_of_a_sheet_run_each_after_what_it_needs_and_waiting_for_jobs_is_no_queue_wait() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    let sheet = r#"
        [values]
        target = "buoy-3"
        [jobs.build]
        where = "linux"
        commands = ["sleep 1", "echo built for $target on $PENNINE_BRANCH"]
        [jobs.test]
        commands = ["echo with $cc at level $level"]
        vary = { cc = ["gcc", "clang"] }
        variables = { level = 3 }
        after = ["build"]
        [jobs.package]
        commands = ["false || echo packaged", "cd /", "pwd", "\"$PENNINE_RUNNER_PROGRAM\" identity --audience store"]
        after = ["test"]
        [jobs.publish]
        commands = ["false"]
        applies = "branch = release"
        after = ["package"]
    "#;
    let new = NewRun {
        branch: Some("main".into()),
        values: BTreeMap::from([("target".into(), "buoy-4".into())]),
        ..new_run(sheet)
    };
    let taken = service.client.submit_run(&new).await.unwrap();
    assert!(taken.hints.is_empty(), "{:?}", taken.hints);
    let states: Vec<_> = taken
        .run
        .graph
        .iter()
        .map(|job| (job.step, job.job.state))
        .collect();
    let (pending, held) = (JobState::Pending, JobState::Held);
    assert_eq!(states, [(1, pending), (2, held), (2, held), (3, held)]);
    let waits = job(&taken.run, "package").held_for.as_deref();
    assert_eq!(waits, Some("waits for test (gcc) and 1 other job"));

    let run = service.run_done(&taken.run.line.name).await;
    assert_eq!(run.line.result, Some(Outcome::Success));
    assert_eq!(run.line.jobs.success, 4);
    assert_eq!(run.line.branch.as_deref(), Some("main"));
    let log = async |title: &str| {
        let log = service.log(&job(&run, title).job.name).await;
        String::from_utf8_lossy(&log).into_owned()
    };
    assert!(log("build").await.contains("built for buoy-4 on main"));
    assert!(log("test (clang)").await.contains("with clang at level 3"));
    let package = log("package").await;
    assert!(
        package.contains("\npackaged\n") && package.contains(": pwd\n/\n"),
        "{package}"
    );
    let token = package
        .lines()
        .find(|line| line.starts_with("ey"))
        .expect("a token");
    let claims = crate::identity::claims_in(token);
    assert_eq!(
        (&claims["branch"], &claims["run"]),
        (&"main".into(), &run.line.name.as_str().into())
    );
    assert!(claims.get("revision").is_none(), "{claims}");
    for one in &run.graph {
        let whole = service.client.job(&one.job.name).await.unwrap();
        let ready = whole.ready_at.expect("it was ready");
        for need in &one.after {
            let needed = service.client.job(&need.job).await.unwrap();
            let ended = needed.line.finished_at.expect("it has ended");
            assert!(
                ready >= ended,
                "{} was ready before {} ended",
                one.job.title,
                need.title
            );
        }
        // The build takes a second, which counts for none of the others.
        let wait = Duration::from(whole.line.wait_us);
        let held = ready.since(whole.line.created_at);
        let all = whole
            .line
            .started_at
            .expect("it started")
            .since(whole.line.created_at);
        assert_eq!(held + wait, all, "{whole:?}");
    }
    assert!(run.line.finished_at.is_some());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failure_skips_what_has_not_started_and_jobs_are_tried_again_in_their_places() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let mended = service.shared("mended");
    let sheet = format!(
        r#"
        [jobs.build]
        commands = ["test -e {0}", "echo never without it"]
        [jobs.test]
        commands = ["true"]
        after = ["build"]
        [jobs.report]
        commands = ["true"]
        after = [{{ job = "build", success = false }}]
        [jobs.docs]
        where = "anechoic"
        commands = ["true"]
        "#,
        mended.display()
    );
    let name = service.submit_sheet(&sheet).await;
    let run = service.run_done(&name).await;
    assert_eq!(run.line.result, Some(Outcome::Failure));
    let expected = [
        ("build", Outcome::Failure),
        ("docs", Outcome::Skip),
        ("report", Outcome::Success),
        ("test", Outcome::Skip),
    ];
    assert_eq!(results(&run), BTreeMap::from(expected));
    assert_eq!(
        job(&run, "test").message.as_deref(),
        Some("skipped: build failed")
    );
    assert_eq!(
        job(&run, "docs").message.as_deref(),
        Some("skipped: build failed")
    );
    let build = job(&run, "build").job.name.clone();

    let unknown = RunRetry {
        jobs: vec!["biuld".into()],
        ..RunRetry::default()
    };
    let refused = refusal(service.client.retry_run(&name, &unknown).await);
    assert!(
        refused
            .detail
            .contains("its jobs: build, test, report, docs"),
        "{refused:?}"
    );
    std::fs::write(&mended, "").unwrap();
    let only_build = RunRetry {
        jobs: vec!["build".into()],
        ..RunRetry::default()
    };
    let again = service.client.retry_run(&name, &only_build).await.unwrap();
    assert_eq!(again.line.state, RunState::Pending);
    let run = service
        .run_when(&name, "build and test have succeeded", |run| {
            run.line.jobs.success == 3
        })
        .await;
    assert_ne!(job(&run, "build").job.name, build);
    let old = service.client.job(&build).await.unwrap();
    assert_eq!(
        old.retried_as.as_deref(),
        Some(job(&run, "build").job.name.as_str())
    );
    // It was skipped by a failure, not by what it needs.
    assert_eq!(job(&run, "docs").job.result, Some(Outcome::Skip));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_held_job_waits_for_a_person_who_may_release_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let viewer = service.with_role("watcher", Role::Viewer, "firmware").await;
    let submitter = service
        .with_role("releaser", Role::Submitter, "firmware")
        .await;
    let sheet = r#"
        [jobs.build]
        commands = ["true"]
        [jobs.release]
        commands = ["true"]
        after = ["build"]
        hold = "person"
    "#;
    let name = service.submit_sheet(sheet).await;
    let is_held = |run: &Run| run.line.state == RunState::Held;
    let run = service
        .run_when(&name, "only the release is left", is_held)
        .await;
    let release = job(&run, "release");
    assert!(release.needs_release);
    let waits = release.held_for.as_deref();
    assert_eq!(waits, Some("waits for a person to release it"));
    let held = release.job.name.clone();
    let build = job(&run, "build").job.name.clone();

    assert_eq!(refusal(viewer.release_job(&held).await).status, 403);
    assert_eq!(refusal(submitter.release_job(&build).await).status, 409);
    submitter.release_job(&held).await.unwrap();
    let run = service.run_done(&name).await;
    assert_eq!(run.line.result, Some(Outcome::Success));
    let job = service.client.job(&held).await.unwrap();
    assert_eq!(job.released_by.as_deref(), Some("releaser"));
    assert_eq!(refusal(submitter.release_job(&held).await).status, 409);
    let filter = AuditFilter {
        what: Some("job.release".into()),
        ..AuditFilter::default()
    };
    let entries = service.client.audit(&filter).await.unwrap().items;
    let found: Vec<_> = entries
        .iter()
        .map(|entry| (entry.who.as_str(), entry.subject.as_str()))
        .collect();
    assert_eq!(found, [("releaser", held.as_str())]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failed_command_is_tried_again_where_the_sheet_asks_for_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let marks = service.shared("tries");
    let sheet = format!(
        r#"
        [jobs.flaky]
        commands = ["mktemp {0}.XXXXXX", "test $(ls {0}.* | wc -l) -ge 3"]
        on_failure = "retry"
        tries = 3
        [jobs.hopeless]
        commands = ["exit 7"]
        on_failure = "retry"
        after = ["flaky"]
        "#,
        marks.display()
    );
    let run = service.run_done(&service.submit_sheet(&sheet).await).await;
    let flaky = service
        .client
        .job(&job(&run, "flaky").job.name)
        .await
        .unwrap();
    let ends: Vec<_> = flaky.attempts.iter().map(|one| one.result).collect();
    let (failure, success) = (Some(Outcome::Failure), Some(Outcome::Success));
    assert_eq!(ends, [failure, failure, success]);
    assert_eq!(flaky.line.result, success);
    let hopeless = service
        .client
        .job(&job(&run, "hopeless").job.name)
        .await
        .unwrap();
    assert_eq!(hopeless.attempts.len(), 2, "{hopeless:?}");
    assert_eq!(
        (hopeless.line.result, hopeless.exit_code),
        (failure, Some(7))
    );
    assert_eq!(run.line.result, failure);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_cancelled_run_ends_and_a_newer_run_of_its_branch_overtakes_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = r#"
        newer_run = "cancel"
        [jobs.long]
        commands = ["sleep 600"]
        [jobs.next]
        commands = ["true"]
        after = ["long"]
        [jobs.elsewhere]
        where = "anechoic"
        commands = ["true"]
    "#;
    let of = |branch: &str, sheet: &str| NewRun {
        branch: Some(branch.into()),
        ..new_run(sheet)
    };
    let submit = async |branch: &str, sheet: &str| {
        let taken = service.client.submit_run(&of(branch, sheet)).await.unwrap();
        taken.run.line.name
    };
    let executes = |run: &Run| run.line.jobs.executing == 1;
    let first = submit("main", sheet).await;
    service.run_when(&first, "it executes", executes).await;
    let other = submit("topic", sheet).await;
    let second = submit("main", sheet).await;
    let run = service.run_done(&first).await;
    assert_eq!(run.line.overtaken_by.as_deref(), Some(second.as_str()));
    assert_eq!(run.line.result, Some(Outcome::Cancellation));
    assert_eq!(run.line.jobs.cancellation, 3);
    let message = job(&run, "next").message.clone().unwrap_or_default();
    assert!(message.contains(&second), "{message}");
    let still = service.client.run(&other).await.unwrap();
    assert_ne!(still.line.state, RunState::Done, "another branch goes on");
    assert_eq!(still.line.overtaken_by, None);

    // One of the two has the runner; both are cancelled by a person.
    for name in [&other, &second] {
        service.client.cancel_run(name).await.unwrap();
        let run = service.run_done(name).await;
        assert_eq!(run.line.result, Some(Outcome::Cancellation), "{run:#?}");
        assert!(
            service.client.cancel_run(name).await.is_ok(),
            "twice does no harm"
        );
    }
    let filter = RunListFilter {
        branch: Some("main".into()),
        with_sheet: true,
        ..RunListFilter::default()
    };
    let listed = service.client.runs(&filter).await.unwrap().items;
    let names: Vec<_> = listed.iter().map(|line| line.name.as_str()).collect();
    assert_eq!(names, [second.as_str(), first.as_str()]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn jobs_that_end_at_the_same_time_start_what_follows_them_exactly_once() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 8).await;
    let sheet = r#"
        [jobs.part]
        commands = ["true"]
        vary = { n = [1, 2, 3, 4, 5, 6, 7, 8] }
        [jobs.whole]
        commands = ["true"]
        after = ["part"]
    "#;
    let mut names = Vec::new();
    for _ in 0..6 {
        names.push(service.submit_sheet(sheet).await);
    }
    for name in names {
        let run = service.run_done(&name).await;
        assert_eq!(run.line.jobs.success, 9, "{run:#?}");
        let whole = service
            .client
            .job(&job(&run, "whole").job.name)
            .await
            .unwrap();
        assert_eq!(whole.attempts.len(), 1);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sheet_with_mistakes_is_refused_with_their_lines_and_nothing_is_stored() {
    let service = Service::start().await;
    service.furnish().await;
    let refused = async |sheet: &str| refusal(service.client.submit_run(&new_run(sheet)).await);
    let problem =
        refused("[jobs.build]\nwhere = 'linux and'\ncommands = ['true']\nafter = ['biuld']\n")
            .await;
    assert_eq!(
        (problem.status, problem.field.as_deref()),
        (422, Some("sheet"))
    );
    assert!(problem.detail.contains("line 2, column"), "{problem:?}");
    assert!(problem.detail.contains("line 4, column"), "{problem:?}");
    let problem = refused("[jobs.build]\ncommands = ['true']\nseats = { lathe = 1 }\n").await;
    assert!(
        problem
            .detail
            .starts_with("the job build (line 1): unknown seat"),
        "{problem:?}"
    );
    let problem = refused("[jobs.build]\ncommands = ['true']\napplies = 'event = nightly'\n").await;
    assert!(
        problem.detail.contains("no job of the sheet applies"),
        "{problem:?}"
    );
    let unknown = NewRun {
        values: BTreeMap::from([("targte".into(), "x".into())]),
        ..new_run("[values]\ntarget = 'y'\n[jobs.build]\ncommands = ['true']\n")
    };
    let problem = refusal(service.client.submit_run(&unknown).await);
    assert!(
        problem.detail.contains("did you mean target?"),
        "{problem:?}"
    );
    let all = service
        .client
        .runs(&RunListFilter::default())
        .await
        .unwrap();
    assert!(all.items.is_empty(), "{all:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_goes_on_where_a_runner_is_lost_or_a_job_gives_up() {
    let service = Service::start().await;
    service.furnish().await;
    let mut runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = r#"
        [jobs.build]
        commands = ["sleep 2"]
        [jobs.test]
        commands = ["true"]
        after = ["build"]
        [jobs.rig]
        where = "anechoic"
        commands = ["true"]
        give_up = "1s"
        on_failure = "continue"
        [jobs.measure]
        commands = ["true"]
        after = ["rig"]
    "#;
    let name = service.submit_sheet(sheet).await;
    let executes = |run: &Run| run.line.jobs.executing == 1;
    service
        .run_when(&name, "the build executes", executes)
        .await;
    runner.kill();
    runner.work();
    let run = service.run_done(&name).await;
    let expected = [
        ("build", Outcome::Success),
        ("measure", Outcome::Skip),
        ("rig", Outcome::Timeout),
        ("test", Outcome::Success),
    ];
    assert_eq!(results(&run), BTreeMap::from(expected), "{run:#?}");
    let build = service
        .client
        .job(&job(&run, "build").job.name)
        .await
        .unwrap();
    assert_eq!(build.attempts.len(), 2, "{build:?}");
    until("the run is listed as done", || async {
        let listed = service
            .client
            .runs(&RunListFilter::default())
            .await
            .unwrap();
        (listed.items.first()?.state == RunState::Done).then_some(())
    })
    .await;
}
