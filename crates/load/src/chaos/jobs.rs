//! The jobs of the test: submitted under keys, with requests cut off at random, and examined at the end.

use crate::Error;
use crate::chaos::PROJECT;
use pennine_client::{Client, ClientError, JobListFilter};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Micros;
use pennine_wire::{Job, NewJob};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::task::JoinSet;
use tokio_util::sync::CancellationToken;

/// Attempts that a job may have: more than faults can take from it.
const TRIES: u32 = 20;
/// Jobs that are listed at once.
const PAGE: u32 = 200;
/// How long to wait before a submission is made again.
const AGAIN: Duration = Duration::from_millis(100);

/// One job as it was submitted.
#[derive(Clone, Debug)]
pub struct SubmittedJob {
    /// Its short name, as the service acknowledged it.
    name: String,
    lines: u32,
}

/// What was submitted, by key.
pub struct SubmittedJobs {
    jobs: BTreeMap<String, SubmittedJob>,
    /// Submissions that were refused for good.
    refused: Vec<String>,
    /// Where each attempt leaves a line in a file of its own when it begins.
    effects: PathBuf,
    /// Requests that were cut off on purpose.
    cut: u32,
}

/// What was found at the end.
#[derive(Default)]
pub struct Findings {
    jobs: usize,
    attempts: usize,
    log_bytes: usize,
    cut: u32,
    pub problems: Vec<String>,
}

impl Findings {
    /// What was found, as a sentence or two.
    pub fn summary(&self) -> String {
        format!(
            "{} jobs with {} attempts and {} bytes of log; {} submissions cut off and made again. {} problems.",
            self.jobs,
            self.attempts,
            self.log_bytes,
            self.cut,
            self.problems.len()
        )
    }
}

fn key(seed: u64, number: u32) -> String {
    format!("seed-{seed}-job-{number}")
}

/// The lines that a job prints.
fn expected(key: &str, lines: u32) -> String {
    let printed = (0..lines).map(|line| format!("{key} line {line}\n"));
    printed.collect::<String>() + &format!("{key} ends\n")
}

/// A job that marks each of its attempts, prints its lines, and takes a while.
fn new_job(key: &str, lines: u32, sleep: f64, effects: &Path) -> NewJob {
    let script = format!(
        "echo begun >>{}/{key}.$PENNINE_ATTEMPT_NUMBER; i=0; while [ $i -lt {lines} ]; do echo {key} line $i; i=$((i+1)); done; \
         sleep {sleep:.2}; echo {key} ends",
        effects.display()
    );
    NewJob {
        project: PROJECT.into(),
        title: Some(key.to_owned()),
        command: ["sh", "-c", &script].map(str::to_owned).to_vec(),
        tries: Some(TRIES),
        ..NewJob::default()
    }
}

/// Makes the folder in which attempts leave marks: jobs of a runner of root's have users of their own.
pub fn make_effects(folder: &Path) -> Result<(), Error> {
    std::fs::create_dir_all(folder)?;
    std::fs::set_permissions(folder, PermissionsExt::from_mode(0o777))?;
    Ok(())
}

/// Submits jobs at a rate until told to stop, each until the service has acknowledged it.
pub async fn submit_until(
    client: Client,
    effects: PathBuf,
    seed: u64,
    rate: u8,
    stop: CancellationToken,
) -> SubmittedJobs {
    let mut random = StdRng::seed_from_u64(seed);
    let mut tick = tokio::time::interval(Duration::from_secs(1) / u32::from(rate.max(1)));
    let outcome: Arc<Mutex<Outcomes>> = Arc::default();
    let mut submitting: JoinSet<u32> = JoinSet::new();
    let mut number = 0;
    while stop.run_until_cancelled(tick.tick()).await.is_some() {
        number += 1;
        let key = key(seed, number);
        let (lines, sleep) = (random.random_range(1..2000), random.random_range(0.0..3.0));
        let new = new_job(&key, lines, sleep, &effects);
        let one = submit_once(
            client.clone(),
            key,
            new,
            lines,
            random.random(),
            Arc::clone(&outcome),
        );
        submitting.spawn(one);
    }
    let cut = submitting.join_all().await.into_iter().sum();
    let outcome = std::mem::take(&mut *outcome.lock().unwrap_or_else(PoisonError::into_inner));
    SubmittedJobs {
        jobs: outcome.jobs,
        refused: outcome.refused,
        effects,
        cut,
    }
}

/// What became of submissions.
#[derive(Default)]
struct Outcomes {
    jobs: BTreeMap<String, SubmittedJob>,
    refused: Vec<String>,
}

