//! Tokens of people and programs, and their sign-ins at the console. Secrets are high-entropy, so SHA-256 keeps them.

use crate::connect::Connection;
use crate::error::Result;
use crate::schema::{sign_in, token};
use crate::types::Db;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use pennine_core::time::Moment;
use uuid::Uuid;

/// A token.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = token)]
pub struct Token {
    pub id: Uuid,
    pub name: String,
    pub secret_hash: Vec<u8>,
    pub role: String,
    pub created_at: Db<Moment>,
    pub expires_at: Option<Db<Moment>>,
    pub revoked_at: Option<Db<Moment>>,
}

/// Adds a token.
pub async fn insert(connection: &mut Connection, new: &Token) -> Result<()> {
    diesel::insert_into(token::table)
        .values(new)
        .execute(connection)
        .await?;
    Ok(())
}

/// Whether any token was ever made.
pub async fn any(connection: &mut Connection) -> Result<bool> {
    Ok(
        diesel::select(diesel::dsl::exists(token::table.select(token::id)))
            .get_result(connection)
            .await?,
    )
}

/// The token with this secret, if it still holds.
pub async fn by_secret(
    connection: &mut Connection,
    hash: &[u8],
    now: Moment,
) -> Result<Option<Token>> {
    Ok(token::table
        .select(Token::as_select())
        .filter(token::secret_hash.eq(hash))
        .filter(token::revoked_at.is_null())
        .filter(
            token::expires_at
                .is_null()
                .or(token::expires_at.gt(Db(now))),
        )
        .first(connection)
        .await
        .optional()?)
}

/// Records a sign-in.
pub async fn sign_in(
    connection: &mut Connection,
    hash: &[u8],
    token_id: Uuid,
    now: Moment,
    until: Moment,
) -> Result<()> {
    let row = (
        sign_in::secret_hash.eq(hash),
        sign_in::token_id.eq(token_id),
        sign_in::created_at.eq(Db(now)),
        sign_in::expires_at.eq(Db(until)),
    );
    diesel::insert_into(sign_in::table)
        .values(row)
        .execute(connection)
        .await?;
    Ok(())
}

/// The token that is signed in with this cookie, if both still hold, and until when.
pub async fn by_cookie(
    connection: &mut Connection,
    hash: &[u8],
    now: Moment,
) -> Result<Option<(Token, Moment)>> {
    let found: Option<(Token, Db<Moment>)> = sign_in::table
        .inner_join(token::table)
        .select((Token::as_select(), sign_in::expires_at))
        .filter(sign_in::secret_hash.eq(hash))
        .filter(sign_in::expires_at.gt(Db(now)))
        .filter(token::revoked_at.is_null())
        .filter(
            token::expires_at
                .is_null()
                .or(token::expires_at.gt(Db(now))),
        )
        .first(connection)
        .await
        .optional()?;
    Ok(found.map(|(token, until)| (token, until.0)))
}

/// Ends a sign-in.
pub async fn sign_out(connection: &mut Connection, hash: &[u8]) -> Result<()> {
    diesel::delete(sign_in::table.filter(sign_in::secret_hash.eq(hash)))
        .execute(connection)
        .await?;
    Ok(())
}

/// Forgets the sign-ins that are over.
pub async fn sweep(connection: &mut Connection, now: Moment) -> Result<usize> {
    Ok(
        diesel::delete(sign_in::table.filter(sign_in::expires_at.le(Db(now))))
            .execute(connection)
            .await?,
    )
}
