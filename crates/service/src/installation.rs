//! The installation at a start: its database, its key file, and the first administrator.

use crate::app::App;
use crate::config::Config;
use crate::encryption::Encryption;
use crate::objects::Objects;
use crate::operations::people::session::link_address;
use crate::{key_file, secret};
use anyhow::{Context, bail};
use pennine_core::access::Role;
use pennine_core::id::PersonId;
use pennine_core::time::Moment;
use pennine_store::audit::Actor;
use pennine_store::connect::in_transaction;
use pennine_store::installation::{self as row, Installation};
use pennine_store::{
    Connection, Db, Store, audit, outbox, partition, person, place, sign_in, token,
};
use serde_json::json;
use std::path::Path;
use std::time::Duration;
use uuid::Uuid;

/// Waits for the database, brings its schema up to date and makes the partitions.
pub async fn wait_for_database(store: &Store) -> anyhow::Result<Moment> {
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
///
/// # Errors
/// Where the key file or the folder is not this installation's.
pub async fn open(
    config: &Config,
    store: &Store,
    objects: &Objects,
    now: Moment,
) -> anyhow::Result<(Installation, Encryption)> {
    let mut connection = store.tasks().await?;
    if let Some(found) = row::find(&mut connection).await? {
        let encryption = encryption(config, &found)?;
        objects.check(found.log_store).await?;
        return Ok((found, encryption));
    }
    let keys = match key_file::read(&config.data_dir)? {
        Some(keys) => keys,
        None => key_file::add(&config.data_dir)?,
    };
    let current = keys.newest().id.clone();
    let new = Installation {
        id: Uuid::now_v7(),
        name: config.installation.clone(),
        key_id: current.clone(),
        log_store: Uuid::now_v7(),
        created_at: Db(now),
    };
    let found = row::found(&mut connection, &new).await?;
    if found.id == new.id {
        objects.mark(found.log_store).await?;
    } else {
        bail!("another replica founded this installation at the same moment: start this one again");
    }
    Ok((found, Encryption::new(keys, current, &config.data_dir)))
}

/// The keys of an installation, from the key file.
///
/// # Errors
/// Where the key file does not hold the key in use.
pub fn encryption(config: &Config, found: &Installation) -> anyhow::Result<Encryption> {
    let path = key_file::path(&config.data_dir);
    let Some(keys) = key_file::read(&config.data_dir)? else {
        bail!(
            "the installation in this database encrypts with the key {}, and {} is not there: put the key file back",
            found.key_id,
            path.display()
        );
    };
    if keys.find(&found.key_id).is_none() {
        bail!(
            "the key file {} (id {}) is not this installation's (id {}): put back the right one, or use a database of its own",
            path.display(),
            keys.newest().id,
            found.key_id
        );
    }
    let current = found.key_id.clone();
    Ok(Encryption::new(keys, current, &config.data_dir))
}

/// Makes the first token, an administrator's, and puts it where only the owner of the data folder can read it.
pub async fn first_token(store: &Store, data_dir: &Path, now: Moment) -> anyhow::Result<()> {
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
pub async fn first_person(app: &App) -> anyhow::Result<()> {
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
pub async fn administrator_link(
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
