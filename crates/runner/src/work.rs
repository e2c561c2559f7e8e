//! Taking work: one outstanding poll, and a task for each attempt.

use crate::abilities::{self, Abilities};
use crate::attempt;
use crate::backoff::Backoff;
use crate::doctor;
use crate::environment::RunnerEnvironment;
use crate::error::{Error, check_protocol, describe};
use crate::facts;
use crate::handle::AttemptHandle;
use crate::home::{Home, Identity};
use crate::journal::{Journal, RecordedEnd};
use crate::machine_settings::MachineSettings;
use crate::report;
use crate::share::HostLimit;
use crate::system::clock::BootMark;
use crate::system::keeper;
use nix::unistd::gethostname;
use pennine_client::{ClientError, Route, RunnerClient};
use pennine_core::fact::Facts;
use pennine_core::finding::{Finding, Verdict};
use pennine_core::id::{AttemptId, LeaseToken, SessionId};
use pennine_core::job_policy::JobPolicy;
use pennine_wire::runner_protocol::{
    LOG_CHUNK_AT_FIRST, LeaveRequest, OwnSettings, PROTOCOL, Poll, PollAnswer, RunnerReport,
    Settings,
};
use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::rc::Rc;
use std::time::{Duration, Instant};
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::Notify;
use tokio::task::LocalSet;
use tracing_subscriber::filter::{LevelFilter, ParseError, Targets};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;
use uuid::Uuid;

/// How long the next poll waits for what has just been assigned to begin.
const BEGIN: Duration = Duration::from_millis(100);
/// How long a single-use runner tries to say goodbye.
const LEAVES: Duration = Duration::from_secs(5);

/// The attempts that this runner has, with their leases.
type HeldAttempts = Rc<RefCell<BTreeMap<AttemptId, (LeaseToken, Rc<AttemptHandle>)>>>;

/// Starts the log: to stderr, and to a file of its own, apart from its jobs' logs, which the service keeps: people look there when
/// they cannot ask the service.
fn start_log(home: &Home) -> Result<(), Error> {
    let levels = levels(std::env::var("PENNINE_RUNNER_LOG").unwrap_or_else(|_| "info".to_owned()))?;
    let (file, error) = match home.log_file() {
        Ok(file) => (Some(file), None),
        Err(error) => (None, Some(error)),
    };
    let file = file.map(|file| {
        tracing_subscriber::fmt::layer()
            .with_ansi(false)
            .with_writer(file)
    });
    let colours = std::io::stderr().is_terminal();
    let errors = tracing_subscriber::fmt::layer()
        .with_ansi(colours)
        .with_writer(std::io::stderr);
    tracing_subscriber::registry()
        .with(levels)
        .with(errors)
        .with(file)
        .init();
    if let Some(error) = error {
        tracing::warn!(
            "its own log cannot be written in {}: {error}",
            home.path().display()
        );
    }
    Ok(())
}

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
    start_log(home)?;
    let identity = home
        .identity()?
        .ok_or_else(|| Error::NotJoined(home.path().to_owned()))?;
    let _lock = home.lock()?;
    let left = clear_leftovers(home);
    home.reserve_space();
    let (facts, abilities) = found.unzip();
    let environment = environment(home, route, &identity, abilities).await?;
    probe_machine(&environment, facts).await;
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
            tokio::task::spawn_local(probe_regularly(environment.clone(), news.clone()));
            let mut told = 0;
            let held = HeldAttempts::default();
            for (attempt, journal) in left {
                report_earlier_attempt(&environment, &news, &held, attempt, journal);
            }
            let mut polls = std::pin::pin!(poll_until_refused(&environment, &identity, &news, &held));
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

/// How often the machine is looked at again: tools come and go.
const LOOK_EVERY: Duration = Duration::from_secs(3600);

/// What the poll has to tell of the machine, and who else waits for what.
#[derive(Default)]
struct PollNews {
    /// The machine's facts differ from the reported ones.
    to_tell: Cell<bool>,
    /// The search path of programs has changed.
    look: Notify,
    /// Its first job is its last.
    single_use: bool,
    used_up: Cell<bool>,
    /// This program is to stop when it has no job any more.
    leaving: Cell<bool>,
    leave: Notify,
}

