//! The polls of runners.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::runners::attempts::lose;
use crate::presence::Presence;
use crate::validation::{PROGRAM_TEXT, REASON_TEXT, check_labels, check_slots, shortened};
use pennine_core::finding::Finding;
use pennine_core::id::{AttemptId, RunnerId, SessionId, ShortName};
use pennine_core::lifecycle::attempt::{AttemptState, LEASE};
use pennine_core::lifecycle::outcome::not_held;
use pennine_core::lifecycle::runner::{DesiredState, RunnerEvent};
use pennine_core::overrides::accepted;
use pennine_core::size::ByteSize;
use pennine_core::time::Moment;
use pennine_store::attempt::report::{self, HeldLease};
use pennine_store::attempt::{self, ForRunner};
use pennine_store::runner;
use pennine_store::runner_facts::{self, MachineReport};
use pennine_store::{Db, credential};
use pennine_wire::runner_protocol::{
    Assigned, AttemptPhase, HeldAttempt, OwnSettings, Poll, PollAnswer, Settings, Stop, StopCause,
};
use std::net::IpAddr;
use std::time::Duration;

pub use pennine_store::credential::CredentialHolder;

/// A session that was heard of this long ago is still the runner's, so that another is refused.
pub const SESSION_LIVES: Duration = Duration::from_secs(10);

/// The runner with this credential, from memory where it is known there.
pub async fn known(app: &App, hash: &[u8]) -> Result<Option<CredentialHolder>> {
    match app.runner_cache.known(hash) {
        Some(known) => Ok(Some(known)),
        // Boxed, as in `poll`.
        None => Box::pin(look_up(app, hash.to_vec())).await,
    }
}

/// The runner with a credential that a request from this address carries.
///
/// # Errors
/// Too many attempts where the address has shown many unknown credentials.
pub async fn authenticate(
    app: &App,
    hash: &[u8],
    peer: Option<IpAddr>,
) -> Result<Option<CredentialHolder>> {
    if let Some(known) = app.runner_cache.known(hash) {
        return Ok(Some(known));
    }
    let look_up = look_up(app, hash.to_vec());
    // Boxed, as in `poll`.
    // A token that is shown here by mistake is no credential, but still a token.
    let key = [b"credential ", hash].concat();
    Box::pin(app.failed_attempts.guard(peer, &key, look_up)).await
}

/// The runner with this credential, from the record.
pub async fn look_up(app: &App, hash: Vec<u8>) -> Result<Option<CredentialHolder>> {
    let mark = app.runner_cache.mark();
    let mut connection = app.store.runners().await?;
    let mut known = credential::by_credential(&mut connection, &hash).await?;
    if let Some(known) = known.as_mut().filter(|known| known.shows_next) {
        let now = app.clock.now();
        credential::adopt_credential(&mut connection, known.id.0, &hash, now).await?;
        (known.shows_next, known.credential_since) = (false, Db(now));
        tracing::info!(
            runner = known.name,
            "uses its next credential; the previous one is no longer valid"
        );
        app.feed.kick();
    }
    if let Some(known) = &known {
        app.runner_cache.learn(mark, hash, known);
    }
    Ok(known)
}

