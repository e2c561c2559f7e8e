//! From settings to a running service, and back.

use crate::app::{App, Parts};
use crate::background::{Supervisor, Task, TaskTurns};
use crate::clock::Clock;
use crate::config::Config;
use crate::delivery::{traces, webhooks};
use crate::feed::Feed;
use crate::http::accept::ConnectionLimits;
use crate::http::tls::HttpsAcceptor;
use crate::log_store::LogStore;
use crate::objects::Objects;
use crate::{
    alerting, audit_sealing, bulk_actions, housekeeping, http, installation, key_watch, leader,
    poll_wakeups, rollup_updates,
};
use anyhow::Context;
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_store::Store;
use sd_notify::NotifyState;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// How long open requests may take to end after a stop.
const DRAIN: Duration = Duration::from_secs(10);

/// Runs the service until SIGINT or SIGTERM.
pub async fn run(config: Config) -> anyhow::Result<()> {
    let listener = TcpListener::bind(config.listen).await.with_context(|| {
        format!(
            "cannot listen on {}: is another service there? (setting: listen)",
            config.listen
        )
    })?;
    use tokio::signal::unix::{SignalKind, signal};
    let mut interrupt = signal(SignalKind::interrupt())?;
    let mut terminate = signal(SignalKind::terminate())?;
    let shutdown = async move {
        tokio::select! {
            _ = interrupt.recv() => {}
            _ = terminate.recv() => {}
        }
    };
    serve(config, listener, None, shutdown.boxed()).await
}

/// Runs the service on a listener until `shutdown` ends. A clock is given by tests.
///
/// Boxed, so that the service is compiled here and not once more in each program that calls this.
pub fn serve(
    config: Config,
    listener: TcpListener,
    clock: Option<Clock>,
    shutdown: BoxFuture<'static, ()>,
) -> BoxFuture<'static, anyhow::Result<()>> {
    until(config, listener, clock, shutdown).boxed()
}

async fn until(
    config: Config,
    listener: TcpListener,
    clock: Option<Clock>,
    mut shutdown: BoxFuture<'static, ()>,
) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let moment = tokio::select! {
        ready = installation::wait_for_database(&store) => ready?,
        () = &mut shutdown => return Ok(()),
    };
    let clock = clock.unwrap_or_else(|| Clock::starting_at(moment));
    let https = HttpsAcceptor::new(&config.tls)?;
    let address = listener.local_addr()?;
    let public_url = config.public_url(address);

    std::fs::create_dir_all(&config.data_dir).with_context(|| {
        format!(
            "the data folder {} cannot be made",
            config.data_dir.display()
        )
    })?;
    let objects = Objects::of(&config)?;
    if objects.takes_over() {
        tracing::warn!(
            "logs in {} are still read; move them to the bucket with `pennined migrate-objects`",
            config.data_dir.join("objects").display()
        );
    }
    let (found, encryption) = installation::open(&config, &store, &objects, clock.now()).await?;
    installation::first_token(&store, &config.data_dir, clock.now()).await?;

    let stop = CancellationToken::new();
    let feed = Feed::default();
    let turns = TaskTurns::new(config.fault);
    let app = App::new(Parts {
        turns: turns.clone(),
        outgoing: config.outgoing.policy()?,
        authority: config.tls.authority()?,
        config,
        public_url,
        store: store.clone(),
        clock,
        installation: found,
        encryption,
        feed: feed.clone(),
        logs: LogStore::new(objects),
        stop: stop.clone(),
    });
    installation::first_person(&app).await?;
    let mut tasks = spawn_tasks(&app, &feed, &turns);
    // Told to stop after the last request.
    let answered = CancellationToken::new();
    let presence =
        app.presence
            .clone()
            .flush_until_stopped(store, app.clock.clone(), answered.clone(), turns);
    tasks.spawn(Task::Presence, presence);

    tracing::info!(%address, url = app.public_url, replica = %app.replica, "serving");
    tell_systemd(NotifyState::Ready);
    let served = http::accept::serve(
        listener,
        https,
        http::router(&app),
        ConnectionLimits::of(&app.config),
        stop.clone(),
        DRAIN,
    );
    let mut served = std::pin::pin!(served);
    let failure = tokio::select! {
        () = &mut served => None,
        () = shutdown => None,
        end = tasks.first_end() => Some(end),
    };
    match &failure {
        None => {
            tell_systemd(NotifyState::Stopping);
            tracing::info!("stopping");
        }
        Some(end) => {
            tracing::error!("{end}; this replica stops with an error, so that it is started again")
        }
    }
    if !stop.is_cancelled() {
        stop.cancel();
        served.await;
    }
    answered.cancel();
    let left = tasks.finish(DRAIN).await;
    if left > 0 {
        tracing::warn!(left, "some background tasks did not end in time");
    }
    if let Some(end) = failure {
        return Err(end.into());
    }
    tracing::info!("stopped");
    Ok(())
}

/// Starts the background tasks, but for the one that ends after the last request.
fn spawn_tasks(app: &App, feed: &Feed, turns: &TaskTurns) -> Supervisor {
    let mut tasks = Supervisor::default();
    let wakeups = poll_wakeups::run(app.clone(), feed.subscribe());
    tasks.spawn(Task::PollWakeups, wakeups);
    let reading = feed
        .clone()
        .read(app.store.clone(), app.stop.clone(), turns.clone());
    tasks.spawn(Task::FeedReader, reading);
    let hints = feed
        .clone()
        .hint(app.store.address().clone(), app.stop.clone(), turns.clone());
    tasks.spawn(Task::FeedHints, hints);
    tasks.spawn(Task::Leadership, leader::lead(app.clone()));
    tasks.spawn(Task::Housekeeping, housekeeping::run(app.clone()));
    tasks.spawn(Task::RollupUpdates, rollup_updates::run(app.clone()));
    tasks.spawn(Task::Alerting, alerting::run(app.clone()));
    tasks.spawn(Task::BulkActions, bulk_actions::run(app.clone()));
    tasks.spawn(Task::AuditSeals, audit_sealing::run(app.clone()));
    tasks.spawn(Task::KeyWatch, key_watch::run(app.clone()));
    tasks.spawn(Task::Webhooks, webhooks::run(app.clone()));
    tasks.spawn(Task::Traces, traces::run(app.clone()));
    tasks
}

/// Reports a state to systemd, where it started this program.
fn tell_systemd(state: NotifyState<'_>) {
    if let Err(error) = sd_notify::notify(&[state]) {
        tracing::warn!(%error, "systemd cannot be told of this service's state");
    }
}