/// Finds out what the machine is. True if that is another than it was.
async fn probe_machine(environment: &RunnerEnvironment, found: Option<Facts>) -> bool {
    let facts = match found {
        Some(facts) => facts,
        None => {
            let (folder, path) = (environment.home.path(), environment.path());
            facts::gather(folder, &path, &environment.abilities).await
        }
    };
    let mut findings = doctor::of_machine(&environment.home, &environment.abilities);
    findings.extend(isolation_finding(environment));
    findings.extend(doctor::of_clock(&environment.client).await);
    findings.retain(|finding| finding.verdict > Verdict::Passed);
    for finding in &findings {
        tracing::warn!("{}: {}", finding.check, finding.message);
    }
    let other = environment.facts.replace(facts.clone()) != facts;
    environment.findings.replace(findings.clone()) != findings || other
}

/// What the pool asks of a machine and this one does not give.
fn unmet(environment: &RunnerEnvironment) -> Option<String> {
    let level = environment.policy.get().isolation;
    let why = environment.gives(level).err()?;
    Some(format!(
        "the machine does not give the isolation level {level}, which the pool asks for: {why}"
    ))
}

fn isolation_finding(environment: &RunnerEnvironment) -> Option<Finding> {
    let message = format!("takes no jobs: {}", unmet(environment)?);
    Some(Finding::failed("isolation", message).remedy(format!(
        "make it possible, or choose another level for the pool: pennine pool set POOL --isolation {}",
        environment.abilities.strongest()
    )))
}

/// Keeps jobs to come as the pool says.
fn apply_policy(environment: &RunnerEnvironment, news: &PollNews, policy: JobPolicy) {
    if environment.policy.replace(policy) == policy {
        return;
    }
    environment.keepers.set_policy(policy);
    if let Err(error) = environment
        .home
        .change_identity(|identity| identity.policy = policy)
    {
        tracing::warn!(
            "the pool's new policy could not be stored; the next start begins with the earlier one: {error}"
        );
    }
    match environment.gives(policy.isolation) {
        Ok(()) => environment.keepers.prepare(environment.slots()),
        Err(why) => tracing::error!("no jobs are taken: {why}"),
    }
    news.look.notify_one();
}

async fn probe_regularly(environment: Rc<RunnerEnvironment>, news: Rc<PollNews>) {
    loop {
        tokio::select! {
            // Whatever has failed is tried again.
            () = tokio::time::sleep(LOOK_EVERY) => environment.failed_level.replace(None),
            () = news.look.notified() => None,
            () = environment.recheck.notified() => None,
        };
        if probe_machine(&environment, None).await {
            tracing::info!("the machine's facts have changed; they are sent with the next poll");
            news.to_tell.set(true);
        }
    }
}

/// What is logged, by module.
fn levels(given: String) -> Result<Targets, Error> {
    // A word alone would be taken for a module, of which everything is logged.
    for word in given.split(',').filter(|part| !part.contains('=')) {
        if let Err(error) = word.parse::<LevelFilter>() {
            return Err(Error::Level(given.clone(), error.to_string()));
        }
    }
    let levels = given.parse();
    levels.map_err(|error: ParseError| Error::Level(given, error.to_string()))
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
    hold(held, attempt, journal.lease, &handle);
    let (environment, news, held) = (environment.clone(), news.clone(), held.clone());
    tokio::task::spawn_local(async move {
        report::resume(environment, attempt, journal, handle).await;
        let_go(&held, &news, attempt);
    });
}

fn hold(held: &HeldAttempts, attempt: AttemptId, lease: LeaseToken, handle: &Rc<AttemptHandle>) {
    held.borrow_mut().insert(attempt, (lease, handle.clone()));
}

fn let_go(held: &HeldAttempts, news: &PollNews, attempt: AttemptId) {
    held.borrow_mut().remove(&attempt);
    if news.single_use {
        news.used_up.set(true);
        news.leaving.set(true);
    }
    if news.leaving.get() {
        news.leave.notify_one();
    }
}

