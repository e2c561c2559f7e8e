//! From settings to a running service, and back.

use crate::app::{App, Parts};
use crate::audit_seals::ExportedSeal;
use crate::background::{Supervisor, Task, TaskTurns};
use crate::clock::Clock;
use crate::config::Config;
use crate::delivery::{traces, webhooks};
use crate::encryption::Encryption;
use crate::feed::Feed;
use crate::http::accept::ConnectionLimits;
use crate::http::tls::HttpsAcceptor;
use crate::log_store::LogStore;
use crate::objects::{Moved, Objects};
use crate::operations::people::session::link_address;
use crate::{
    alerting, audit_sealing, audit_seals, bulk_actions, housekeeping, http, key_file, leader,
    poll_wakeups, rollup_updates, secret, validation,
};
use anyhow::{Context, bail};
use futures::FutureExt;
use futures::future::BoxFuture;
use pennine_core::access::Role;
use pennine_core::id::PersonId;
use pennine_core::size::ByteSize;
use pennine_core::time::Moment;
use pennine_store::audit::Actor;
use pennine_store::audit_seal::Seal;
use pennine_store::connect::in_transaction;
use pennine_store::installation::{self, Installation};
use pennine_store::{
    Connection, Db, Store, audit, outbox, partition, person, place, sign_in, token,
};
use sd_notify::NotifyState;
use serde_json::json;
use std::collections::BTreeMap;
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
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let moment = tokio::select! {
        ready = first_contact(&store) => ready?,
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
    let (installation, encryption) = settle(&config, &store, &objects, clock.now()).await?;
    first_token(&store, &config.data_dir, clock.now()).await?;

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
        installation,
        encryption,
        feed: feed.clone(),
        logs: LogStore::new(objects),
        stop: stop.clone(),
    });
    first_person(&app).await?;
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

/// Works the sums of trends out again from the record, and says what was counted.
pub async fn rebuild_rollups(config: Config) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let now = first_contact(&store).await?;
    let mut connection = store.patient().await?;
    let found = pennine_store::measure::rebuild(&mut connection, now).await?;
    println!(
        "Added up {} attempts and waits, {} stretches of offered slots, {} machines.",
        found.work_spans, found.offers, found.machines
    );
    Ok(())
}

/// Moves the objects of the data folder to the bucket of the configuration, and says how many. Replicas may run meanwhile.
pub async fn migrate_objects(config: Config) -> anyhow::Result<()> {
    if config.objects.bucket.is_empty() {
        bail!("no bucket is configured (objects.bucket): the folder is where objects lie");
    }
    let objects = Objects::of(&config)?;
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let found = installation::find(&mut *store.tasks().await?).await?;
    let found = found.context("there is no installation in this database")?;
    objects.check(found.log_store).await?;
    let mut told = 0;
    let mut tell = |moved: Moved| {
        if moved.objects / 1000 > told {
            told = moved.objects / 1000;
            println!("Moved {} objects so far.", moved.objects);
        }
    };
    let moved = objects.migrate(&mut tell).await?;
    println!(
        "Moved {} objects ({}) to the bucket {}. Restart the replicas when it suits: they then read only there.",
        moved.objects,
        ByteSize(moved.bytes),
        config.objects.bucket
    );
    Ok(())
}

