//! `pennined rotate-key`: another key encrypts from now on, and what is encrypted already is encrypted once more. Replicas notice within
//! seconds ([`crate::key_watch`]).

use crate::config::Config;
use crate::encryption::{Encryption, Locked};
use crate::installation::{encryption, wait_for_database};
use crate::key_watch;
use crate::operations::people::secret;
use crate::operations::people::session::second_factor_name;
use crate::{identity_keys, key_file, supplier_calls, webhook_client};
use anyhow::{Context, bail};
use pennine_core::time::Moment;
use pennine_store::audit::Actor;
use pennine_store::connect::in_transaction;
use pennine_store::encrypted_text::{self, EncryptedKind, EncryptedText};
use pennine_store::{Connection, Error, Store, audit, installation};
use serde_json::json;

/// The most texts that are read at once.
const BATCH: i64 = 200;
/// How many texts that cannot be read are named.
const NAMED: usize = 10;

/// Changes the key; or adds one to the key file only, for the other replicas' files.
///
/// # Errors
/// Where the key file or the database cannot be read or written, or a text cannot be decrypted.
pub async fn run(config: Config, prepare: bool) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let now = wait_for_database(&store).await?;
    let mut connection = store.patient().await?;
    let found = installation::find(&mut connection).await?;
    let found = found.context("there is no installation in this database")?;
    let present = encryption(&config, &found)?;
    let path = key_file::path(&config.data_dir);
    let keys = key_file::read(&config.data_dir)?.context("there is no key file")?;
    let newest = keys.newest().id.clone();
    let is_prepared = newest != found.key_id;
    if prepare {
        let added = match is_prepared {
            true => newest,
            false => key_file::add(&config.data_dir)?.newest().id.clone(),
        };
        println!(
            "The key {added} is in {}, and not in use yet. Copy the file to every other replica, then run: pennined rotate-key",
            path.display()
        );
        return Ok(());
    }
    let current = std::slice::from_ref(&found.key_id);
    let left = encrypted_text::of_other_keys(&mut connection, current, None, BATCH).await?;
    let is_in_file = |text: &EncryptedText| keys.iter().any(|key| text.text.starts_with(&key.id));
    let is_unfinished = !is_prepared && left.iter().any(is_in_file);
    if is_unfinished {
        println!(
            "An earlier rotation to the key {} is not complete: going on with it.",
            found.key_id
        );
    } else {
        let next = match is_prepared {
            true => newest,
            false => key_file::add(&config.data_dir)?.newest().id.clone(),
        };
        switch(&mut connection, &found.key_id, &next, now).await?;
        present.use_key(&next);
        println!(
            "The key {next} encrypts from now on; it is in {}.",
            path.display()
        );
    }
    let changed = encrypt_again(&mut connection, &present).await?;
    // A replica that has not noticed yet may have encrypted something with the key before.
    tokio::time::sleep(key_watch::EVERY * 4).await;
    let changed = changed + encrypt_again(&mut connection, &present).await?;
    println!("Encrypted {changed} texts with it.");
    println!(
        "Back up the key file. Earlier keys stay in it for seals of the audit log and for machines that are being ordered; \
         docs/operations.md says when to remove them."
    );
    Ok(())
}

/// Has the installation use another key, with its audit row.
async fn switch(
    connection: &mut Connection,
    before: &str,
    after: &str,
    now: Moment,
) -> anyhow::Result<()> {
    let switched = in_transaction(connection, async |connection| -> Result<bool, Error> {
        if !installation::set_key(connection, before, after).await? {
            return Ok(false);
        }
        let permit = Actor::service().at("");
        let detail = json!({"before": before, "after": after, "at_the_machine": true});
        audit::write(connection, now, &permit, "key.rotate", after, detail).await?;
        Ok(true)
    });
    if !switched.await? {
        bail!("another command changed the key at the same moment: run this one again");
    }
    Ok(())
}

/// The name under which a text is encrypted.
fn name_of(text: &EncryptedText) -> anyhow::Result<String> {
    let id = || uuid::Uuid::parse_str(&text.subject);
    Ok(match text.kind.0 {
        EncryptedKind::Secret => secret::lock_name(id()?),
        EncryptedKind::SigningKey => identity_keys::lock_name(&text.subject),
        EncryptedKind::SecondFactor => second_factor_name(id()?.into()),
        EncryptedKind::Listener | EncryptedKind::PreviousListener => {
            webhook_client::lock_name(id()?)
        }
        EncryptedKind::Supplier => supplier_calls::lock_name(&text.subject, &text.setting),
    })
}

/// Encrypts every text that another key has encrypted. Returns how many.
///
/// # Errors
/// Where some cannot be read, after all others were done.
async fn encrypt_again(
    connection: &mut Connection,
    encryption: &Encryption,
) -> anyhow::Result<u64> {
    let current = encryption.current();
    let (mut changed, mut failed) = (0, Vec::new());
    let mut after: Option<EncryptedText> = None;
    loop {
        let current = std::slice::from_ref(&current);
        let texts = encrypted_text::of_other_keys(connection, current, after.as_ref(), BATCH);
        let texts = texts.await?;
        let Some(last) = texts.last() else { break };
        after = Some(last.clone());
        for text in texts {
            let name = name_of(&text)?;
            let opened: Result<String, Locked> = encryption.open(&name, &text.text);
            let opened = match opened {
                Ok(opened) => opened,
                Err(error) => {
                    failed.push(format!("{} of {}: {error}", text.kind.0, text.subject));
                    continue;
                }
            };
            let locked = encryption.lock(&name, &opened);
            let locked = locked.context("the key in use is not in the key file")?;
            changed += u64::from(encrypted_text::replace(connection, &text, &locked).await?);
        }
    }
    if !failed.is_empty() {
        for line in failed.iter().take(NAMED) {
            println!("  {line}");
        }
        bail!(
            "{} texts cannot be decrypted ({changed} others were encrypted with the key in use). Put the keys that are named above \
             back into the key file and run the command again, or set these secrets again",
            failed.len()
        );
    }
    Ok(changed)
}
