//! People, as others see them and as they see themselves.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use pennine_core::access::{Action, Grant, Refusal, Rights, may, place_name};
use pennine_store::person::{self, Person as Row};
use pennine_store::{Connection, sign_in};
use pennine_wire::{Account, Page, Permission, Person, Session};

/// The most people in a list.
const LISTED: i64 = 20_000;

/// Whether a grant at a place is shown: to the person, and to those who manage access there.
fn shows(who: &Principal, row: &Row, place: &str) -> bool {
    who.person == Some(row.id.0) || who.may(Action::ManageAccess, place)
}

pub fn shown(who: &Principal, row: Row) -> Person {
    let state = match (&row.disabled_at, &row.password_hash) {
        (Some(_), _) => "disabled",
        (None, None) if row.subject.is_none() => "invited",
        (None, _) => "active",
    };
    let visible = |mut grants: Vec<Grant>| {
        grants.retain(|grant| shows(who, &row, &grant.place));
        grants
    };
    let grants = visible(row.own_grants());
    let mut group_grants = visible(row.granted.grants());
    group_grants.retain(|grant| !grants.contains(grant));
    Person {
        has_second_factor: row.has_second_factor(),
        name: row.name,
        full_name: row.full_name,
        state: state.to_owned(),
        grants,
        subject: row.subject,
        groups: row.groups,
        group_grants,
        created_at: row.created_at.0,
        created_by: row.created_by,
        signed_in_at: row.signed_in_at.map(|at| at.0),
        disabled_at: row.disabled_at.map(|at| at.0),
        disabled_by: row.disabled_by,
    }
}

/// Whether an account may be seen: it is one's own, or has a role at a place where one manages access.
fn is_visible(who: &Principal, row: &Row) -> bool {
    who.person == Some(row.id.0)
        || who.may(Action::ManageAccess, "")
        || row
            .granted
            .places
            .iter()
            .any(|place| shows(who, row, place))
}

/// Returns the account with this name.
///
/// # Errors
/// Unknown where there is none, or where it is not for this person to see.
pub async fn find(connection: &mut Connection, who: &Principal, name: &str) -> Result<Row> {
    let found = person::find(connection, &name.to_lowercase()).await?;
    found
        .filter(|row| is_visible(who, row))
        .ok_or_else(|| ServiceError::unknown("person", name).remedy("pennine person list"))
}

/// The people who may be seen, by name.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Person>> {
    let mut connection = app.store.people().await?;
    let rows = person::list(&mut connection, LISTED).await?;
    let rows = rows.into_iter().filter(|row| is_visible(who, row));
    Ok(Page {
        items: rows.map(|row| shown(who, row)).collect(),
        next: None,
    })
}

/// One person.
pub async fn show(app: &App, who: &Principal, name: &str) -> Result<Person> {
    let mut connection = app.store.people().await?;
    Ok(shown(who, find(&mut connection, who, name).await?))
}

/// The account of the signed-in person.
///
/// # Errors
/// Forbidden where a token asks.
pub async fn account(app: &App, who: &Principal) -> Result<Account> {
    let Some(id) = who.signed_in_person() else {
        return Err(ServiceError::forbidden(
            "person-needed",
            "Only a person who is signed in has an account",
            "a token has no account of its own",
        )
        .remedy("sign in at the console with your name and password"));
    };
    let mut connection = app.store.people().await?;
    let row = find(&mut connection, who, &who.name).await?;
    let sessions = sign_in::of_person(&mut connection, id, app.clock.now()).await?;
    let sessions = sessions.into_iter().map(|session| Session {
        is_this: who.session == Some(session.id),
        id: session.id,
        created_at: session.created_at.0,
        expires_at: session.expires_at.0,
        address: session.address,
        user_agent: session.user_agent,
        last_used_at: session.last_used_at.0,
        last_used_from: session.last_used_from,
    });
    Ok(Account {
        has_password: row.password_hash.is_some(),
        recovery_codes: u32::try_from(row.recovery_codes).unwrap_or_default(),
        sessions: sessions.collect(),
        person: shown(who, row),
    })
}

/// Says whether a person may do something at a place, and by which grant.
///
/// # Errors
/// Unknown where the person or the place is not for this principal to see; invalid where the action is unknown.
pub async fn permission(
    app: &App,
    who: &Principal,
    name: &str,
    action: &str,
    place: &str,
) -> Result<Permission> {
    let known = Action::ALL.iter().copied();
    let Some(action) = known.clone().find(|known| known.word() == action) else {
        let words: Vec<&str> = known.map(Action::word).collect();
        let message = format!("unknown action {action:?}; known: {}", words.join(", "));
        return Err(ServiceError::invalid("action", message));
    };
    let mut connection = app.store.people().await?;
    let row = find(&mut connection, who, name).await?;
    let path = match place {
        "" => String::new(),
        place => {
            let kinds = ["team", "project"];
            let found =
                views::people::place::find(&mut connection, &who.sees, &kinds, "place", place);
            found.await.map_err(|error| error.field("place"))?.path
        }
    };
    let rights = Rights {
        grants: row.granted.grants(),
        purpose: None,
    };
    let (at, name) = (place_name(&path), &row.name);
    if row.disabled_at.is_some() {
        return Ok(Permission {
            is_allowed: false,
            grant: None,
            message: format!("No: the account of {name} is disabled."),
        });
    }
    let what = action.word();
    Ok(match may(&rights, action, &path) {
        Ok(grant) => Permission {
            is_allowed: true,
            message: format!(
                "Yes: {name} has {} at {}, which includes {what} at {at}.",
                grant.role,
                place_name(&grant.place)
            ),
            grant: Some(grant.clone()),
        },
        Err(refusal) => Permission {
            is_allowed: false,
            grant: None,
            message: match refusal {
                Refusal::Role {
                    held: Some(held),
                    role,
                    ..
                } => format!("No: {name} has {held} at {at}, and {what} needs {role}."),
                _ => format!(
                    "No: {name} has no role at {at}, and {what} needs {}.",
                    action.role()
                ),
            },
        },
    })
}