/// Makes the poll's session the runner's, records what it says of its machine, and that it is connected.
pub async fn accept_session(
    app: &App,
    known: &CredentialHolder,
    sent: &Poll,
    peer: Option<IpAddr>,
) -> Result<Presence> {
    let id = known.id.0;
    begin_session(app, known, sent).await?;
    let presence = app.presence.begin(id, sent.session, peer, &app.clock);
    let now = app.clock.now();
    if let Some(about) = &sent.about {
        check_slots(about.slots)?;
        let labels = check_labels("about.labels", &about.labels)?;
        let facts = accepted(&about.facts);
        let about = MachineReport {
            facts: &facts,
            labels: &labels,
            slots: about.slots,
            program: shortened(&about.version, PROGRAM_TEXT),
            findings: &check_findings(&about.findings),
        };
        let mut connection = app.store.runners().await?;
        let recent =
            runner_facts::facts_versions(&mut connection, id, now - VERSIONS_WINDOW).await?;
        if recent >= MOST_VERSIONS {
            tracing::warn!(
                runner = known.name,
                recent,
                "its facts change too often; the report is ignored"
            );
        } else if runner_facts::set_reported(&mut connection, id, &about, now).await? {
            app.runner_cache.runner_changed(id);
            app.feed.kick();
        }
    }
    let room = sent
        .room
        .map(|room| i32::try_from(room).unwrap_or(i32::MAX));
    if room != known.room {
        let mut connection = app.store.runners().await?;
        runner::set_room(&mut connection, id, room, now).await?;
        app.runner_cache.runner_changed(id);
        app.feed.kick();
    }
    // How many slots are used does not matter here: what is stored is whether it takes work.
    let refusal = sent.takes_no_jobs.as_deref();
    let refusal = refusal.map(|why| format!("takes no jobs: {}", shortened(why, REASON_TEXT)));
    let (desired_state, reason) = match (known.desired_state.0, &refusal) {
        (DesiredState::Work, _) if sent.leaving => (DesiredState::Drain, "its program is to stop"),
        (DesiredState::Work, Some(refusal)) => (DesiredState::Pause, refusal.as_str()),
        (desired_state, _) => (desired_state, "connected"),
    };
    let seen = RunnerEvent::Seen {
        desired_state,
        used: 0,
        slots: 1,
    };
    if let Ok(to) = known.state.after(seen)
        && to != known.state.0
    {
        let mut connection = app.store.runners().await?;
        if runner::set_state(&mut connection, id, known.state.0, to, reason, now).await? {
            app.runner_cache.runner_changed(id);
            app.feed.kick();
        }
    }
    Ok(presence)
}

/// Returns the answer to a poll. Held attempts that the poll has just named are recorded first.
pub async fn pending_for_runner(
    app: &App,
    known: &CredentialHolder,
    sent: &Poll,
    just_said: bool,
) -> Result<PollAnswer> {
    let open = open_attempts(app, known.id.0, &sent.held).await?;
    if just_said {
        let now = app.clock.now();
        record_held_attempts(app, known.id.0, sent, &open, now).await?;
        end_unheld_attempts(app, known, sent, &open, now).await?;
    }
    Ok(answer(app, known, sent, &open))
}

/// What a runner has or should have, from memory where that is known, and knows what the runner holds.
async fn open_attempts(
    app: &App,
    runner: RunnerId,
    held: &[HeldAttempt],
) -> Result<Vec<ForRunner>> {
    let held = held.iter().map(|one| one.attempt);
    if let Some(open) = app.runner_cache.open(runner, held) {
        return Ok(open);
    }
    let mark = app.runner_cache.open_mark(runner);
    let mut connection = app.store.runners().await?;
    let open = attempt::for_runner(&mut connection, runner).await?;
    app.runner_cache.learn_open(mark, runner, &open);
    Ok(open)
}

/// How long to park a poll: the setting less up to a quarter of it, so that runners do not come in step.
pub fn park_time(settings: &Settings, sent: &Poll) -> Duration {
    let whole = Duration::from(settings.park_us);
    let spread =
        (sent.session.0.as_u128() as u64 ^ sent.sequence.wrapping_mul(0x9E37_79B9_7F4A_7C15)) % 256;
    whole - whole / 4 * u32::try_from(spread).unwrap_or(0) / 256
}

/// Makes the poll's session the runner's, unless another is alive.
pub async fn begin_session(app: &App, known: &CredentialHolder, sent: &Poll) -> Result<()> {
    let id = known.id.0;
    if app.presence.knows(id, sent.session) {
        return Ok(());
    }
    let now = app.clock.now();
    let since = now - SESSION_LIVES;
    let held: Vec<AttemptId> = sent.held.iter().map(|held| held.attempt).collect();
    let here = app.presence.other_live(id, sent.session, since);
    // What another replica has seen is in the record; what this one knows to be closed may not be there yet.
    let elsewhere = (!app.presence.knows_any(id)).then_some(since);
    let begun = !here && {
        let mut connection = app.store.runners().await?;
        report::begin_session(&mut connection, id, sent.session, &held, elsewhere, now).await?
    };
    if !begun {
        let message = format!("another pennine-runner is connected as {}", known.name);
        tracing::warn!(runner = known.name, session = %sent.session, "a second live session was refused");
        return Err(ServiceError::conflict("session-in-use", "The runner is connected already", message).remedy(
            "stop the other one; if the credential was copied to a second machine, join that machine with its own ticket",
        ));
    }
    app.runner_cache.open_changed(id);
    Ok(())
}