/// Submits one job under its key until it is acknowledged. Some requests are cut off after a moment. Returns how many.
async fn submit_once(
    client: Client,
    key: String,
    new: NewJob,
    lines: u32,
    seed: u64,
    outcome: Arc<Mutex<Outcomes>>,
) -> u32 {
    let mut random = StdRng::seed_from_u64(seed);
    let mut cut = 0;
    loop {
        let patience = match random.random_range(0..4) {
            0 => Duration::from_millis(random.random_range(0..40)),
            _ => Duration::from_secs(60),
        };
        match tokio::time::timeout(patience, client.submit(&new, Some(&key))).await {
            Ok(Ok(taken)) => {
                let name = taken.job.name;
                let mut outcome = outcome.lock().unwrap_or_else(PoisonError::into_inner);
                outcome.jobs.insert(key, SubmittedJob { name, lines });
                return cut;
            }
            // The request that was cut off is still being answered.
            Ok(Err(error)) if error.passes() || is_in_progress(&error) => {}
            Ok(Err(error)) => {
                let message = error.problem().map_or(error.to_string(), |problem| {
                    format!("{}: {}", problem.kind, problem.detail)
                });
                let mut outcome = outcome.lock().unwrap_or_else(PoisonError::into_inner);
                outcome
                    .refused
                    .push(format!("{key} was refused: {message}"));
                return cut;
            }
            Err(_) => cut += 1,
        }
        tokio::time::sleep(AGAIN).await;
    }
}

fn is_in_progress(error: &ClientError) -> bool {
    error
        .problem()
        .is_some_and(|problem| problem.word() == "still-in-progress")
}

/// Looks at every job.
pub async fn examine(client: &Client, submitted: &SubmittedJobs) -> Result<Findings, Error> {
    let mut findings = Findings {
        jobs: submitted.jobs.len(),
        cut: submitted.cut,
        problems: submitted.refused.clone(),
        ..Findings::default()
    };
    let mut by_title: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut cursor = None;
    loop {
        let page = client
            .jobs(&JobListFilter::default(), cursor.as_deref(), PAGE)
            .await?;
        for line in page.items {
            by_title.entry(line.title).or_default().push(line.name);
        }
        cursor = page.next;
        if cursor.is_none() {
            break;
        }
    }
    for (title, names) in &by_title {
        if !submitted.jobs.contains_key(title) || names.len() != 1 {
            let problem = format!(
                "{title} was taken {} times: {}",
                names.len(),
                names.join(", ")
            );
            findings.problems.push(problem);
        }
    }
    for (key, one) in &submitted.jobs {
        if by_title
            .get(key)
            .is_none_or(|names| !names.contains(&one.name))
        {
            let problem = format!("{} ({key}) was acknowledged and is lost", one.name);
            findings.problems.push(problem);
            continue;
        }
        let job = client.job(&one.name).await?;
        examine_one(client, key, one, &job, &submitted.effects, &mut findings).await?;
    }
    Ok(findings)
}

async fn examine_one(
    client: &Client,
    key: &str,
    one: &SubmittedJob,
    job: &Job,
    effects: &Path,
    findings: &mut Findings,
) -> Result<(), Error> {
    let name = &one.name;
    findings.attempts += job.attempts.len();
    let mut problem = |what: String| findings.problems.push(format!("{name} ({key}): {what}"));
    if job.line.result != Some(Outcome::Success) {
        problem(format!(
            "its result is {:?}: {:?}",
            job.line.result, job.message
        ));
    }
    let accepted: Vec<u32> = job
        .attempts
        .iter()
        .filter(|attempt| attempt.accepted)
        .map(|attempt| attempt.number)
        .collect();
    let [accepted] = accepted.as_slice() else {
        problem(format!("{} attempts were accepted", accepted.len()));
        return Ok(());
    };
    let times = |number: u32| {
        let marks = std::fs::read_to_string(effects.join(format!("{key}.{number}")));
        marks.unwrap_or_default().lines().count()
    };
    if times(*accepted) != 1 {
        problem(format!(
            "its accepted attempt began {} times",
            times(*accepted)
        ));
    }
    for attempt in &job.attempts {
        if times(attempt.number) > 1 {
            problem(format!("attempt {} began more than once", attempt.number));
        }
    }
    let mut log = Vec::new();
    loop {
        let part = client
            .log(name, Some(*accepted), log.len() as u64, Micros(0))
            .await?;
        if part.bytes.is_empty() {
            break;
        }
        log.extend_from_slice(&part.bytes);
    }
    let printed: String = String::from_utf8_lossy(&log)
        .split_inclusive('\n')
        .filter(|line| !line.starts_with("pennine: "))
        .collect();
    if printed != expected(key, one.lines) {
        problem(format!(
            "its log has {} bytes of output instead of {}, or others",
            printed.len(),
            expected(key, one.lines).len()
        ));
    }
    findings.log_bytes += log.len();
    Ok(())
}
