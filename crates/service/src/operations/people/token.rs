//! Tokens.

use super::grant::{at, require_grant};
use super::session::own_session;
use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::secret;
use crate::validation::check_name;
use crate::views::people::token::{find, lock, shown};
use pennine_core::access::Grant;
use pennine_core::time::{Micros, Moment, spoken};
use pennine_store::audit::{self, Permit};
use pennine_store::token::{self, NewToken as NewRow, Token as Row, TokenUpdate};
use pennine_wire::{MadeToken, NewToken, Token, TokenChange, TokenRotation};
use serde_json::json;
use std::time::Duration;

const DAY: Duration = Duration::from_secs(86_400);
/// How long a token is valid where nothing else is asked for.
const LIFETIME: Duration = DAY.saturating_mul(90);
/// How long the secret before a rotation stays valid where nothing else is asked for, and at most.
const OVERLAP: Duration = DAY;
const LONGEST_OVERLAP: Duration = DAY.saturating_mul(30);

/// When a token that is made or rotated now expires.
fn expiry(app: &App, lifetime: Duration, now: Moment) -> Result<Moment> {
    let longest = DAY.saturating_mul(app.config.tokens.longest_days);
    if lifetime.is_zero() || lifetime > longest {
        let message = format!(
            "a token is valid for more than 0 and at most {}",
            spoken(longest)
        );
        return Err(ServiceError::invalid("lifetime_us", message));
    }
    Ok(now + lifetime)
}

/// Make a token. The answer holds the secret, this once.
///
/// # Errors
/// Forbidden where the token would have more rights than who makes it.
pub async fn add(app: &App, who: &Principal, new: NewToken) -> Result<MadeToken> {
    check_name("name", &new.name)?;
    let (name, owner) = match new.is_own {
        true => {
            let (person, _) = own_session(who)?;
            (format!("{}/{}", who.name, new.name), Some(person))
        }
        false => (new.name.clone(), None),
    };
    let now = app.clock.now();
    let expires_at = expiry(app, new.lifetime_us.map_or(LIFETIME, Duration::from), now)?;
    commit(app, async |connection| {
        let place = at(connection, who, &new.place).await?;
        // A person's own token never permits more than the person has, whatever its limit is.
        let permit = match owner {
            Some(_) => who.own_permit(),
            None => {
                let grant = Grant {
                    role: new.role,
                    place: place.path.clone(),
                };
                require_grant(who, &grant)?
            }
        };
        let secret = secret::fresh(secret::Purpose::Token);
        let row = NewRow {
            id: app.fresh_id(),
            name: name.clone(),
            secret_hash: secret::hash(&secret),
            role: new.role,
            place: place.id.0,
            purpose: new.purpose,
            at: now,
            by: who.name.clone(),
            expires_at: Some(expires_at),
            owner,
        };
        match token::insert(connection, row).await {
            Err(pennine_store::Error::Duplicate(_)) => {
                let message = format!("a token {name:?} already exists");
                let remedy = format!(
                    "choose another name, or give it another secret with: pennine token rotate {name}"
                );
                return Err(ServiceError::taken(message).remedy(remedy));
            }
            other => other?,
        }
        let detail = json!({"role": new.role, "place": place.path, "purpose": new.purpose, "expires_at": expires_at});
        audit::write(connection, now, &permit, "token.add", &name, detail).await?;
        let made = find(connection, who, &name).await?;
        Ok(MadeToken {
            token: shown(made, now),
            secret,
        })
    })
    .await
}

/// What an audit row takes of a change of a token, which its owner or bearer may make, too.
fn permit(who: &Principal, row: &Row) -> Permit {
    who.actor.clone().at(&row.place)
}

/// How long a token is valid from one rotation to the next.
fn lifetime(row: &Row) -> Duration {
    match row.expires_at {
        Some(until) => until.0.since(row.renewed_at.0),
        None => LIFETIME,
    }
}

/// Refuses a person's own token to everybody else.
fn require_own(who: &Principal, row: &Row, what: &str) -> Result<()> {
    if row.owner_id.is_none_or(|owner| who.person == Some(owner.0)) {
        return Ok(());
    }
    let name = &row.name;
    let message = format!("{name} is a token of its own person, who alone may {what}");
    let error = ServiceError::forbidden("own-token", "This is not permitted", message);
    Err(error.remedy(format!("to end it: pennine token revoke {name}")))
}

