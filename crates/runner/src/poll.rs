//! The one outstanding poll, and the attempts that it holds.

use crate::attempt;
use crate::backoff::Backoff;
use crate::environment::RunnerEnvironment;
use crate::error::{Error, check_protocol, describe};
use crate::handle::AttemptHandle;
use crate::home::Identity;
use crate::machine_probe;
use crate::poll_news::PollNews;
use crate::system::clock::BootMark;
use pennine_client::ClientError;
use pennine_core::id::{AttemptId, LeaseToken};
use pennine_wire::runner_protocol::{OwnSettings, PROTOCOL, Poll, PollAnswer, RunnerReport};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::rc::Rc;
use std::time::Duration;

/// How long the next poll waits for what has just been assigned to begin.
const BEGIN: Duration = Duration::from_millis(100);

/// The attempts that this runner has, with their leases.
pub type HeldAttempts = Rc<RefCell<BTreeMap<AttemptId, (LeaseToken, Rc<AttemptHandle>)>>>;

/// Adds an attempt to the held ones.
pub fn hold(
    held: &HeldAttempts,
    attempt: AttemptId,
    lease: LeaseToken,
    handle: &Rc<AttemptHandle>,
) {
    held.borrow_mut().insert(attempt, (lease, handle.clone()));
}

/// Removes an attempt; the last one of a runner that leaves ends it.
pub fn release(held: &HeldAttempts, news: &PollNews, attempt: AttemptId) {
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
        takes_no_jobs: machine_probe::unmet(environment),
    }
}

/// How many jobs it can have now, where that is fewer than its slots.
fn room(environment: &RunnerEnvironment, holds: u32) -> Option<u32> {
    let limit = environment.limit.as_ref()?;
    Some(holds.saturating_add(limit.free().unwrap_or(0)))
}

/// Polls until the service refuses permanently, or this program is to stop and has no job any more.
pub async fn until_refused(
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
                    machine_probe::apply_policy(environment, news, policy);
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
            release(&held, &news, id);
        });
    }
    for stop in answer.stop {
        if let Some((_, handle)) = held.borrow().get(&stop.attempt) {
            handle.stop(stop.cause, &stop.message);
        }
    }
    fresh
}
