//! The commands of a run's jobs: overrides for one run, how long each ran, and what is said of a program that is missing.

use crate::command_line::{pennine, prints};
use crate::run_source::project;
use crate::runs::{job, new_run};
use crate::support::{Runner, Service, program, refusal};
use pennine_client::{AuditFilter, RunListFilter};
use pennine_core::dispatch::Band;
use pennine_core::fact::FactValue;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::sheet::{JobOverrides, RunOverrides};
use pennine_wire::{NewRun, Run};
use std::process::Command;

impl Service {
    /// The newest run.
    async fn newest_run(&self) -> Run {
        let newest = self.client.runs(&RunListFilter::default()).await.unwrap();
        self.client.run(&newest.items[0].name).await.unwrap()
    }

    async fn log_text(&self, run: &Run, title: &str) -> String {
        let log = self.log(&job(run, title).job.name).await;
        String::from_utf8_lossy(&log).into_owned()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_run_can_do_otherwise_than_its_sheet_says_and_tells_so() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = "[jobs.build]\nwhere = 'plan9'\ncommands = ['false', 'echo the second', 'echo the third']\n\
                 [jobs.notes]\ncommands = ['echo notes']\n";
    let folder = project(sheet);
    let dir = folder.path().display().to_string();
    let submit = |more: &[&'static str]| {
        let mut words = vec!["run", "submit", "--project", "buoy", "--no-files"];
        words.extend(more);
        words.into_iter().map(str::to_owned).chain([dir.clone()])
    };
    let submitted = async |more: &[&'static str]| {
        let words: Vec<String> = submit(more).collect();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        pennine(&service, &words).await
    };
    let output = submitted(&[
        "--follow",
        "--set",
        "build.where=linux",
        "--set=build.time_limit=2h",
        "--pool",
        "staithe",
        "--band=urgent",
        "--skip-command",
        "build:1",
    ])
    .await;
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{said}");
    let run = service.newest_run().await;
    assert_eq!(
        run.overridden,
        [
            "all jobs: pool staithe",
            "all jobs: band urgent",
            "build: where linux",
            "build: time limit 2 h",
            "build: without command 1",
        ]
    );
    let build = &job(&run, "build").job;
    assert_eq!(build.requirement, "linux and pool = staithe");
    let whole = service.client.job(&build.name).await.unwrap();
    assert_eq!(whole.commands, ["echo the second", "echo the third"]);
    assert_eq!(
        (whole.band, whole.time_limit_us.0),
        (Band::Urgent, 7_200_000_000)
    );
    let shown = prints(&service, &["run", "show", &run.line.name]).await;
    assert!(shown.contains("override  build: where linux"), "{shown}");
    let filter = AuditFilter {
        what: Some("run.submit".into()),
        ..AuditFilter::default()
    };
    let audited = service.client.audit(&filter).await.unwrap();
    let detail = audited.items[0].detail.to_string();
    assert!(detail.contains("build: where linux"), "{detail}");

    // What does not fit the sheet is refused before anything is sent, and by the service.
    for (wrong, expected) in [
        ("--set=biuld.where=linux", "did you mean build?"),
        ("--set=build.commands=true", "cannot be set for one run"),
        ("--set=build.time_limit=soon", "not a length of time"),
        ("--skip-command=2", "name the one whose command it is"),
        ("--from-command=build:4", "build has no command 4"),
        ("--pool=no such pool", "is not the name of a pool"),
    ] {
        let output = submitted(&[wrong]).await;
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(said.contains(expected), "{wrong}: {said}");
        assert_eq!(output.status.code(), Some(2), "{wrong}");
    }
    let nothing_left = JobOverrides {
        skip_commands: [1].into(),
        ..JobOverrides::default()
    };
    let new = NewRun {
        overrides: RunOverrides {
            jobs: [("notes".to_owned(), nothing_left)].into(),
            ..RunOverrides::default()
        },
        ..new_run(sheet)
    };
    let refused = refusal(service.client.submit_run(&new).await);
    assert_eq!(
        (refused.status, refused.field.as_deref()),
        (422, Some("overrides")),
        "{refused:?}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_command_is_announced_in_the_log_and_timed() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = r#"
        [jobs.build]
        commands = ["place=here", "echo \"$place: it's made\"", "exit 3", "echo never"]
    "#;
    let name = service.submit_sheet(sheet).await;
    let run = service.run_done(&name).await;
    let log = service.log_text(&run, "build").await;
    let lines: Vec<&str> = log.lines().collect();
    let at = |text: &str| {
        let found = lines.iter().position(|line| *line == text);
        found.unwrap_or_else(|| panic!("{text} in {log}"))
    };
    let second = at("pennine: command 2 of 4: echo \"$place: it's made\"");
    assert!(at("pennine: command 1 of 4: place=here") < second);
    assert_eq!(at("here: it's made"), second + 1);
    assert!(second < at("pennine: command 3 of 4: exit 3"));
    assert!(!log.contains("command 4 of 4"), "{log}");

    let build = &job(&run, "build").job;
    let whole = service.client.job(&build.name).await.unwrap();
    let phases = &whole.attempts[0].phases;
    assert_eq!(phases.commands_us.len(), 3, "{phases:?}");
    assert!(phases.commands_us.is_sorted() && phases.source_us.is_none());
    let shown = prints(&service, &["job", "show", &build.name]).await;
    assert!(
        shown.contains("exit 3") && shown.contains("never"),
        "{shown}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_program_that_was_not_found_is_named_with_the_runners_that_have_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = "[jobs.draw]\ncommands = ['chartmaker --all']\non_failure = 'continue'\n\
                 [jobs.fetch]\ncommands = ['echo sh: 1: git: not found', 'exit 127']\non_failure = 'continue'\n\
                 [jobs.plain]\ncommands = ['echo 404: page: not found', 'exit 1']\n";
    let name = service.submit_sheet(sheet).await;
    let run = service.run_done(&name).await;
    let hint = async |title: &str| {
        let whole = service
            .client
            .job(&job(&run, title).job.name)
            .await
            .unwrap();
        let log = service.log_text(&run, title).await;
        assert_eq!(whole.line.result, Some(Outcome::Failure), "{log}");
        whole.hint
    };
    assert_eq!(
        hint("draw").await.as_deref(),
        Some(
            "chartmaker was not found on fell-01, and no runner reports it. Install it there, or name it in the probes.toml of the runners that have it."
        )
    );
    assert_eq!(
        hint("fetch").await.as_deref(),
        Some(
            "git was not found on fell-01. 1 of 1 runners report it: add \"has git\" to the job's requirement."
        )
    );
    assert_eq!(hint("plain").await, None);
}

#[test]
fn a_first_sheet_is_guessed_and_never_written_over_another() {
    let folder = tempfile::tempdir().unwrap();
    let dir = folder.path().display().to_string();
    std::fs::write(
        folder.path().join("Makefile"),
        "all:\n\ttrue\ncheck:\n\ttrue\n",
    )
    .unwrap();
    let run = |words: &[&str]| {
        let output = Command::new(program("pennine"))
            .args(words)
            .output()
            .unwrap();
        let said = [output.stdout, output.stderr].concat();
        (
            output.status.code(),
            String::from_utf8_lossy(&said).into_owned(),
        )
    };
    let (code, said) = run(&["sheet", "new", &dir]);
    assert_eq!(code, Some(0), "{said}");
    assert!(said.contains("guessed from Makefile"), "{said}");
    let file = format!("{dir}/pennine.toml");
    let (code, said) = run(&["sheet", "check", "--offline", &file]);
    assert_eq!(code, Some(0), "{said}");
    let text = std::fs::read_to_string(&file).unwrap();
    assert!(
        text.contains("commands = [\"make\", \"make check\"]"),
        "{text}"
    );
    let (code, said) = run(&["sheet", "new", &dir]);
    assert_eq!(code, Some(2), "{said}");
    assert!(said.contains("is there already"), "{said}");
    assert_eq!(std::fs::read_to_string(&file).unwrap(), text);
}

/// Checks sheets against the schema with a validator that is not ours: the named ones have to be valid, the rest must not.
const VALIDATOR: &str = r#"
import json, subprocess, sys, tomllib
from jsonschema import Draft202012Validator
schema = json.loads(subprocess.check_output([sys.argv[1], "sheet", "schema"]))
Draft202012Validator.check_schema(schema)
validator = Draft202012Validator(schema)
for name in sys.argv[2:]:
    with open(name, "rb") as file:
        validator.validate(tomllib.load(file))
wrong = [
    "[jobs.a]\ncomands = ['make']",
    "[jobs.a]\ncommands = 'make'",
    "[jobs.a]\ncommands = ['make']\nband = 'quick'",
    "[jobs.a]\ncommands = ['make']\nafter = [{ jobs = 'b' }]",
    "[jobs.a]\ncommands = ['make']\ntries = 11",
    "[jobs.a]\ncommands = ['make']\nvary = { cc = 'gcc' }",
    "newer_run = 'wait'",
    "[values]\nlevel = ['a']",
]
for text in wrong:
    if validator.is_valid(tomllib.loads(text)):
        sys.exit("valid, and must not be: " + text)
print("all as expected")
"#;

#[test]
fn the_schema_of_sheets_is_one_that_another_validator_understands() {
    let has = Command::new("/usr/bin/python3")
        .args(["-c", "import jsonschema, tomllib"])
        .output();
    if !has.is_ok_and(|output| output.status.success()) {
        eprintln!("\n  SKIPPED: no schema was validated: python3-jsonschema is not installed\n");
        return;
    }
    let trees = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/trees");
    let sheets = ["buoy", "barometer", "soundings", "charts"];
    let sheets = sheets.map(|tree| format!("{trees}/{tree}/pennine.toml"));
    let full = tempfile::tempdir().unwrap();
    let full_sheet = full.path().join("pennine.toml");
    std::fs::write(&full_sheet, FULL).unwrap();
    let output = Command::new("/usr/bin/python3")
        .args(["-c", VALIDATOR])
        .arg(program("pennine"))
        .args(&sheets)
        .arg(&full_sheet)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
}

/// A sheet with every key.
const FULL: &str = r#"
newer_run = "cancel"
[values]
target = "x86_64"
level = 2
[jobs.build]
where = "linux and {cc} >= 12.2"
commands = ["make", "make check"]
vary = { cc = ["gcc", "clang"], level = [1, 2.5, true], without = [{ cc = "gcc", level = 1 }], also = [{ cc = "tcc", level = 3 }] }
time_limit = "1h 30m"
give_up = "2h"
variables = { LEVEL = 3 }
secrets = { UPLOAD_KEY = "file" }
seats = { compiler-licence = 1 }
band = "urgent"
workspace = "fresh"
on_failure = "retry"
tries = 3
fail_unmatched = true
[jobs.release]
script = "ci/release.sh"
after = [{ job = "build", success = false }, "build"]
applies = "branch = main"
hold = "person"
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_is_compared_with_another_and_with_earlier_ones_like_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = |pause: &str| format!("[jobs.build]\ncommands = ['true', 'sleep {pause}']\n");
    let mut names = Vec::new();
    for pause in ["0", "0", "2"] {
        let name = service.submit_sheet(&sheet(pause)).await;
        let run = service.run_done(&name).await;
        names.push(job(&run, "build").job.name.clone());
    }
    let [first, second, slow] = names.as_slice() else {
        panic!("three jobs: {names:?}");
    };
    let compared = service.client.compare_job(slow, None).await.unwrap();
    assert_eq!(compared.with, [second.as_str(), first.as_str()]);
    let message = &compared.message;
    assert!(
        message.contains("longer than the median of 2 earlier jobs like it"),
        "{message}"
    );
    assert!(message.contains("command 2: sleep 2 +"), "{message}");
    let waited = compared
        .parts
        .iter()
        .find(|one| one.part == "command 2: sleep 2");
    let slept = waited.expect("its command").this_us.expect("it ran");
    assert!(slept.0 >= 2_000_000, "{slept:?}");
    let shown = prints(&service, &["job", "compare", slow, first]).await;
    assert!(
        shown.contains(first.as_str()) && shown.contains("command 2"),
        "{shown}"
    );

    // Nothing to compare with, and a job that is not done.
    let alone = refusal(service.client.compare_job(first, None).await);
    assert_eq!((alone.status, alone.word()), (409, "no-similar-jobs"));
    let waiting = service.submit("plan9", "true").await;
    let open = refusal(service.client.compare_job(&waiting, Some(first)).await);
    assert_eq!((open.status, open.word()), (409, "job-not-done"));
    let unknown = refusal(service.client.compare_job(slow, Some("j-99999")).await);
    assert_eq!(unknown.status, 404);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn five_attempts_show_whether_a_jobs_machine_has_the_right_size() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 4).await;
    let sheet = "[jobs.wait]\ncommands = ['sleep 1.1']\n";
    let mut last = String::new();
    for attempts in 1..=5 {
        let name = service.submit_sheet(sheet).await;
        let run = service.run_done(&name).await;
        last = job(&run, "wait").job.name.clone();
        let sizing = service.client.size_job(&last).await.unwrap();
        assert_eq!(
            (sizing.attempts, sizing.usage.is_some()),
            (attempts, attempts == 5)
        );
    }
    let sizing = service.client.size_job(&last).await.unwrap();
    let usage = sizing.usage.expect("figures of five attempts");
    let machine = service.client.runner("fell-01").await.unwrap();
    let cores = machine.facts.get("cores").cloned();
    assert_eq!(usage.cores.map(FactValue::Count), cores);
    assert!(usage.memory.is_some() && usage.bytes_read.is_some() && usage.bytes_written.is_some());
    assert!(
        usage.ran_p50_us.0 >= 1_100_000 && usage.millicores < 800,
        "{usage:?}"
    );
    let [advice] = sizing.advice.as_slice() else {
        panic!("advice about waiting alone: {:?}", sizing.advice);
    };
    assert!(
        advice.contains("A bigger machine would not make the job faster"),
        "{advice}"
    );
    let shown = prints(&service, &["job", "sizing", &last]).await;
    assert!(
        shown.contains("the last 5") && shown.contains("A bigger machine"),
        "{shown}"
    );
    let unknown = refusal(service.client.size_job("j-99999").await);
    assert_eq!(unknown.status, 404);
}
