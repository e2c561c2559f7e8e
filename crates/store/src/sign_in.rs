//! Sign-ins at the console, with a token or as a person; one-time links; and how sign-ins with a password went.

use crate::connect::Connection;
use crate::error::Result;
use crate::person::{Person, person_columns};
use crate::statement::sql;
use crate::token::{Token, token_columns};
use crate::types::Db;
use diesel::OptionalExtension;
use diesel::QueryableByName;
use diesel::sql_types::{BigInt, Bool, Bytea, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::id::PersonId;
use pennine_core::sign_in::{Failures, RECENT, SignInHistory};
use pennine_core::time::Moment;
use std::time::Duration;
use uuid::Uuid;

/// How exactly it is recorded when a sign-in was last used.
const USE_NOTED: Duration = Duration::from_secs(60);
/// How long an address is known for a name after its last success.
const KNOWN_FOR: Duration = Duration::from_secs(90 * 86_400);

/// Who has signed in.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum SignInOwnerId {
    Token(Uuid),
    Person(PersonId),
}

/// What to make a sign-in from.
#[derive(Clone, Debug)]
pub struct NewSignIn<'a> {
    pub id: Uuid,
    /// Of the cookie.
    pub secret_hash: &'a [u8],
    pub owner: SignInOwnerId,
    pub at: Moment,
    pub until: Moment,
    pub address: Option<String>,
    pub user_agent: &'a str,
}

/// A sign-in.
#[derive(Clone, Debug, QueryableByName)]
pub struct SignIn {
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: Db<Moment>,
    /// The address from which it began.
    #[diesel(sql_type = Nullable<Text>)]
    pub address: Option<String>,
    #[diesel(sql_type = Text)]
    pub user_agent: String,
    /// When it was last used, to a minute, and from which address.
    #[diesel(sql_type = Timestamptz)]
    pub last_used_at: Db<Moment>,
    #[diesel(sql_type = Nullable<Text>)]
    pub last_used_from: Option<String>,
}

/// The columns of a [`SignIn`], of sign-ins that are called `s`.
macro_rules! sign_in_columns {
    () => {
        "s.id, s.created_at, s.expires_at, s.address, s.user_agent, s.last_used_at, s.last_used_from"
    };
}