/// Records what the poll's list of held attempts tells.
pub async fn record_held_attempts(
    app: &App,
    runner: RunnerId,
    sent: &Poll,
    open: &[ForRunner],
    now: Moment,
) -> Result<()> {
    let of = |held: AttemptId| open.iter().find(|one| one.id.0 == held);
    let fresh: Vec<AttemptId> = sent
        .held
        .iter()
        .filter(|held| {
            of(held.attempt).is_some_and(|one| {
                one.lease.0 == held.lease && one.state.0 == AttemptState::Assigned
            })
        })
        .map(|held| held.attempt)
        .collect();
    if !fresh.is_empty() {
        let mut connection = app.store.runners().await?;
        report::acknowledge(&mut connection, &fresh, sent.session, now).await?;
        for id in fresh {
            app.runner_cache
                .moved(runner, id, AttemptState::Acknowledged);
        }
    }
    for held in sent
        .held
        .iter()
        .filter(|held| held.phase == AttemptPhase::Finalizing)
    {
        if of(held.attempt).is_some_and(|one| one.state.0 == AttemptState::Executing) {
            let ago = Duration::from(held.exited_ago_us.unwrap_or_default());
            let mut connection = app.store.runners().await?;
            let lease = HeldLease {
                attempt: held.attempt,
                runner,
                lease: held.lease,
            };
            report::exit(&mut connection, lease, now - ago, now).await?;
            app.runner_cache
                .moved(runner, held.attempt, AttemptState::Finalizing);
            app.feed.kick();
        }
    }
    Ok(())
}

/// Ends attempts that this session has acknowledged and that neither this poll nor the one before names: the runner has
/// lost them, and nothing else would ever end them.
async fn end_unheld_attempts(
    app: &App,
    known: &CredentialHolder,
    sent: &Poll,
    open: &[ForRunner],
    now: Moment,
) -> Result<()> {
    let runner = known.id.0;
    let is_named = |one: &ForRunner| sent.held.iter().any(|held| held.attempt == one.id.0);
    let unnamed = open
        .iter()
        .filter(|one| one.state.0 != AttemptState::Assigned && !is_named(one))
        // The leader ends those of an earlier session.
        .filter(|one| one.session.is_none_or(|session| session.0 == sent.session))
        .map(|one| one.id.0)
        .collect();
    for attempt in app.presence.not_named(runner, sent.session, unnamed) {
        let mut connection = app.store.runners().await?;
        let loss = not_held(&known.name);
        if lose(&mut connection, None, attempt, &loss, None, now).await? {
            tracing::warn!(%attempt, reason = loss.message, "an attempt was lost");
            app.feed.kick();
        }
        // Where it was over already, what is remembered of it is stale.
        app.runner_cache.open_changed(runner);
    }
    Ok(())
}

