//! Tokens of people and programs. Secrets are high-entropy, so SHA-256 keeps them.

use crate::connect::Connection;
use crate::error::Result;
use crate::person::Granted;
use crate::schema::token;
use crate::statement::sql;
use crate::types::Db;
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Bool, Bytea, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use pennine_core::access::{Purpose, Role};
use pennine_core::id::{PersonId, PlaceId};
use pennine_core::time::Moment;
use std::time::Duration;
use uuid::Uuid;

/// How exactly it is recorded when a token was last used: not with each request.
const USE_NOTED: Duration = Duration::from_secs(60);

/// A token.
#[derive(Clone, Debug, QueryableByName)]
pub struct Token {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub role: Db<Role>,
    #[diesel(sql_type = SqlUuid)]
    pub place_id: Db<PlaceId>,
    /// The path of the place where its role is valid; empty for the root.
    #[diesel(sql_type = Text)]
    pub place: String,
    /// What it is limited to.
    #[diesel(sql_type = Nullable<Text>)]
    pub purpose: Option<Db<Purpose>>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
    /// Since when its present secret is valid.
    #[diesel(sql_type = Timestamptz)]
    pub renewed_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub expires_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub revoked_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub revoked_by: Option<String>,
    /// Until when the secret before the last rotation is valid.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub previous_until: Option<Db<Moment>>,
    /// When it was last used, to a minute, and from which address.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub last_used_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub last_used_from: Option<String>,
    /// Whose it is, where it is a person's own.
    #[diesel(sql_type = Nullable<SqlUuid>)]
    pub owner_id: Option<Db<PersonId>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub owner: Option<String>,
    /// The owner's roles.
    #[diesel(embed)]
    pub owner_granted: Granted,
}

/// What to make a token from.
#[derive(Clone, Debug)]
pub struct NewToken {
    pub id: Uuid,
    pub name: String,
    pub secret_hash: Vec<u8>,
    pub role: Role,
    pub place: PlaceId,
    pub purpose: Option<Purpose>,
    pub at: Moment,
    pub by: String,
    pub expires_at: Option<Moment>,
    pub owner: Option<PersonId>,
}

/// The columns of a [`Token`], of tokens that are called `t`, with their places `p` and owners `o`.
macro_rules! token_columns {
    () => {
        concat!(
            "t.id, t.name, t.role, t.place_id, p.path as place, t.purpose, t.created_at, t.created_by, t.renewed_at, t.expires_at,
             t.revoked_at, t.revoked_by, t.previous_until, t.last_used_at, t.last_used_from, t.owner_id, o.name as owner, ",
            $crate::person::granted_columns!("t.owner_id")
        )
    };
}
pub(crate) use token_columns;

/// Adds a token.
///
/// # Errors
/// `Duplicate` where a token that is not revoked has the name.
pub async fn insert(connection: &mut Connection, new: NewToken) -> Result<()> {
    sql!(
        "insert into token (id, name, secret_hash, role, place_id, purpose, created_at, created_by, renewed_at, expires_at,
                            owner_id)
         values (:id, :name, :secret_hash, :role, :place, :purpose, :at, :by, :at, :expires_at, :owner)";
        id: SqlUuid = new.id,
        name: Text = new.name,
        secret_hash: Bytea = new.secret_hash,
        role: Text = Db(new.role),
        place: SqlUuid = Db(new.place),
        purpose: Nullable<Text> = new.purpose.map(Db),
        at: Timestamptz = Db(new.at),
        by: Text = new.by,
        expires_at: Nullable<Timestamptz> = new.expires_at.map(Db),
        owner: Nullable<SqlUuid> = new.owner.map(Db),
    )
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