/// Records a sign-in.
pub async fn insert(connection: &mut Connection, new: NewSignIn<'_>) -> Result<()> {
    let (token, person) = match new.owner {
        SignInOwnerId::Token(id) => (Some(id), None),
        SignInOwnerId::Person(id) => (None, Some(Db(id))),
    };
    sql!(
        "insert into sign_in (id, secret_hash, token_id, person_id, created_at, expires_at, address, user_agent, last_used_at,
                              last_used_from)
         values (:id, :secret_hash, :token, :person, :at, :until, :address, :user_agent, :at, :address)";
        id: SqlUuid = new.id,
        secret_hash: Bytea = new.secret_hash,
        token: Nullable<SqlUuid> = token,
        person: Nullable<SqlUuid> = person,
        at: Timestamptz = Db(new.at),
        until: Timestamptz = Db(new.until),
        address: Nullable<Text> = new.address,
        user_agent: Text = new.user_agent,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Whose a cookie is.
#[derive(Clone, Debug)]
pub enum SignInOwner {
    Token(Token),
    Person(Person),
}

/// Who is signed in with this cookie, if the sign-in and what it is with are valid.
pub async fn by_cookie(
    connection: &mut Connection,
    hash: &[u8],
    now: Moment,
) -> Result<Option<(SignInOwner, SignIn)>> {
    let found: Option<SignIn> = sql!(
        "select " sign_in_columns!() " from sign_in s where s.secret_hash = :hash and s.expires_at > :now";
        hash: Bytea = hash,
        now: Timestamptz = Db(now),
    )
    .get_result(connection)
    .await
    .optional()?;
    let Some(session) = found else {
        return Ok(None);
    };
    let person: Option<Person> = sql!(
        "select " person_columns!() " from sign_in s join person q on q.id = s.person_id
         where s.id = :id and q.disabled_at is null";
        id: SqlUuid = session.id,
    )
    .get_result(connection)
    .await
    .optional()?;
    if let Some(person) = person {
        return Ok(Some((SignInOwner::Person(person), session)));
    }
    let token: Option<Token> = sql!(
        "select " token_columns!() " from sign_in s join token t on t.id = s.token_id
         join place p on p.id = t.place_id left join person o on o.id = t.owner_id
         where s.id = :id and t.revoked_at is null and (t.expires_at is null or t.expires_at > :now) and o.disabled_at is null";
        id: SqlUuid = session.id,
        now: Timestamptz = Db(now),
    )
    .get_result(connection)
    .await
    .optional()?;
    Ok(token.map(|token| (SignInOwner::Token(token), session)))
}

/// The sign-ins of a person that are valid, the latest first.
pub async fn of_person(
    connection: &mut Connection,
    person: PersonId,
    now: Moment,
) -> Result<Vec<SignIn>> {
    Ok(sql!(
        "select " sign_in_columns!() " from sign_in s where s.person_id = :person and s.expires_at > :now
         order by s.last_used_at desc limit 200";
        person: SqlUuid = Db(person),
        now: Timestamptz = Db(now),
    )
    .load(connection)
    .await?)
}

/// Notes that a sign-in was used, where that was not noted in the last minute.
pub async fn note_use(
    connection: &mut Connection,
    session: &SignIn,
    from: Option<&str>,
    now: Moment,
) -> Result<()> {
    if now.since(session.last_used_at.0) < USE_NOTED {
        return Ok(());
    }
    sql!(
        "update sign_in set last_used_at = :now, last_used_from = :from where id = :id";
        now: Timestamptz = Db(now),
        from: Nullable<Text> = from,
        id: SqlUuid = session.id,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Ends a sign-in. False where there is none.
pub async fn end(connection: &mut Connection, hash: &[u8]) -> Result<bool> {
    let ended = sql!("delete from sign_in where secret_hash = :hash"; hash: Bytea = hash)
        .execute(connection)
        .await?;
    Ok(ended == 1)
}

/// Ends a sign-in of a person. False where the person has none with this id.
pub async fn end_of_person(
    connection: &mut Connection,
    person: PersonId,
    id: Uuid,
) -> Result<bool> {
    let ended = sql!(
        "delete from sign_in where id = :id and person_id = :person";
        id: SqlUuid = id,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(ended == 1)
}

/// Ends the sign-ins of a person but for one, and returns how many.
pub async fn end_others(
    connection: &mut Connection,
    person: PersonId,
    but: Option<Uuid>,
) -> Result<usize> {
    Ok(sql!(
        "delete from sign_in where person_id = :person and id is distinct from :but";
        person: SqlUuid = Db(person),
        but: Nullable<SqlUuid> = but,
    )
    .execute(connection)
    .await?)
}

/// Forgets the sign-ins and links that are over, and how sign-ins went where that no longer matters.
pub async fn sweep(connection: &mut Connection, now: Moment) -> Result<usize> {
    Ok(sql!(
        "with links as (delete from sign_in_link where expires_at <= :now),
              addresses as (delete from sign_in_address
                            where coalesce(succeeded_at, '-infinity') < :known and coalesce(failed_at, '-infinity') < :recent)
         delete from sign_in where expires_at <= :now";
        now: Timestamptz = Db(now),
        known: Timestamptz = Db(now - KNOWN_FOR),
        recent: Timestamptz = Db(now - RECENT),
    )
    .execute(connection)
    .await?)
}

/// Stores a one-time link of a person, in the place of earlier ones.
pub async fn add_link(
    connection: &mut Connection,
    person: PersonId,
    hash: &[u8],
    at: Moment,
    until: Moment,
    resets: bool,
) -> Result<()> {
    sql!(
        "with earlier as (delete from sign_in_link where person_id = :person)
         insert into sign_in_link (secret_hash, person_id, created_at, expires_at, resets)
         values (:hash, :person, :at, :until, :resets)";
        person: SqlUuid = Db(person),
        hash: Bytea = hash,
        at: Timestamptz = Db(at),
        until: Timestamptz = Db(until),
        resets: Bool = resets,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A one-time link that is valid.
#[derive(Clone, Debug, QueryableByName)]
pub struct Link {
    #[diesel(embed)]
    pub person: Person,
    #[diesel(sql_type = Timestamptz)]
    pub expires_at: Db<Moment>,
    /// Whether it removes the second factor.
    #[diesel(sql_type = Bool)]
    pub resets: bool,
}

/// The link with this secret, if it is valid.
pub async fn link(connection: &mut Connection, hash: &[u8], now: Moment) -> Result<Option<Link>> {
    Ok(sql!(
        "select l.expires_at, l.resets, " person_columns!() " from sign_in_link l join person q on q.id = l.person_id
         where l.secret_hash = :hash and l.expires_at > :now and q.disabled_at is null";
        hash: Bytea = hash,
        now: Timestamptz = Db(now),
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Uses a link up. False where another request has done so.
pub async fn use_link(connection: &mut Connection, hash: &[u8]) -> Result<bool> {
    let used = sql!("delete from sign_in_link where secret_hash = :hash"; hash: Bytea = hash)
        .execute(connection)
        .await?;
    Ok(used == 1)
}

/// Returns how sign-ins under a name went, for an address.
pub async fn history(
    connection: &mut Connection,
    name: &str,
    network: &str,
    now: Moment,
) -> Result<SignInHistory> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        own: i64,
        #[diesel(sql_type = Nullable<Timestamptz>)]
        own_last: Option<Db<Moment>>,
        #[diesel(sql_type = Bool)]
        is_known: bool,
        #[diesel(sql_type = BigInt)]
        all: i64,
        #[diesel(sql_type = Nullable<Timestamptz>)]
        all_last: Option<Db<Moment>>,
    }
    let row: Row = sql!(
        r#"select coalesce(sum(failures) filter (where network = :network), 0) as own,
                  max(failed_at) filter (where network = :network) as own_last,
                  coalesce(bool_or(network = :network and succeeded_at > :known), false) as is_known,
                  coalesce(sum(failures) filter (where failed_at > :recent), 0) as "all",
                  max(failed_at) as all_last
           from sign_in_address where name = :name"#;
        network: Text = network,
        known: Timestamptz = Db(now - KNOWN_FOR),
        recent: Timestamptz = Db(now - RECENT),
        name: Text = name,
    )
    .get_result(connection)
    .await?;
    let failures = |count: i64, last: Option<Db<Moment>>| Failures {
        count: u32::try_from(count).unwrap_or(u32::MAX),
        last: last.map(|at| at.0),
    };
    Ok(SignInHistory {
        own: failures(row.own, row.own_last),
        is_known: row.is_known,
        all: failures(row.all, row.all_last),
    })
}

/// Counts a failed sign-in under a name from an address. Failures older than an hour no longer count.
pub async fn note_failure(
    connection: &mut Connection,
    name: &str,
    network: &str,
    now: Moment,
) -> Result<()> {
    sql!(
        "insert into sign_in_address as known (name, network, failures, failed_at) values (:name, :network, 1, :now)
         on conflict (name, network) do update
         set failures = case when known.failed_at > :recent then least(known.failures, 1000000) + 1 else 1 end, failed_at = :now";
        name: Text = name,
        network: Text = network,
        now: Timestamptz = Db(now),
        recent: Timestamptz = Db(now - RECENT),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Notes a success: the failures of the address are forgotten, and the address is known for the name.
pub async fn note_success(
    connection: &mut Connection,
    person: PersonId,
    name: &str,
    network: &str,
    now: Moment,
) -> Result<()> {
    sql!(
        "with dated as (update person set signed_in_at = :now where id = :person)
         insert into sign_in_address as known (name, network, succeeded_at) values (:name, :network, :now)
         on conflict (name, network) do update set failures = 0, failed_at = null, succeeded_at = :now";
        person: SqlUuid = Db(person),
        name: Text = name,
        network: Text = network,
        now: Timestamptz = Db(now),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A name under which many sign-ins have failed.
#[derive(Clone, Debug, QueryableByName)]
pub struct Guessed {
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = BigInt)]
    pub failures: i64,
    #[diesel(sql_type = BigInt)]
    pub addresses: i64,
}

/// The people under whose names at least `many` sign-ins have failed in the last hour.
pub async fn guessed(connection: &mut Connection, many: u32, now: Moment) -> Result<Vec<Guessed>> {
    Ok(sql!(
        "select a.name, sum(a.failures)::bigint as failures, count(*) as addresses
         from sign_in_address a join person q on q.name = a.name
         where a.failed_at > :recent group by a.name having sum(a.failures) >= :many order by 2 desc limit 50";
        recent: Timestamptz = Db(now - RECENT),
        many: BigInt = i64::from(many),
    )
    .load(connection)
    .await?)
}