/// Waits for the database, brings its schema up to date and makes the partitions.
async fn first_contact(store: &Store) -> anyhow::Result<Moment> {
    let mut tries = 0u32;
    loop {
        let ready = async {
            store.migrate().await?;
            let mut connection = store.tasks().await?;
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
    objects: &Objects,
    now: Moment,
) -> anyhow::Result<(Installation, Encryption)> {
    let mut connection = store.tasks().await?;
    let key = key_file::read(&config.data_dir)?;
    if let Some(found) = installation::find(&mut connection).await? {
        let path = key_file::path(&config.data_dir);
        match key {
            Some((id, key)) if id == found.key_id => {
                objects.check(found.log_store).await?;
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
        objects.mark(found.log_store).await?;
    } else {
        bail!("another replica founded this installation at the same moment: start this one again");
    }
    Ok((found, Encryption::new(key_id, key)))
}

/// Makes the first token, an administrator's, and puts it where only the owner of the data folder can read it.
async fn first_token(store: &Store, data_dir: &Path, now: Moment) -> anyhow::Result<()> {
    let mut connection = store.tasks().await?;
    if token::any(&mut connection).await? {
        return Ok(());
    }
    let secret = secret::fresh(secret::Purpose::Token);
    let path = data_dir.join("admin.token");
    key_file::write_secret(&path, &format!("{secret}\n"))?;
    let root = place::root(&mut connection).await?;
    let new = token::NewToken {
        id: Uuid::now_v7(),
        name: "admin".to_owned(),
        secret_hash: secret::hash(&secret),
        role: Role::Admin,
        place: root.id.0,
        purpose: None,
        at: now,
        by: "pennined".to_owned(),
        expires_at: None,
        owner: None,
    };
    token::insert(&mut connection, new).await?;
    tracing::info!(file = %path.display(), "the administrator's token is made");
    Ok(())
}

/// The name of the first administrator's account.
const ADMINISTRATOR: &str = "admin";

/// Makes the first account, an administrator's, and reports the link with which its password is set.
async fn first_person(app: &App) -> anyhow::Result<()> {
    let mut connection = app.store.tasks().await?;
    if person::any(&mut connection).await? {
        return Ok(());
    }
    let (hours, link) = (
        FIRST_LINK.as_secs() / 3600,
        administrator_link(
            &mut connection,
            &app.public_url,
            ADMINISTRATOR,
            app.clock.now(),
        )
        .await?,
    );
    tracing::info!(
        link,
        "open this link within {hours} h to set the administrator's password"
    );
    let path = app.config.data_dir.join("admin.link");
    key_file::write_secret(&path, &format!("{link}\n"))
}

/// How long the first link, and one that is made at the machine, is valid.
const FIRST_LINK: Duration = Duration::from_secs(24 * 3600);

/// Makes a link for an administrator: the account is made where there is none, is enabled, has the role at the root, and loses
/// its second factor when the link is used.
async fn administrator_link(
    connection: &mut Connection,
    public_url: &str,
    name: &str,
    now: Moment,
) -> anyhow::Result<String> {
    let link = secret::fresh(secret::Purpose::Link);
    let made: pennine_store::Result<()> = in_transaction(connection, async |connection| {
        let id = match person::lock(connection, name).await? {
            Some(found) => {
                person::set_disabled(connection, found.id.0, None).await?;
                found.id.0
            }
            None => {
                let new = person::NewPerson {
                    id: PersonId(Uuid::now_v7()),
                    name: name.to_owned(),
                    full_name: "Administrator".to_owned(),
                    at: now,
                    by: "pennined".to_owned(),
                };
                let id = new.id;
                person::insert(connection, new).await?;
                id
            }
        };
        let root = place::root(connection).await?;
        person::grant(connection, id, root.id.0, Role::Admin, now, "pennined").await?;
        let hash = secret::hash(&link);
        sign_in::add_link(connection, id, &hash, now, now + FIRST_LINK, true).await?;
        let detail = json!({"at_the_machine": true});
        let permit = Actor::service().at("");
        audit::write(connection, now, &permit, "person.link", name, detail).await
    })
    .await;
    made?;
    Ok(link_address(public_url, &link))
}

/// Checks the audit log against its seals, and these against a list that was exported before; says what was found.
pub async fn verify_audit(
    config: Config,
    export: Option<&Path>,
    against: Option<&Path>,
) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let Some((id, key)) = key_file::read(&config.data_dir)? else {
        bail!(
            "seals are checked with the key file, and {} is not there",
            key_file::path(&config.data_dir).display()
        );
    };
    let mut kept = match against {
        Some(path) => exported(path)?,
        None => BTreeMap::new(),
    };
    let mut lines = Vec::new();
    let mut differ = Vec::new();
    let mut visit = |seal: &Seal| {
        let now = ExportedSeal::of(seal);
        if kept.remove(&now.last_id).is_some_and(|then| then != now) {
            differ.push(format!(
                "the seal up to entry {} is another than in the list",
                now.last_id
            ));
        }
        lines.push(now);
    };
    let encryption = Encryption::new(id, key);
    let mut found = audit_seals::verify(&store, &encryption, &mut visit).await?;
    found.problems.extend(differ);
    let gone = kept
        .keys()
        .map(|last| format!("the seal up to entry {last} is in the list and not in the database"));
    found.problems.extend(gone);
    println!(
        "Checked {} seals over {} entries, up to entry {}; the entries of {} seals have expired.",
        found.seals, found.entries, found.sealed_to, found.expired
    );
    if !found.problems.is_empty() {
        for problem in &found.problems {
            println!("  {problem}");
        }
        bail!(
            "the audit log is not what was sealed ({} problems)",
            found.problems.len()
        );
    }
    println!("Every entry is as it was when it was sealed.");
    if let Some(path) = export {
        let lines: Result<Vec<String>, _> = lines.iter().map(serde_json::to_string).collect();
        std::fs::write(path, lines?.join("\n") + "\n")
            .with_context(|| format!("{} cannot be written", path.display()))?;
        println!(
            "The seals are in {}. Keep it where the database's administrator cannot change it.",
            path.display()
        );
    }
    Ok(())
}

/// Reads seals that were exported, by the last entry of each.
fn exported(path: &Path) -> anyhow::Result<BTreeMap<i64, ExportedSeal>> {
    let text = std::fs::read_to_string(path)
        .with_context(|| format!("{} cannot be read", path.display()))?;
    let mut kept = BTreeMap::new();
    for (number, line) in text.lines().enumerate() {
        let seal: ExportedSeal = serde_json::from_str(line)
            .with_context(|| format!("{}, line {}", path.display(), number + 1))?;
        kept.insert(seal.last_id, seal);
    }
    Ok(kept)
}

/// Makes a one-time link with which an administrator signs in, where everybody is locked out, and prints it.
pub async fn admin_link(config: Config, name: String) -> anyhow::Result<()> {
    let name = name.to_lowercase();
    validation::check_name("name", &name).map_err(|error| anyhow::anyhow!("{error}"))?;
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let now = first_contact(&store).await?;
    let mut connection = store.tasks().await?;
    let url = config.public_url(config.listen);
    let link = administrator_link(&mut connection, &url, &name, now).await?;
    println!(
        "Within 24 h, open this link to set the password of {name}. It works once, and removes a second factor:\n\n  {link}\n"
    );
    Ok(())
}
