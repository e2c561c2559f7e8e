//! People: accounts, and the roles that they have at places.

use super::grant::{at, require_grant};
use super::session::make_link;
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::validation::check_name;
use crate::views::people::person::{find, shown};
use pennine_core::access::{Action, Grant, may_manage_account, place_name};
use pennine_core::id::PersonId;
use pennine_store::audit::Permit;
use pennine_store::person::{self, NewPerson as NewRow, Person as Row};
use pennine_store::{Connection, audit};
use pennine_wire::{GrantRemoval, MadeLink, NewLink, NewPerson, Person, PersonChange};
use serde_json::json;
use std::time::Duration;

/// How long a one-time link is valid.
pub const LINK_HOLDS: Duration = Duration::from_secs(3 * 86_400);
/// The longest name for others, in characters.
const FULL_NAME: usize = 100;
/// The longest name of a person at the OpenID provider, in bytes (OpenID Connect Core 1.0, section 2).
const SUBJECT: usize = 255;

fn check_full_name(name: &str) -> Result<String> {
    let name = name.trim();
    if name.chars().count() > FULL_NAME || name.chars().any(char::is_control) {
        let message = format!("at most {FULL_NAME} characters, without control characters");
        return Err(ServiceError::invalid("full_name", message));
    }
    Ok(name.to_owned())
}

/// Refuses to change the account of a person with more rights.
fn require_account(who: &Principal, person: &Row) -> Result<Permit> {
    let grants = person.granted.grants();
    if may_manage_account(&who.rights, &grants) {
        // Of several places the first: those who manage access there have all that the person has.
        let place = grants.into_iter().next().map(|grant| grant.place);
        return who.require(Action::ManageAccess, &place.unwrap_or_default());
    }
    let message = format!(
        "{} has roles that you do not have, and the manager of an account can act as its person",
        person.name
    );
    let error = ServiceError::forbidden("role-needed", "This is not permitted", message);
    Err(error.remedy("ask an administrator of the root"))
}

/// Adds an account with a first role. The answer holds a link with which the person sets a password.
///
/// # Errors
/// Forbidden where the role is more than who adds it has; a conflict where the name is taken.
pub async fn add(app: &App, who: &Principal, new: NewPerson) -> Result<MadeLink> {
    check_name("name", &new.name)?;
    let name = new.name.to_lowercase();
    let full_name = check_full_name(&new.full_name)?;
    commit(app, async |connection| {
        let place = at(connection, who, &new.place).await?;
        let grant = Grant {
            role: new.role,
            place: place.path.clone(),
        };
        let permit = require_grant(who, &grant)?;
        let now = app.clock.now();
        let id = PersonId(app.fresh_id());
        let row = NewRow {
            id,
            name: name.clone(),
            full_name: full_name.clone(),
            at: now,
            by: who.name.clone(),
        };
        match person::insert(connection, row).await {
            Err(pennine_store::Error::Duplicate(_)) => {
                let remedy = format!("choose another name, or: pennine person grant {name}");
                return Err(
                    ServiceError::taken(format!("an account {name:?} already exists"))
                        .remedy(remedy),
                );
            }
            other => other?,
        }
        person::grant(connection, id, place.id.0, new.role, now, &who.name).await?;
        let detail = json!({"full_name": full_name, "role": new.role, "place": place.path});
        audit::write(connection, now, &permit, "person.add", &name, detail).await?;
        let made = find(connection, who, &name).await?;
        let (link, expires_at) = make_link(app, connection, &made, LINK_HOLDS, false).await?;
        Ok(MadeLink {
            person: shown(who, made),
            link,
            expires_at,
        })
    })
    .await
}

/// Makes a link with which a person sets another password; earlier links of the person are no longer valid.
///
/// # Errors
/// Forbidden where the person has more rights; a conflict where the account is disabled.
pub async fn link(app: &App, who: &Principal, name: &str, asked: NewLink) -> Result<MadeLink> {
    commit(app, async |connection| {
        let person = find(connection, who, name).await?;
        let permit = require_account(who, &person)?;
        if person.disabled_at.is_some() {
            let message = format!("the account of {} is disabled", person.name);
            let error = ServiceError::conflict("wrong-state", "The account is disabled", message);
            return Err(error.remedy(format!("pennine person enable {}", person.name)));
        }
        let resets = asked.removes_second_factor;
        let made = make_link(app, connection, &person, LINK_HOLDS, resets).await?;
        let (now, detail) = (app.clock.now(), json!({"removes_second_factor": resets}));
        audit::write(
            connection,
            now,
            &permit,
            "person.link",
            &person.name,
            detail,
        )
        .await?;
        Ok(MadeLink {
            person: shown(who, person),
            link: made.0,
            expires_at: made.1,
        })
    })
    .await
}

