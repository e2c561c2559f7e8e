//! What people change of their own accounts.

use super::session::{own_session, prove, second_factor_name, second_factor_of};
use crate::access::{Origin, Principal};
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::passwords::check_strength;
use crate::second_factor::{SecondFactor, recovery_codes, recovery_hash};
use pennine_store::person::{self, Person};
use pennine_store::{Connection, audit, sign_in};
use pennine_wire::{NewSecondFactor, PasswordChange, RecoveryCodes};
use serde_json::json;
use uuid::Uuid;

/// Locks and returns the account of the signed-in person.
async fn own(connection: &mut Connection, who: &Principal) -> Result<Person> {
    own_session(who)?;
    let found = person::lock(connection, &who.name).await?;
    found.ok_or_else(|| ServiceError::unauthenticated("the account does not exist any more"))
}

async fn read_own(app: &App, who: &Principal) -> Result<Person> {
    own_session(who)?;
    let found = person::find(&mut *app.store.people().await?, &who.name).await?;
    found.ok_or_else(|| ServiceError::unauthenticated("the account does not exist any more"))
}

/// Sets another password. The person's other sign-ins end.
///
/// # Errors
/// Invalid where the present password is wrong, or the new one too weak.
pub async fn change_password(
    app: &App,
    who: &Principal,
    change: PasswordChange,
    origin: &Origin,
) -> Result<()> {
    check_strength("new", &change.new)?;
    let person = read_own(app, who).await?;
    prove(app, &person, &change.present, "present", origin).await?;
    let hash = app.passwords.hash(&change.new).await?;
    commit(app, async |connection| {
        let person = own(connection, who).await?;
        person::set_password(connection, person.id.0, &hash).await?;
        let ended = sign_in::end_others(connection, person.id.0, who.session).await?;
        let (now, name) = (app.clock.now(), &person.name);
        let detail = json!({"sessions_ended": ended});
        Ok(audit::write(
            connection,
            now,
            &who.own_permit(),
            "account.password",
            name,
            detail,
        )
        .await?)
    })
    .await?;
    app.principals.invalidate_all();
    Ok(())
}

/// Begins a second factor: it counts once it is confirmed with a code.
///
/// # Errors
/// Invalid where the password is wrong; a conflict where the account has a second factor.
pub async fn begin_second_factor(
    app: &App,
    who: &Principal,
    password: &str,
    origin: &Origin,
) -> Result<NewSecondFactor> {
    let person = read_own(app, who).await?;
    prove(app, &person, password, "password", origin).await?;
    let made = SecondFactor::fresh(&app.installation.name, &person.name)
        .ok_or_else(|| ServiceError::internal("a second factor cannot be made"))?;
    let secret = made.secret();
    let locked = app
        .encryption
        .lock(&second_factor_name(person.id.0), &secret);
    let locked = locked.ok_or_else(|| ServiceError::internal("a secret cannot be encrypted"))?;
    commit(app, async |connection| {
        let person = own(connection, who).await?;
        if person.has_second_factor() {
            return Err(ServiceError::conflict(
                "exists-already",
                "The account has a second factor",
                "there is a second factor already",
            )
            .remedy("remove it first, to set up another authenticator"));
        }
        Ok(person::begin_second_factor(connection, person.id.0, &locked).await?)
    })
    .await?;
    Ok(NewSecondFactor {
        secret,
        address: made.address(),
    })
}

/// Confirms the second factor with its first code: from now on each sign-in needs one. Returns the recovery codes.
///
/// # Errors
/// Invalid where the code is wrong; a conflict where no second factor was begun.
pub async fn confirm_second_factor(
    app: &App,
    who: &Principal,
    code: &str,
) -> Result<RecoveryCodes> {
    let codes = recovery_codes();
    let hashes: Vec<Vec<u8>> = codes.iter().map(|code| recovery_hash(code)).collect();
    commit(app, async |connection| {
        let person = own(connection, who).await?;
        if person.has_second_factor() || person.totp_secret.is_none() {
            let message = "there is no second factor to confirm";
            return Err(
                ServiceError::conflict("wrong-state", "Nothing to confirm", message)
                    .remedy("begin with a new one"),
            );
        }
        let now = app.clock.now();
        let step = second_factor_of(app, &person)?.step_of(code, now);
        let is_right = match step {
            Some(step) => person::use_step(connection, person.id.0, step).await?,
            None => false,
        };
        if !is_right {
            return Err(ServiceError::invalid("code", "the code is wrong").remedy(
                "enter the code that the authenticator shows now; check the clock of its device",
            ));
        }
        person::confirm_second_factor(connection, person.id.0, &hashes, now).await?;
        let name = &person.name;
        Ok(audit::write(
            connection,
            now,
            &who.own_permit(),
            "account.second-factor",
            name,
            json!({}),
        )
        .await?)
    })
    .await?;
    Ok(RecoveryCodes { codes })
}

/// Removes the second factor.
///
/// # Errors
/// Invalid where the password is wrong.
pub async fn remove_second_factor(
    app: &App,
    who: &Principal,
    password: &str,
    origin: &Origin,
) -> Result<()> {
    let person = read_own(app, who).await?;
    prove(app, &person, password, "password", origin).await?;
    commit(app, async |connection| {
        let person = own(connection, who).await?;
        person::remove_second_factor(connection, person.id.0).await?;
        let (now, name, what) = (app.clock.now(), &person.name, "account.no-second-factor");
        Ok(audit::write(connection, now, &who.own_permit(), what, name, json!({})).await?)
    })
    .await
}

/// Ends one of the person's sign-ins.
///
/// # Errors
/// Unknown where the person has none with this id.
pub async fn end_session(app: &App, who: &Principal, id: Uuid) -> Result<()> {
    commit(app, async |connection| {
        let person = own(connection, who).await?;
        if !sign_in::end_of_person(connection, person.id.0, id).await? {
            return Err(ServiceError::unknown("session", &id.to_string()));
        }
        let (now, name) = (app.clock.now(), &person.name);
        Ok(audit::write(
            connection,
            now,
            &who.own_permit(),
            "session.end",
            name,
            json!({"session": id}),
        )
        .await?)
    })
    .await?;
    app.principals.invalidate_all();
    Ok(())
}
