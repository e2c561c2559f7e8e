//! Signing in through the OpenID provider.

use super::session::{NewSession, begin_as, note_refusal};
use crate::access::Origin;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::openid::{ProviderError, ProviderIdentity, SignInState};
use crate::operations::transaction::commit;
use crate::validation::{NAME_LENGTH, check_name};
use pennine_core::id::PersonId;
use pennine_store::audit::Actor;
use pennine_store::person::{self, NewPerson, Person};
use pennine_store::{Connection, audit};
use serde_json::json;
use std::time::Duration;
use unicode_normalization::UnicodeNormalization;

/// How long a person has at the provider.
const COMPLETED_WITHIN: Duration = Duration::from_secs(600);
/// The name under which the state of a sign-in is encrypted.
const PENDING: &str = "sign-in at the OpenID provider";
/// The longest name for others that is kept, in characters.
const FULL_NAME: usize = 100;

fn redirect(app: &App) -> String {
    format!("{}/sign-in/openid/callback", app.public_url)
}

fn no_provider() -> ServiceError {
    ServiceError::unknown("page", "/sign-in/openid").remedy("configure a provider: openid.issuer")
}

fn failed(error: &ProviderError) -> ServiceError {
    tracing::warn!(%error, "a sign-in at the OpenID provider failed");
    let title = "The sign-in at the provider failed";
    match error {
        ProviderError::Away(_) => ServiceError::conflict("provider-away", title, error.to_string()),
        ProviderError::Refused(_) => {
            ServiceError::conflict("provider-refused", title, error.to_string())
        }
    }
}

/// Begins a sign-in. Returns the address to which the browser is sent, and the value of its cookie.
///
/// # Errors
/// Unknown where no provider is configured; `provider-away` or `provider-refused`.
pub async fn begin(app: &App) -> Result<(String, String)> {
    app.provider.settings().ok_or_else(no_provider)?;
    let until = app.clock.now() + COMPLETED_WITHIN;
    let begun = app.provider.begin(&redirect(app), until).await;
    let (url, pending) = begun.map_err(|error| failed(&error))?;
    let text = serde_json::to_string(&pending);
    let text = text.map_err(|error| ServiceError::internal(error.to_string()))?;
    let locked = app.encryption.lock(PENDING, &text);
    let locked = locked.ok_or_else(|| ServiceError::internal("a cookie cannot be encrypted"))?;
    Ok((url, locked))
}

/// Completes a sign-in: `cookie` is what [`begin`] returned, `code` and `state` are what the provider sent with the browser.
///
/// # Errors
/// `sign-in-expired` where the cookie is missing, too old, or of another sign-in; as [`begin`]; `no-account`, `account-disabled` or
/// `name-taken`.
pub async fn complete(
    app: &App,
    cookie: Option<&str>,
    state: &str,
    code: &str,
    origin: &Origin,
) -> Result<NewSession> {
    app.provider.settings().ok_or_else(no_provider)?;
    let now = app.clock.now();
    let opened = cookie.and_then(|locked| app.encryption.open(PENDING, locked).ok());
    let pending = opened.and_then(|text| serde_json::from_str::<SignInState>(&text).ok());
    let pending = pending.filter(|pending| pending.until > now && pending.state == state);
    let Some(pending) = pending else {
        let message = "the sign-in took too long, or was begun in another browser";
        return Err(ServiceError::conflict(
            "sign-in-expired",
            "The sign-in has expired",
            message,
        ));
    };
    let identified = app
        .provider
        .complete(&redirect(app), &pending, code, now)
        .await;
    let identified = match identified {
        Ok(identified) => identified,
        Err(error) => {
            note_refusal(app, None, "sign-in through the provider", origin).await;
            return Err(failed(&error));
        }
    };
    let begun = commit(app, async |connection| {
        let person = account(app, connection, &identified, origin).await?;
        begin_as(app, connection, person, origin).await
    })
    .await;
    if begun.is_err() {
        let what = format!("sign-in of {} through the provider", identified.subject);
        note_refusal(app, None, &what, origin).await;
    }
    app.principals.invalidate_all();
    begun
}