/// Changes the name for others, disables an account or enables it.
///
/// # Errors
/// Forbidden where the person has more rights; a conflict for one's own account, which another administrator disables.
pub async fn change(
    app: &App,
    who: &Principal,
    name: &str,
    change: PersonChange,
) -> Result<Person> {
    let full_name = change.full_name.as_deref().map(check_full_name);
    let full_name = full_name.transpose()?;
    let changed = commit(app, async |connection| {
        let person = find(connection, who, name).await?;
        let id = person.id.0;
        let is_self = who.person == Some(id);
        let permit = match is_self && change.disabled.is_none() && change.subject.is_none() {
            true => who.own_permit(),
            false => require_account(who, &person)?,
        };
        let now = app.clock.now();
        if let Some(full_name) = &full_name {
            person::rename(connection, id, full_name).await?;
        }
        if let Some(subject) = &change.subject {
            set_subject(app, connection, &person, subject).await?;
        }
        if let Some(disabled) = change.disabled {
            if is_self {
                return Err(own_account("disable"));
            }
            let by = disabled.then_some((now, who.name.as_str()));
            person::set_disabled(connection, id, by).await?;
        }
        let before =
            json!({"full_name": person.full_name, "disabled": person.disabled_at.is_some()});
        let detail = json!({"before": before, "after": change});
        audit::write(
            connection,
            now,
            &permit,
            "person.change",
            &person.name,
            detail,
        )
        .await?;
        Ok(shown(who, find(connection, who, name).await?))
    })
    .await?;
    app.principals.invalidate_all();
    Ok(changed)
}

/// Sets who a person is at the OpenID provider, by its name for the person; an empty one takes that away.
async fn set_subject(
    app: &App,
    connection: &mut Connection,
    person: &Row,
    subject: &str,
) -> Result<()> {
    let Some(settings) = app.provider.settings() else {
        let message = "no OpenID provider is configured";
        return Err(ServiceError::invalid("subject", message).remedy("set openid.issuer"));
    };
    if subject.len() > SUBJECT || subject.chars().any(|c| c.is_control() || c.is_whitespace()) {
        let message = format!("at most {SUBJECT} bytes, without spaces and control characters");
        return Err(ServiceError::invalid("subject", message));
    }
    let whole = format!("{} {subject}", settings.issuer.trim_end_matches('/'));
    let subject = (!subject.is_empty()).then_some(whole.as_str());
    match person::set_subject(connection, person.id.0, subject).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let message = "another account is this person's at the provider".to_owned();
            Err(ServiceError::taken(message).field("subject"))
        }
        other => Ok(other?),
    }
}

fn own_account(verb: &str) -> ServiceError {
    ServiceError::conflict(
        "own-account",
        "This is your own account",
        format!("you cannot {verb} your own account"),
    )
    .remedy("ask another administrator")
}

/// Returns the account with this name, whether its person is visible or not: who grants a role must know the name.
async fn by_name(connection: &mut Connection, name: &str) -> Result<Row> {
    let found = person::lock(connection, &name.to_lowercase()).await?;
    found.ok_or_else(|| ServiceError::unknown("person", name).remedy("pennine person list"))
}

fn held(person: &Row, place: &str) -> Option<Grant> {
    let mut grants = person.own_grants().into_iter();
    grants.find(|grant| grant.place == place)
}

/// Gives a person a role at a place, instead of the one that the person had there.
///
/// # Errors
/// Forbidden where it is more than who grants it has, or where the present role is.
pub async fn grant(app: &App, who: &Principal, name: &str, asked: Grant) -> Result<Person> {
    let granted = commit(app, async |connection| {
        let place = at(connection, who, &asked.place).await?;
        let grant = Grant {
            role: asked.role,
            place: place.path.clone(),
        };
        let permit = require_grant(who, &grant)?;
        let person = by_name(connection, name).await?;
        let before = held(&person, &place.path);
        if let Some(before) = &before {
            require_grant(who, before)?;
            if who.person == Some(person.id.0) && before.role > grant.role {
                return Err(own_account("lower the role of"));
            }
        }
        let now = app.clock.now();
        person::grant(
            connection,
            person.id.0,
            place.id.0,
            grant.role,
            now,
            &who.name,
        )
        .await?;
        let detail =
            json!({"place": place.path, "before": before.map(|one| one.role), "after": grant.role});
        audit::write(
            connection,
            now,
            &permit,
            "person.grant",
            &person.name,
            detail,
        )
        .await?;
        Ok(shown(who, find(connection, who, &person.name).await?))
    })
    .await?;
    app.principals.invalidate_all();
    Ok(granted)
}

/// Takes the role of a person at a place away.
///
/// # Errors
/// Unknown where the person has none there; forbidden where it is more than who takes it away has.
pub async fn revoke(
    app: &App,
    who: &Principal,
    name: &str,
    removal: GrantRemoval,
) -> Result<Person> {
    let revoked = commit(app, async |connection| {
        let place = at(connection, who, &removal.place).await?;
        let permit = who.require(Action::ManageAccess, &place.path)?;
        let person = by_name(connection, name).await?;
        let Some(before) = held(&person, &place.path) else {
            let message = format!("{} has no role at {}", person.name, place_name(&place.path));
            let error = ServiceError::conflict("no-such-grant", "There is no such role", message);
            return Err(error.field("place"));
        };
        require_grant(who, &before)?;
        if who.person == Some(person.id.0) {
            return Err(own_account("revoke the role of"));
        }
        person::revoke(connection, person.id.0, place.id.0).await?;
        let now = app.clock.now();
        let detail = json!({"place": place.path, "before": before.role});
        audit::write(
            connection,
            now,
            &permit,
            "person.revoke",
            &person.name,
            detail,
        )
        .await?;
        let after = by_name(connection, name).await?;
        Ok(shown(who, after))
    })
    .await?;
    app.principals.invalidate_all();
    Ok(revoked)
}