/// The next poll.
fn next_poll(
    environment: &RunnerEnvironment,
    identity: &Identity,
    news: &PollNews,
    held: &HeldAttempts,
    sequence: u64,
) -> Poll {
    let about = news.to_tell.replace(false).then(|| RunnerReport {
        facts: environment.facts.borrow().clone(),
        slots: identity.slots,
        labels: identity.labels.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        findings: environment.findings.borrow().clone(),
    });
    let (held, own) = (held.borrow(), environment.own.borrow());
    let holds = u32::try_from(held.len()).unwrap_or(u32::MAX);
    Poll {
        protocol: PROTOCOL,
        session: environment.session,
        sequence,
        free: own.slots.saturating_sub(holds),
        held: held
            .iter()
            .map(|(attempt, (lease, handle))| handle.held(*attempt, *lease))
            .collect(),
        about,
        at_once: false,
        settings_version: own.version,
        leaving: news.leaving.get(),
        room: room(environment, holds),
        takes_no_jobs: unmet(environment),
    }
}

/// How many jobs it can have now, where that is fewer than its slots.
fn room(environment: &RunnerEnvironment, holds: u32) -> Option<u32> {
    let limit = environment.limit.as_ref()?;
    Some(holds.saturating_add(limit.free().unwrap_or(0)))
}

/// Polls until the service refuses permanently, or this program is to stop and has no job any more.
async fn poll_until_refused(
    environment: &Rc<RunnerEnvironment>,
    identity: &Identity,
    news: &Rc<PollNews>,
    held: &HeldAttempts,
) -> Result<(), Error> {
    let mut pace = Backoff::default();
    let mut sequence = 0;
    news.to_tell.set(true);
    let mut connected = false;
    let mut checked = false;
    loop {
        if news.leaving.get() && may_stop(held, connected) {
            return Ok(());
        }
        if !checked {
            match environment
                .client
                .hello()
                .await
                .map(|hello| check_protocol(&hello))
            {
                Ok(Ok(())) => checked = true,
                Ok(Err(error)) => return Err(error),
                Err(error) => {
                    log_lost_contact(&mut connected, &mut pace, &error);
                    pace.pause().await;
                    continue;
                }
            }
        }
        sequence += 1;
        let poll = next_poll(environment, identity, news, held, sequence);
        let telling = poll.about.is_some();
        let sent = BootMark::now();
        let answer = tokio::select! {
            answer = environment.client.poll(&poll) => answer,
            () = other_room(environment, &poll) => {
                news.to_tell.set(news.to_tell.get() || telling);
                continue;
            }
            () = news.leave.notified() => {
                news.to_tell.set(news.to_tell.get() || telling);
                continue;
            }
        };
        match answer {
            Ok(answer) => {
                environment.renewed.replace(sent);
                environment.lease.set(answer.settings.lease_us.into());
                environment.log_chunk.set(answer.settings.log_chunk);
                if !connected {
                    connected = true;
                    tracing::info!(
                        "connected to {} as {} ({}), {} slots",
                        identity.server,
                        identity.name,
                        identity.short,
                        environment.slots()
                    );
                }
                pace.reset();
                if answer.renew {
                    renew(environment).await;
                }
                if let Some(own) = answer.own.clone() {
                    apply_own_settings(environment, news, own);
                }
                if let Some(policy) = answer.policy {
                    apply_policy(environment, news, policy);
                }
                let fresh = take(environment, news, held, answer);
                // A reported start acknowledges the assignment; a poll would only delay it.
                let told = futures::future::join_all(fresh.iter().map(|one| one.begun()));
                let _ = tokio::time::timeout(BEGIN, told).await;
            }
            Err(error) => {
                if telling {
                    news.to_tell.set(true);
                }
                if let Some(error) = final_refusal(&error) {
                    return Err(error);
                }
                log_lost_contact(&mut connected, &mut pace, &error);
                pace.pause().await;
            }
        }
    }
}

/// Whether a stopping runner may exit: it has no job, or only finished jobs whose results are stored on disk while the
/// service is unreachable.
fn may_stop(held: &HeldAttempts, connected: bool) -> bool {
    let held = held.borrow();
    held.is_empty() || (!connected && held.values().all(|(_, handle)| handle.ended()))
}

