//! Taking work, from the start of the program to its end.

use crate::abilities::{self, Abilities};
use crate::environment::RunnerEnvironment;
use crate::error::Error;
use crate::handle::AttemptHandle;
use crate::home::{Home, Identity};
use crate::journal::{Journal, RecordedEnd};
use crate::machine_settings::MachineSettings;
use crate::poll::HeldAttempts;
use crate::poll_news::PollNews;
use crate::report;
use crate::share::HostLimit;
use crate::system::clock::BootMark;
use crate::system::keeper;
use crate::{log, machine_probe, poll};
use nix::unistd::gethostname;
use pennine_client::{Route, RunnerClient};
use pennine_core::fact::Facts;
use pennine_core::id::{AttemptId, SessionId};
use pennine_wire::runner_protocol::{LOG_CHUNK_AT_FIRST, LeaveRequest, OwnSettings, Settings};
use std::cell::{Cell, RefCell};
use std::rc::Rc;
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::Notify;
use tokio::task::LocalSet;
use uuid::Uuid;

/// How long a single-use runner tries to say goodbye.
const LEAVES: Duration = Duration::from_secs(5);

/// Prepares what its attempts share.
async fn environment(
    home: &Home,
    route: &Route,
    identity: &Identity,
    found: Option<Abilities>,
) -> Result<Rc<RunnerEnvironment>, Error> {
    let settings = MachineSettings::of(home.path())?;
    let program = "/proc/self/exe".into();
    let (keepers, abilities) = abilities::keepers(program, home.path(), &settings, found).await?;
    let policy = identity.policy;
    keepers.set_policy(policy);
    if abilities.gives(policy.isolation).is_ok() {
        keepers.prepare(identity.slots as usize);
    }
    Ok(Rc::new(RunnerEnvironment {
        home: home.clone(),
        client: RunnerClient::new(&identity.server, &identity.credential, route)?,
        session: SessionId(Uuid::now_v7()),
        single_use: identity.single_use,
        keepers,
        abilities,
        failed_level: RefCell::default(),
        recheck: Notify::new(),
        policy: Cell::new(policy),
        facts: RefCell::default(),
        findings: RefCell::default(),
        own: RefCell::new(OwnSettings {
            slots: identity.slots,
            labels: identity.labels.clone(),
            ..OwnSettings::default()
        }),
        host: gethostname()
            .map(|host| host.to_string_lossy().into_owned())
            .unwrap_or_default(),
        user: user(),
        limit: identity
            .shares
            .clone()
            .map(|(folder, jobs)| {
                HostLimit::new(folder.clone(), jobs)
                    .map_err(|e| Error::Folder(folder, e.to_string()))
            })
            .transpose()?,
        renewed: RefCell::new(BootMark::now()),
        lease: Cell::new(Duration::from(Settings::default().lease_us)),
        log_chunk: Cell::new(LOG_CHUNK_AT_FIRST),
    }))
}

/// Tells the service that the process ends, or that a single-use runner is used up.
async fn take_leave(home: &Home, environment: &RunnerEnvironment, is_used_up: bool) {
    if is_used_up {
        tracing::info!("the job of this single-use runner is finished; it leaves permanently");
        let leave = LeaveRequest {
            used_up: true,
            ..LeaveRequest::default()
        };
        // The service finds out by itself where this does not reach it.
        let left = tokio::time::timeout(LEAVES, environment.client.leave(leave)).await;
        if let Ok(Ok(_)) = left {
            let _ = home.forget_identity();
        }
        return;
    }
    // What still runs ends with this process. The service learns at once that it is gone.
    tracing::info!("stopping");
    let goodbye = environment.client.goodbye(environment.session);
    let _ = tokio::time::timeout(Duration::from_secs(2), goodbye).await;
}

/// Takes work until stopped. `found` is what was found of this machine a moment ago, if it was looked at.
pub async fn work(
    home: &Home,
    route: &Route,
    found: Option<(Facts, Abilities)>,
) -> Result<(), Error> {
    log::start(home)?;
    let identity = home
        .identity()?
        .ok_or_else(|| Error::NotJoined(home.path().to_owned()))?;
    let _lock = home.lock()?;
    let left = clear_leftovers(home);
    home.reserve_space();
    let (facts, abilities) = found.unzip();
    let environment = environment(home, route, &identity, abilities).await?;
    machine_probe::probe(&environment, facts).await;
    let mut interrupt =
        signal(SignalKind::interrupt()).map_err(|e| Error::Machine(e.to_string()))?;
    let mut terminate =
        signal(SignalKind::terminate()).map_err(|e| Error::Machine(e.to_string()))?;
    let tasks = LocalSet::new();
    let news = Rc::new(PollNews {
        single_use: identity.single_use,
        ..PollNews::default()
    });
    let result = tasks
        .run_until(async {
            tokio::task::spawn_local(machine_probe::probe_regularly(environment.clone(), news.clone()));
            let mut told = 0;
            let held = HeldAttempts::default();
            for (attempt, journal) in left {
                report_earlier_attempt(&environment, &news, &held, attempt, journal);
            }
            let mut polls = std::pin::pin!(poll::until_refused(&environment, &identity, &news, &held));
            loop {
                tokio::select! {
                    end = &mut polls => break end,
                    _ = interrupt.recv() => told += 1,
                    _ = terminate.recv() => told += 1,
                }
                if told > 1 {
                    break Ok(());
                }
                tracing::info!(
                    "stopping: it finishes its jobs and accepts no new ones; interrupt again to stop at once"
                );
                news.leaving.set(true);
                news.leave.notify_one();
            }
        })
        .await;
    if result.is_ok() {
        take_leave(home, &environment, news.used_up.get()).await;
    }
    result
}

fn user() -> String {
    std::env::var("USER").unwrap_or_else(|_| match nix::unistd::geteuid() {
        uid if uid.is_root() => "root".to_owned(),
        uid => format!("uid {uid}"),
    })
}

/// Ends processes and removes files of an earlier run. Returns the attempts that it had not reported.
fn clear_leftovers(home: &Home) -> Vec<(AttemptId, Journal)> {
    let attempts = home.leftovers();
    if attempts.is_empty() {
        home.clear_jobs();
        return Vec::new();
    }
    let names: Vec<String> = attempts.iter().map(ToString::to_string).collect();
    let ended = keeper::end_leftovers(&names);
    home.clear_jobs();
    let mut left = Vec::new();
    for attempt in attempts {
        match home.journal(attempt) {
            Some(journal) => left.push((attempt, journal)),
            None => home.sweep(attempt),
        }
    }
    tracing::warn!(
        attempts = names.len(),
        processes = ended,
        to_report = left.len(),
        "cleared leftovers of an earlier run"
    );
    left
}

/// Reports what an earlier life of this program had not reported yet.
fn report_earlier_attempt(
    environment: &Rc<RunnerEnvironment>,
    news: &Rc<PollNews>,
    held: &HeldAttempts,
    attempt: AttemptId,
    journal: Journal,
) {
    let exited = match &journal.end {
        Some(RecordedEnd::Result(ran)) => ran.exited.instant(),
        _ => Instant::now(),
    };
    let handle = Rc::new(AttemptHandle::left(exited));
    poll::hold(held, attempt, journal.lease, &handle);
    let (environment, news, held) = (environment.clone(), news.clone(), held.clone());
    tokio::task::spawn_local(async move {
        report::resume(environment, attempt, journal, handle).await;
        poll::release(&held, &news, attempt);
    });
}
