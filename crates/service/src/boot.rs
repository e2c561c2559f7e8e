//! From settings to a running service, and back.

use crate::app::{App, Parts};
use crate::clock::Clock;
use crate::config::Config;
use crate::delivery::{traces, webhooks};
use crate::encryption::Encryption;
use crate::feed::Feed;
use crate::log_store::LogStore;
use crate::{alerting, housekeeping, http, key_file, leader, poll_wakeups, rollup_updates, secret};
use anyhow::{Context, bail};
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_core::time::Moment;
use pennine_store::installation::{self, Installation};
use pennine_store::{Db, Store, outbox, partition, token};
use std::path::Path;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

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
    let store = Store::open(&config.database_url, config.database_connections)?;
    let moment = tokio::select! {
        ready = first_contact(&store) => ready?,
        () = &mut shutdown => return Ok(()),
    };
    let clock = clock.unwrap_or_else(|| Clock::starting_at(moment));
    let address = listener.local_addr()?;
    let public_url = config.public_url(address);

    std::fs::create_dir_all(&config.data_dir).with_context(|| {
        format!(
            "the data folder {} cannot be made",
            config.data_dir.display()
        )
    })?;
    let logs = LogStore::in_folder(&config.data_dir.join("objects"))?;
    let (installation, encryption) = settle(&config, &store, &logs, clock.now()).await?;
    first_token(&store, &config.data_dir, clock.now()).await?;

    let stop = CancellationToken::new();
    let feed = Feed::default();
    let app = App::new(Parts {
        config,
        public_url,
        store: store.clone(),
        clock,
        installation,
        encryption,
        feed: feed.clone(),
        logs,
        stop: stop.clone(),
    });
    let loops = tokio_util::task::TaskTracker::new();
    loops.spawn(poll_wakeups::run(app.clone(), feed.subscribe()));
    loops.spawn(feed.clone().read(store.clone(), stop.clone()));
    loops.spawn(feed.hint(store.url().to_owned(), stop.clone()));
    loops.spawn(leader::lead(app.clone()));
    loops.spawn(housekeeping::run(app.clone()));
    loops.spawn(rollup_updates::run(app.clone()));
    loops.spawn(alerting::run(app.clone()));
    loops.spawn(webhooks::run(app.clone()));
    loops.spawn(traces::run(app.clone()));
    let flush = tokio::spawn(app.presence.clone().flush_until_stopped(
        store,
        app.clock.clone(),
        CancellationToken::clone(&stop),
    ));

    tracing::info!(%address, url = app.public_url, replica = %app.replica, "serving");
    let served = http::accept::serve(
        listener,
        http::router(&app),
        app.config.limits.connections,
        stop.clone(),
        DRAIN,
    );
    let mut served = std::pin::pin!(served);
    tokio::select! {
        () = &mut served => {}
        () = shutdown => {
            tracing::info!("stopping");
            stop.cancel();
            served.await;
        }
    }
    stop.cancel();
    loops.close();
    if tokio::time::timeout(DRAIN, loops.wait()).await.is_err() {
        tracing::warn!("some background tasks did not end in time");
    }
    let _ = tokio::time::timeout(DRAIN, flush).await;
    tracing::info!("stopped");
    Ok(())
}

/// Works the sums of trends out again from the record, and says what was counted.
pub async fn rebuild_rollups(config: Config) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, config.database_connections)?;
    let now = first_contact(&store).await?;
    let mut connection = store.patient().await?;
    let found = pennine_store::measure::rebuild(&mut connection, now).await?;
    println!(
        "Added up {} attempts and waits, {} stretches of offered slots, {} machines.",
        found.work_spans, found.offers, found.machines
    );
    Ok(())
}

/// Waits for the database, brings its schema up to date and makes the partitions.
async fn first_contact(store: &Store) -> anyhow::Result<Moment> {
    let mut tries = 0u32;
    loop {
        let ready = async {
            store.migrate().await?;
            let mut connection = store.get().await?;
            let moment = outbox::moment(&mut connection).await?;
            partition::ensure(&mut connection, moment, moment).await?;
            Ok::<_, pennine_store::Error>(moment)
        };
        match ready.await {
            Ok(moment) => return Ok(moment),
            Err(error @ pennine_store::Error::Unreachable(_)) => {
                if tries.is_multiple_of(10) {
                    tracing::error!(
                        %error,
                        "waiting for the database; check database_url and that PostgreSQL runs. Trying again every second"
                    );
                }
                tries += 1;
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
            Err(error) => return Err(error).context("the database cannot be used"),
        }
    }
}

/// Makes the installation at its first start; checks key file and log folder at every other.
async fn settle(
    config: &Config,
    store: &Store,
    logs: &LogStore,
    now: Moment,
) -> anyhow::Result<(Installation, Encryption)> {
    let mut connection = store.get().await?;
    let key = key_file::read(&config.data_dir)?;
    if let Some(found) = installation::find(&mut connection).await? {
        let path = key_file::path(&config.data_dir);
        match key {
            Some((id, key)) if id == found.key_id => {
                logs.check(found.log_store).await?;
                return Ok((found, Encryption::new(id, key)));
            }
            Some((id, _)) => bail!(
                "the key file {} (id {id}) is not this installation's (id {}): put back the right one, or use a \
                 database of its own",
                path.display(),
                found.key_id
            ),
            None => bail!(
                "the installation in this database encrypts with the key {}, and {} is not there: put the key file back",
                found.key_id,
                path.display()
            ),
        }
    }
    let (key_id, key) = match key {
        Some(key) => key,
        None => key_file::make(&config.data_dir)?,
    };
    let new = Installation {
        id: Uuid::now_v7(),
        name: config.installation.clone(),
        key_id: key_id.clone(),
        log_store: Uuid::now_v7(),
        created_at: Db(now),
    };
    let found = installation::found(&mut connection, &new).await?;
    if found.id == new.id {
        logs.mark(found.log_store).await?;
    } else {
        bail!("another replica founded this installation at the same moment: start this one again");
    }
    Ok((found, Encryption::new(key_id, key)))
}

/// Makes the first token, an administrator's, and puts it where only the owner of the data folder can read it.
async fn first_token(store: &Store, data_dir: &Path, now: Moment) -> anyhow::Result<()> {
    let mut connection = store.get().await?;
    if token::any(&mut connection).await? {
        return Ok(());
    }
    let secret = secret::fresh(secret::Purpose::Token);
    let path = data_dir.join("admin.token");
    key_file::write_secret(&path, &format!("{secret}\n"))?;
    let new = token::Token {
        id: Uuid::now_v7(),
        name: "admin".to_owned(),
        secret_hash: secret::hash(&secret),
        role: "admin".to_owned(),
        created_at: Db(now),
        expires_at: None,
        revoked_at: None,
    };
    token::insert(&mut connection, &new).await?;
    tracing::info!(file = %path.display(), "the administrator's token is made");
    Ok(())
}
