//! The secrets of an attempt, given to the runner that starts it.

use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::people::secret::lock_name;
use crate::operations::runners::reports::{actor, held, over};
use crate::outside_secrets::SecretQuestion;
use pennine_core::id::{AttemptId, LeaseToken, ShortName};
use pennine_core::secret::SecretText;
use pennine_store::audit;
use pennine_store::connect::in_transaction;
use pennine_store::credential::CredentialHolder;
use pennine_store::secret::{self, LockedSecret, Recipient};
use pennine_wire::runner_protocol::AttemptSecrets;
use serde_json::json;
use std::collections::BTreeMap;
use std::net::IpAddr;
use uuid::Uuid;

/// A secret is not given: the job ends with this message.
fn refused(message: String) -> ServiceError {
    ServiceError::forbidden("secret-not-given", "A secret is not given", message)
}

/// Finds what the attempt may be given, or says which secret it may not.
async fn choose(
    connection: &mut pennine_store::Connection,
    recipient: &Recipient,
) -> Result<Vec<LockedSecret>> {
    let uses = &recipient.secrets.0;
    let checked = recipient.trust.0.check_secrets(uses);
    checked.map_err(|error| refused(error.to_string()))?;
    let names: Vec<String> = uses.keys().cloned().collect();
    let (project, pool) = (&recipient.project, &recipient.pool);
    let found = secret::for_job(connection, &names, project, recipient.pool_id.0).await?;
    for name in names {
        let Some(one) = found.iter().find(|one| one.secret.name == name) else {
            let message = format!("neither {project} nor the pool {pool} has a secret {name}");
            let remedy =
                format!("set it: pennine secret set {name} --at {project}; then retry the job");
            return Err(refused(message).remedy(remedy));
        };
        let pools = &one.secret.pools;
        if !pools.is_empty() && !pools.contains(pool) {
            let message = format!(
                "the secret {name} may be received in {} only, and the job was assigned in {pool}",
                pools.join(", ")
            );
            let remedy = "submit the job again: its requirement then names these pools";
            return Err(refused(message).remedy(remedy));
        }
    }
    Ok(found)
}

/// The values of an attempt's secrets. Each that is given has an audit row.
///
/// # Errors
/// Gone where the attempt has ended or is another runner's; forbidden, with a message for the job's log, where a secret is missing
/// or may not be received here.
pub async fn read(
    app: &App,
    known: &CredentialHolder,
    id: AttemptId,
    lease: LeaseToken,
    address: Option<IpAddr>,
) -> Result<AttemptSecrets> {
    let mut connection = app.store.runners().await?;
    let recipient = secret::recipient(&mut connection, held(known, id, lease)).await?;
    let recipient = recipient
        .filter(|one| !one.is_cancelled)
        .ok_or_else(|| over(id))?;
    let chosen = choose(&mut connection, &recipient).await?;
    // An outside store may take its time, and others need the connection.
    drop(connection);
    let job = ShortName::Job.name(recipient.job_number);
    let mut values = BTreeMap::new();
    for one in &chosen {
        let value = value(app, &recipient, &job, one).await?;
        values.insert(one.secret.name.clone(), value);
    }
    let mut connection = app.store.runners().await?;
    let now = app.clock.now();
    in_transaction(&mut connection, async |connection| -> Result<()> {
        let actor = actor(&recipient.runner, address);
        for LockedSecret { secret: one, .. } in &chosen {
            let permit = actor.clone().at(&one.place);
            let detail = json!({"version": one.version, "job": job, "project": recipient.project, "pool": recipient.pool});
            audit::write(connection, now, &permit, "secret.read", &one.name, detail).await?;
        }
        let ids: Vec<Uuid> = chosen.iter().map(|one| one.secret.id).collect();
        Ok(secret::mark_used(connection, &ids, now).await?)
    })
    .await?;
    Ok(AttemptSecrets { values })
}

async fn value(
    app: &App,
    recipient: &Recipient,
    job: &str,
    of: &LockedSecret,
) -> Result<SecretText> {
    let one = &of.secret;
    if let Some(locked) = &of.locked {
        let opened = app.encryption.open(&lock_name(one.id), locked);
        return opened.map(SecretText).map_err(|error| {
            ServiceError::internal(format!(
                "the secret {} of {:?}: {error}",
                one.name, one.place
            ))
        });
    }
    let mut question = SecretQuestion::about(
        one.reference.as_deref().unwrap_or_default(),
        &one.name,
        &one.place,
    );
    question.of_pool = one.pool.as_deref();
    question.job = job;
    question.project = &recipient.project;
    question.pool = &recipient.pool;
    question.runner = &recipient.runner;
    app.outside_secrets.fetch(&question).await.map_err(|why| {
        tracing::warn!(
            secret = one.name,
            place = one.place,
            job,
            "the outside store gave no secret: {why}"
        );
        refused(format!(
            "the outside store does not give the secret {}: {why}",
            one.name
        ))
    })
}