pub fn answer(app: &App, known: &CredentialHolder, sent: &Poll, open: &[ForRunner]) -> PollAnswer {
    let holds = |id: AttemptId| sent.held.iter().any(|held| held.attempt == id);
    let assignments = open
        .iter()
        .filter(|one| one.state.0 == AttemptState::Assigned && !holds(one.id.0))
        .map(|one| Assigned {
            attempt: one.id.0,
            lease: one.lease.0,
            number: one.number.max(0).unsigned_abs(),
            job: ShortName::Job.name(one.job_number),
            title: one.title.clone(),
            project: one.project.clone(),
            pool: one.pool.clone(),
            pool_labels: one.pool_labels.clone(),
            runner: known.name.clone(),
            requirement: one.requirement.clone(),
            command: one.command.0.clone(),
            variables: one.variables.0.clone(),
            secrets: one.secrets.0.clone(),
            inherited_variables: one.inherited_variables.0.clone(),
            time_limit_us: one.time_limit_us.0,
            log_cap: ByteSize(app.config.limits.job_log_bytes),
            exclusive: one.exclusive,
            policy: one.policy.0,
            trust: one.trust.0,
            commands: one.commands.0.clone(),
            source: one.source.as_ref().map(|source| source.0.clone()),
        })
        .collect();
    let stop = sent.held.iter().filter_map(|held| {
        let known = open
            .iter()
            .find(|one| one.id.0 == held.attempt && one.lease.0 == held.lease);
        let (cause, message) = match known {
            Some(one) if held.phase != AttemptPhase::Finalizing => (
                StopCause::Cancelled,
                format!("cancelled by {}", one.cancel_by.as_ref()?),
            ),
            Some(_) => return None,
            None => (
                StopCause::Over,
                "the attempt has ended for the service".to_owned(),
            ),
        };
        (held.stopping != Some(cause)).then_some(Stop {
            attempt: held.attempt,
            cause,
            message,
        })
    });
    let stop = stop.collect();
    let settings = Settings {
        lease_us: LEASE.into(),
        ..Settings::default()
    };
    PollAnswer {
        sequence: sent.sequence,
        assignments,
        stop,
        settings,
        own: own_settings(known).filter(|own| own.version != sent.settings_version),
        policy: Some(known.policy.0),
        renew: app.clock.now().since(known.credential_since.0) > app.config.limits.credential_age(),
    }
}

/// How many versions of a machine's facts are kept of one window: each stays on record, and each wakes the leader.
const MOST_VERSIONS: i64 = 60;
const VERSIONS_WINDOW: Duration = Duration::from_secs(3600);

/// The most findings of a machine that are kept, and the most characters of each text.
pub const MOST_FINDINGS: usize = 32;

pub const FINDING_TEXT: usize = 500;

/// What a machine says is not as it should be on it, as much of it as is kept.
pub fn check_findings(findings: &[Finding]) -> Vec<Finding> {
    let cut = |text: &str| shortened(text, FINDING_TEXT).to_owned();
    let kept = findings.iter().take(MOST_FINDINGS).map(|finding| Finding {
        check: cut(&finding.check),
        verdict: finding.verdict,
        message: cut(&finding.message),
        remedy: finding.remedy.as_deref().map(cut),
    });
    kept.collect()
}

/// What people set of a runner, if they ever did.
pub fn own_settings(known: &CredentialHolder) -> Option<OwnSettings> {
    let version = u32::try_from(known.settings_version)
        .ok()
        .filter(|v| *v > 0)?;
    let set = &known.settings.0;
    let variables = set.variables.iter();
    Some(OwnSettings {
        version,
        slots: known.slots.max(0).unsigned_abs(),
        labels: known.labels.clone(),
        facts: set
            .facts
            .iter()
            .map(|(name, set)| (name.clone(), set.value.clone()))
            .collect(),
        variables: variables
            .map(|(name, set)| (name.clone(), set.value.clone()))
            .collect(),
        paths: set
            .paths
            .as_ref()
            .map(|set| set.value.clone())
            .unwrap_or_default(),
    })
}

/// Records that the runner's process ends.
pub async fn end_session(app: &App, known: &CredentialHolder, session: SessionId) -> Result<()> {
    let now = app.clock.now();
    app.presence.close(known.id.0, session, now);
    if known.state.is_connected()
        && let Ok(to) = known.state.after(RunnerEvent::Lose)
    {
        let mut connection = app.store.runners().await?;
        let (id, from) = (known.id.0, known.state.0);
        runner::set_state(
            &mut connection,
            id,
            from,
            to,
            "its program was stopped",
            now,
        )
        .await?;
        app.runner_cache.runner_changed(id);
        app.feed.kick();
    }
    Ok(())
}