/// How often the room on the host is looked at, where runners share it.
const ROOM_EVERY: Duration = Duration::from_millis(500);

/// Returns when there is other room on the host than the poll said; never where it is not shared.
async fn other_room(environment: &RunnerEnvironment, poll: &Poll) {
    let Some((limit, told)) = environment.limit.as_ref().zip(poll.room) else {
        return std::future::pending().await;
    };
    let held = u32::try_from(poll.held.len()).unwrap_or(u32::MAX);
    loop {
        tokio::time::sleep(ROOM_EVERY).await;
        if limit
            .free()
            .is_ok_and(|free| held.saturating_add(free) != told)
        {
            return;
        }
    }
}

/// Takes another credential: written down first, shown from then on.
async fn renew(environment: &RunnerEnvironment) {
    let renewed = async {
        let next = environment.client.renew().await?;
        let credential = next.credential.clone();
        environment
            .home
            .change_identity(|identity| identity.credential = credential)?;
        environment.client.show(&next.credential);
        tracing::info!("the credential has been renewed");
        Ok::<(), Error>(())
    };
    if let Err(error) = renewed.await {
        tracing::warn!("the credential could not be renewed; retrying with the next poll: {error}");
    }
}

/// Keeps to what people set of this runner.
fn apply_own_settings(environment: &RunnerEnvironment, news: &PollNews, own: OwnSettings) {
    tracing::info!(
        version = own.version,
        slots = own.slots,
        "the service has new settings for this runner"
    );
    environment.keepers.set_paths(&own.paths);
    let before = environment.own.replace(own);
    environment.keepers.prepare(environment.slots());
    if before.paths != environment.own.borrow().paths {
        news.look.notify_one();
    }
}

/// Tells about lost contact, once.
fn log_lost_contact(connected: &mut bool, pace: &mut Backoff, error: &ClientError) {
    let first = std::mem::take(connected) || pace.is_fresh();
    if first {
        let message = describe(error).replace("\n  ", "; ");
        let stop = if message.ends_with(['?', '.']) {
            ""
        } else {
            "."
        };
        tracing::warn!("{message}{stop} Retrying; running jobs continue");
    }
}

/// A refusal that trying again will not change.
fn final_refusal(error: &ClientError) -> Option<Error> {
    let problem = error.problem()?;
    let last = matches!(problem.status, 401 | 410 | 422) || problem.word() == "protocol-not-spoken";
    last.then(|| Error::Client(ClientError::Refused(Box::new(problem.clone()))))
}

/// Acts on an answer: starts new attempts and stops others. Returns the new ones.
fn take(
    environment: &Rc<RunnerEnvironment>,
    news: &Rc<PollNews>,
    held: &HeldAttempts,
    answer: PollAnswer,
) -> Vec<Rc<AttemptHandle>> {
    let mut fresh = Vec::new();
    for assigned in answer.assignments {
        let id = assigned.attempt;
        if held.borrow().contains_key(&id) {
            continue;
        }
        tracing::info!(
            job = assigned.job,
            title = assigned.title,
            attempt = assigned.number,
            "begins"
        );
        let (assigned, handle) = (Rc::new(assigned), Rc::new(AttemptHandle::default()));
        hold(held, id, assigned.lease, &handle);
        fresh.push(handle.clone());
        let (environment, news, held) = (environment.clone(), news.clone(), held.clone());
        tokio::task::spawn_local(async move {
            attempt::run(environment, assigned, handle).await;
            let_go(&held, &news, id);
        });
    }
    for stop in answer.stop {
        if let Some((_, handle)) = held.borrow().get(&stop.attempt) {
            handle.stop(stop.cause, &stop.message);
        }
    }
    fresh
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_word_of_the_levels_is_checked() {
        for fits in ["info", "warn,pennine_runner=debug", "off"] {
            assert!(levels(fits.to_owned()).is_ok(), "{fits}");
        }
        for wrong in ["loud", "info,loud", "info,pennine_runner=loud"] {
            assert!(levels(wrong.to_owned()).is_err(), "{wrong}");
        }
    }
}