/// The account of the person whom the provider identified, with the person's groups brought up to date; added where there is none and
/// the settings say so.
async fn account(
    app: &App,
    connection: &mut Connection,
    identified: &ProviderIdentity,
    origin: &Origin,
) -> Result<Person> {
    let full_name: String = identified
        .full_name
        .chars()
        .filter(|c| !c.is_control())
        .take(FULL_NAME)
        .collect();
    let known = match person::lock_subject(connection, &identified.subject).await? {
        Some(known) => known,
        None => add(app, connection, identified, &full_name, origin).await?,
    };
    if known.disabled_at.is_some() {
        let message = format!("the account of {} is disabled", known.name);
        return Err(ServiceError::conflict(
            "account-disabled",
            "The account is disabled",
            message,
        ));
    }
    let full_name = match full_name.is_empty() {
        true => known.full_name.clone(),
        false => full_name,
    };
    if known.groups != identified.groups || known.full_name != full_name {
        person::set_groups(connection, known.id.0, &identified.groups, &full_name).await?;
        let detail = json!({"before": known.groups, "after": identified.groups});
        let mut permit = Actor::service().at("");
        permit.actor.address = origin.shown();
        permit.actor.request.clone_from(&origin.request);
        let (now, name) = (app.clock.now(), &known.name);
        audit::write(connection, now, &permit, "person.groups", name, detail).await?;
    }
    let fresh = person::lock_subject(connection, &identified.subject).await?;
    fresh.ok_or_else(|| ServiceError::internal("an account is gone"))
}

async fn add(
    app: &App,
    connection: &mut Connection,
    identified: &ProviderIdentity,
    full_name: &str,
    origin: &Origin,
) -> Result<Person> {
    let name = sign_in_name(identified.name.as_deref().unwrap_or_default());
    let named = check_name("name", &name).is_ok();
    if !app.config.openid.adds_accounts || !named {
        let message = format!("there is no account for {}", identified.subject);
        return Err(ServiceError::conflict("no-account", "There is no account", message)
            .remedy("ask an administrator for one: pennine person add NAME, then pennine person set NAME --subject SUBJECT"));
    }
    let now = app.clock.now();
    let id = PersonId(app.fresh_id());
    let new = NewPerson {
        id,
        name: name.clone(),
        full_name: full_name.to_owned(),
        at: now,
        by: "pennined".to_owned(),
    };
    // Another person's account is never taken over by its name.
    if person::find(connection, &name).await?.is_some() {
        let message =
            format!("an account {name:?} exists that is not this person's at the provider");
        return Err(ServiceError::conflict("name-taken", "The name is taken", message)
            .remedy("ask an administrator to set the account's subject: pennine person set NAME --subject SUBJECT"));
    }
    person::insert(connection, new).await?;
    person::set_subject(connection, id, Some(&identified.subject)).await?;
    let mut permit = Actor::service().at("");
    permit.actor.address = origin.shown();
    let detail = json!({"full_name": full_name, "subject": identified.subject});
    audit::write(connection, now, &permit, "person.add", &name, detail).await?;
    let made = person::lock_subject(connection, &identified.subject).await?;
    made.ok_or_else(|| ServiceError::internal("an account is gone"))
}

/// A provider's name for a person as a name for signing in here: what is no letter or digit becomes a hyphen, letters that look alike
/// become the same.
fn sign_in_name(name: &str) -> String {
    let plain: String = name.nfkc().flat_map(char::to_lowercase).collect();
    // Of an address of mail, what is before the @.
    let plain = plain.split('@').next().unwrap_or_default();
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    let name: String = plain
        .chars()
        .map(|c| if fits(c) { c } else { '-' })
        .collect();
    name.trim_matches(['-', '.'])
        .chars()
        .take(NAME_LENGTH)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_providers_name_becomes_a_name_for_signing_in() {
        for (given, name) in [
            ("Mira.Tveit", "mira.tveit"),
            ("mira@skerry.example", "mira"),
            ("\u{ff2d}ira", "mira"),
            ("mira tveit", "mira-tveit"),
            ("\u{43c}ira", "ira"),
            ("", ""),
        ] {
            assert_eq!(sign_in_name(given), name, "{given}");
        }
    }
}