/// Changes what a token permits, or how long it is valid. Its secret stays.
///
/// # Errors
/// Unknown where the token is revoked; a conflict where it has expired; forbidden where it has, or would have, more rights than
/// who changes it; invalid where it would have expired already.
pub async fn change(app: &App, who: &Principal, name: &str, change: TokenChange) -> Result<Token> {
    let changed = commit(app, async |connection| {
        let row = lock(connection, who, name).await?;
        require_own(who, &row, "change it")?;
        let now = app.clock.now();
        if row.expires_at.is_some_and(|at| at.0 <= now) {
            let message = format!("{name} has expired");
            let error = ServiceError::conflict("wrong-state", "The token has expired", message);
            return Err(error.remedy("revoke it and add another one"));
        }
        let (place_id, path) = match &change.place {
            None => (row.place_id.0, row.place.clone()),
            Some(path) => {
                let place = at(connection, who, path).await?;
                (place.id.0, place.path)
            }
        };
        let role = change.role.unwrap_or(row.role.0);
        let permit = match row.owner_id {
            Some(_) => who.own_permit(),
            None => {
                let before = Grant {
                    role: row.role.0,
                    place: row.place.clone(),
                };
                require_grant(who, &before)?;
                let place = path.clone();
                require_grant(who, &Grant { role, place })?
            }
        };
        let expires_at = match change.lifetime_us {
            None => row.expires_at.map(|at| at.0),
            Some(lifetime) => {
                let lifetime = Duration::from(lifetime);
                expiry(app, lifetime, now)?;
                let at = row.renewed_at.0 + lifetime;
                if at <= now {
                    let message = "the token would have expired already";
                    return Err(ServiceError::invalid("lifetime_us", message)
                        .remedy(format!("to end it: pennine token revoke {name}")));
                }
                Some(at)
            }
        };
        let purpose = change.purpose.unwrap_or(row.purpose.map(|purpose| purpose.0));
        let update = TokenUpdate {
            role,
            place: place_id,
            purpose,
            expires_at,
        };
        token::change(connection, row.id, update).await?;
        let detail = json!({
            "before": {"role": row.role.0, "place": row.place, "purpose": row.purpose.map(|one| one.0),
                "expires_at": row.expires_at.map(|at| at.0)},
            "after": {"role": role, "place": path, "purpose": purpose, "expires_at": expires_at},
        });
        audit::write(connection, now, &permit, "token.change", name, detail).await?;
        Ok(shown(find(connection, who, name).await?, now))
    })
    .await?;
    app.principals.invalidate_all();
    Ok(changed)
}

/// Give a token another secret, which the answer holds, this once. The present secret stays valid for a while, so that
/// what uses it does not break.
///
/// # Errors
/// Unknown where the token is revoked; a conflict where it has expired.
pub async fn rotate(
    app: &App,
    who: &Principal,
    name: &str,
    rotation: TokenRotation,
) -> Result<MadeToken> {
    let overlap = rotation.overlap_us.map_or(OVERLAP, Duration::from);
    if overlap > LONGEST_OVERLAP {
        let message = format!("the overlap is at most {}", spoken(LONGEST_OVERLAP));
        return Err(ServiceError::invalid("overlap_us", message));
    }
    let made = commit(app, async |connection| {
        let row = find(connection, who, name).await?;
        require_own(who, &row, "have its secret")?;
        let now = app.clock.now();
        if row.expires_at.is_some_and(|at| at.0 <= now) {
            let message = format!("{name} has expired");
            let error = ServiceError::conflict("wrong-state", "The token has expired", message);
            return Err(error.remedy("revoke it and add another one"));
        }
        let asked: Option<Micros> = rotation.lifetime_us;
        // One that never expires stays so, unless it is asked to expire.
        let expires_at = match (asked, row.expires_at) {
            (None, None) => None,
            (asked, _) => Some(expiry(
                app,
                asked.map_or(lifetime(&row), Duration::from),
                now,
            )?),
        };
        let until = row
            .expires_at
            .map_or(now + overlap, |end| end.0.min(now + overlap));
        let secret = secret::fresh(secret::Purpose::Token);
        let renewal = token::Renewal {
            at: now,
            hash: &secret::hash(&secret),
            previous_until: until,
            expires_at,
        };
        token::rotate(connection, row.id, renewal).await?;
        let detail = json!({"previous_until": until, "expires_at": expires_at});
        audit::write(
            connection,
            now,
            &permit(who, &row),
            "token.rotate",
            name,
            detail,
        )
        .await?;
        let made = find(connection, who, name).await?;
        Ok(MadeToken {
            token: shown(made, now),
            secret,
        })
    })
    .await?;
    app.principals.invalidate_all();
    Ok(made)
}

/// Revoke a token: it is refused from now on, here at once and by other replicas within a second, and its sign-ins end.
///
/// # Errors
/// Unknown where it is revoked already.
pub async fn revoke(app: &App, who: &Principal, name: &str) -> Result<Token> {
    let revoked = commit(app, async |connection| {
        let row = find(connection, who, name).await?;
        let now = app.clock.now();
        token::revoke(connection, row.id, &who.name, now).await?;
        let detail = json!({"role": row.role.0, "place": row.place});
        audit::write(
            connection,
            now,
            &permit(who, &row),
            "token.revoke",
            name,
            detail,
        )
        .await?;
        let mut token = shown(row, now);
        "revoked".clone_into(&mut token.state);
        token.revoked_at = Some(now);
        token.revoked_by = Some(who.name.clone());
        Ok(token)
    })
    .await?;
    app.principals.invalidate_all();
    Ok(revoked)
}
