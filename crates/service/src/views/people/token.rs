//! Tokens.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views::search;
use pennine_core::access::Action;
use pennine_core::time::Moment;
use pennine_core::visibility::Visibility;
use pennine_store::Connection;
use pennine_store::token::{self, Token as Row, TokenFilter, TokenPosition};
use pennine_wire::{Page, Token};
use serde::Deserialize;
use utoipa::IntoParams;

/// The most tokens in a page.
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
    visible(who, name, token::find(connection, name).await?)
}

/// As [`find`], and locks it until the transaction ends.
///
/// # Errors
/// As [`find`].
pub async fn lock(connection: &mut Connection, who: &Principal, name: &str) -> Result<Row> {
    visible(who, name, token::lock(connection, name).await?)
}

fn visible(who: &Principal, name: &str, found: Option<Row>) -> Result<Row> {
    found
        .filter(|row| is_visible(who, row))
        .ok_or_else(|| ServiceError::unknown("token", name).remedy("pennine token list"))
}

/// Which tokens are asked for.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct TokenParams {
    /// Only tokens whose name, role, place or purpose contains this text.
    pub search: Option<String>,
    /// The cursor of the page before.
    pub after: Option<String>,
    /// How many: 1 to 1000, 1000 when not given.
    pub limit: Option<i64>,
}

/// A place in the list as text.
fn cursor(row: &Row) -> String {
    let revoked = u8::from(row.revoked_at.is_some());
    format!("{revoked}:{}:{}", row.id, row.name)
}

fn position(cursor: &str) -> Option<TokenPosition> {
    let (revoked, rest) = cursor.split_once(':')?;
    let (id, name) = rest.split_once(':')?;
    Some(TokenPosition {
        is_revoked: revoked == "1",
        name: name.to_owned(),
        id: id.parse().ok()?,
    })
}

/// The tokens that a person may see, by name, revoked ones last.
///
/// # Errors
/// Invalid where the cursor, the limit or the search text is.
pub async fn list(app: &App, who: &Principal, asked: TokenParams) -> Result<Page<Token>> {
    let limit = asked.limit.unwrap_or(LISTED);
    if !(1..=LISTED).contains(&limit) {
        let message = format!("limit is 1 to {LISTED}");
        return Err(ServiceError::invalid("limit", message));
    }
    let after = match asked.after.as_deref() {
        None => None,
        Some(text) => Some(position(text).ok_or_else(|| {
            let message = "invalid cursor: send the `next` of the previous page";
            ServiceError::invalid("after", message)
        })?),
    };
    let managed = Visibility::of(&who.rights, Action::ManageAccess);
    let filter = TokenFilter {
        managed: managed.paths(),
        person: who.person,
        own: who.id,
        search: search::text(asked.search.as_deref())?.to_lowercase(),
        after,
    };
    let mut connection = app.store.people().await?;
    let now = app.clock.now();
    let mut rows = token::list(&mut connection, &filter, limit + 1).await?;
    let has_more = rows.len() as i64 > limit;
    rows.truncate(usize::try_from(limit).unwrap_or_default());
    let next = rows.last().filter(|_| has_more).map(cursor);
    Ok(Page {
        items: rows.into_iter().map(|row| shown(row, now)).collect(),
        next,
    })
}
