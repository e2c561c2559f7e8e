//! Tokens.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use pennine_core::access::Action;
use pennine_core::time::Moment;
use pennine_store::Connection;
use pennine_store::token::{self, Token as Row};
use pennine_wire::{Page, Token};

/// The most tokens in a list.
const LISTED: i64 = 1000;

pub fn shown(row: Row, now: Moment) -> Token {
    let state = if row.revoked_at.is_some() {
        "revoked"
    } else if row.expires_at.is_some_and(|at| at.0 <= now) {
        "expired"
    } else {
        "valid"
    };
    Token {
        name: row.name,
        role: row.role.0,
        place: row.place,
        purpose: row.purpose.map(|purpose| purpose.0),
        owner: row.owner,
        state: state.to_owned(),
        created_at: row.created_at.0,
        created_by: row.created_by,
        renewed_at: row.renewed_at.0,
        expires_at: row.expires_at.map(|at| at.0),
        previous_until: row
            .previous_until
            .map(|at| at.0)
            .filter(|until| *until > now),
        revoked_at: row.revoked_at.map(|at| at.0),
        revoked_by: row.revoked_by,
        last_used_at: row.last_used_at.map(|at| at.0),
        last_used_from: row.last_used_from,
    }
}

/// Whether a person may see and change a token: it is their own, or they manage access at its place.
fn is_visible(who: &Principal, row: &Row) -> bool {
    let is_own = row
        .owner_id
        .is_some_and(|owner| who.person == Some(owner.0));
    row.id == who.id || is_own || who.may(Action::ManageAccess, &row.place)
}

/// Returns the token that is not revoked and has this name.
///
/// # Errors
/// Unknown where there is none, or where it is not for this person to see.
pub async fn find(connection: &mut Connection, who: &Principal, name: &str) -> Result<Row> {
    let found = token::find(connection, name).await?;
    found
        .filter(|row| is_visible(who, row))
        .ok_or_else(|| ServiceError::unknown("token", name).remedy("pennine token list"))
}

/// The tokens that a person may see, revoked ones last.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Token>> {
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let rows = token::list(&mut connection, LISTED).await?;
    let rows = rows.into_iter().filter(|row| is_visible(who, row));
    Ok(Page {
        items: rows.map(|row| shown(row, now)).collect(),
        next: None,
    })
}