/// The token with this secret, if it is valid: its present secret, or the one before it until its time has passed.
pub async fn by_secret(
    connection: &mut Connection,
    hash: &[u8],
    now: Moment,
) -> Result<Option<Token>> {
    Ok(sql!(
        "select " token_columns!() " from token t join place p on p.id = t.place_id left join person o on o.id = t.owner_id
         where t.id in (select id from token where secret_hash = :hash
                        union all select id from token where previous_hash = :hash and previous_until > :now)
           and t.revoked_at is null and (t.expires_at is null or t.expires_at > :now) and o.disabled_at is null";
        hash: Bytea = hash,
        now: Timestamptz = Db(now),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Where a page of tokens begins: after this one.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct TokenPosition {
    pub is_revoked: bool,
    pub name: String,
    pub id: Uuid,
}

/// Which tokens to list.
#[derive(Clone, Debug, Default)]
pub struct TokenFilter<'a> {
    /// Only tokens at these places and below, and the person's own; all where there is none.
    pub managed: Option<&'a [String]>,
    pub person: Option<PersonId>,
    /// The token that asks, which is always listed.
    pub own: Uuid,
    /// Only tokens whose name, role, place or purpose contains this, in small letters; all where it is empty.
    pub search: String,
    pub after: Option<TokenPosition>,
}

/// Tokens by name, revoked ones last.
pub async fn list(
    connection: &mut Connection,
    filter: &TokenFilter<'_>,
    limit: i64,
) -> Result<Vec<Token>> {
    let after = filter.after.as_ref();
    Ok(sql!(
        "select " token_columns!() " from token t join place p on p.id = t.place_id left join person o on o.id = t.owner_id
         where (:managed::text[] is null or is_below_any(p.path, :managed) or t.owner_id = :person or t.id = :own)
           and (:search = '' or strpos(lower(concat_ws(' ', t.name, t.role, p.path, t.purpose)), :search) > 0)
           and (:after is null or (t.revoked_at is not null, t.name, t.id) > (:is_revoked, :name, :after))
         order by t.revoked_at is not null, t.name, t.id limit :limit";
        managed: Nullable<Array<Text>> = filter.managed,
        person: Nullable<SqlUuid> = filter.person.map(Db),
        own: SqlUuid = filter.own,
        search: Text = &filter.search,
        after: Nullable<SqlUuid> = after.map(|after| after.id),
        is_revoked: Bool = after.is_some_and(|after| after.is_revoked),
        name: Text = after.map_or("", |after| &after.name),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// What a token is to be.
#[derive(Clone, Copy, Debug)]
pub struct TokenUpdate {
    pub role: Role,
    pub place: PlaceId,
    pub purpose: Option<Purpose>,
    pub expires_at: Option<Moment>,
}

/// Changes a token. False where it is revoked.
pub async fn change(connection: &mut Connection, id: Uuid, update: TokenUpdate) -> Result<bool> {
    let changed = sql!(
        "update token set role = :role, place_id = :place, purpose = :purpose, expires_at = :expires_at
         where id = :id and revoked_at is null";
        role: Text = Db(update.role),
        place: SqlUuid = Db(update.place),
        purpose: Nullable<Text> = update.purpose.map(Db),
        expires_at: Nullable<Timestamptz> = update.expires_at.map(Db),
        id: SqlUuid = id,
    )
    .execute(connection)
    .await?;
    Ok(changed == 1)
}

/// The valid tokens that expire before a moment and were used after another one, by name.
pub async fn expiring(
    connection: &mut Connection,
    now: Moment,
    before: Moment,
    used_after: Moment,
    limit: i64,
) -> Result<Vec<Token>> {
    Ok(sql!(
        "select " token_columns!() " from token t join place p on p.id = t.place_id left join person o on o.id = t.owner_id
         where t.revoked_at is null and t.expires_at > :now and t.expires_at <= :before and t.last_used_at > :used_after
         order by t.name limit :limit";
        now: Timestamptz = Db(now),
        before: Timestamptz = Db(before),
        used_after: Timestamptz = Db(used_after),
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// The token that is not revoked and has this name, locked until the transaction ends.
pub async fn lock(connection: &mut Connection, name: &str) -> Result<Option<Token>> {
    Ok(sql!(
        "select " token_columns!() " from token t join place p on p.id = t.place_id left join person o on o.id = t.owner_id
         where t.name = :name and t.revoked_at is null for no key update of t";
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// The token that is not revoked and has this name.
pub async fn find(connection: &mut Connection, name: &str) -> Result<Option<Token>> {
    Ok(sql!(
        "select " token_columns!() " from token t join place p on p.id = t.place_id left join person o on o.id = t.owner_id
         where t.name = :name and t.revoked_at is null";
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Another secret of a token.
#[derive(Clone, Copy, Debug)]
pub struct Renewal<'a> {
    pub at: Moment,
    pub hash: &'a [u8],
    /// Until when the present secret is valid.
    pub previous_until: Moment,
    pub expires_at: Option<Moment>,
}

/// Gives a token another secret. The one before the present one is no longer valid. False where the token is revoked.
pub async fn rotate(connection: &mut Connection, id: Uuid, renewal: Renewal<'_>) -> Result<bool> {
    let rotated = sql!(
        "update token set previous_hash = secret_hash, previous_until = :until, secret_hash = :hash, renewed_at = :at,
                          expires_at = :expires_at
         where id = :id and revoked_at is null";
        until: Timestamptz = Db(renewal.previous_until),
        hash: Bytea = renewal.hash,
        at: Timestamptz = Db(renewal.at),
        expires_at: Nullable<Timestamptz> = renewal.expires_at.map(Db),
        id: SqlUuid = id,
    )
    .execute(connection)
    .await?;
    Ok(rotated == 1)
}

/// Revokes a token and ends its sign-ins. False where it was revoked already.
pub async fn revoke(connection: &mut Connection, id: Uuid, by: &str, at: Moment) -> Result<bool> {
    let revoked = sql!(
        "with gone as (delete from sign_in where token_id = :id)
         update token set revoked_at = :at, revoked_by = :by where id = :id and revoked_at is null";
        id: SqlUuid = id,
        at: Timestamptz = Db(at),
        by: Text = by,
    )
    .execute(connection)
    .await?;
    Ok(revoked == 1)
}

/// Notes that a token was used, where that was not noted in the last minute.
pub async fn note_use(
    connection: &mut Connection,
    token: &Token,
    from: Option<&str>,
    now: Moment,
) -> Result<()> {
    if token
        .last_used_at
        .is_some_and(|at| now.since(at.0) < USE_NOTED)
    {
        return Ok(());
    }
    sql!(
        "update token set last_used_at = :now, last_used_from = :from where id = :id";
        now: Timestamptz = Db(now),
        from: Nullable<Text> = from,
        id: SqlUuid = token.id,
    )
    .execute(connection)
    .await?;
    Ok(())
}
