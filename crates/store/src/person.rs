//! People: their accounts, and the roles that they have at places.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, words};
use diesel::OptionalExtension;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::access::{Grant, Role};
use pennine_core::id::{PersonId, PlaceId};
use pennine_core::time::Moment;

/// An account.
#[derive(Clone, Debug, QueryableByName)]
pub struct Person {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<PersonId>,
    /// What the person signs in with, in lower case.
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub full_name: String,
    /// The argon2id hash of the password, as a PHC string; none until one is set.
    #[diesel(sql_type = Nullable<Text>)]
    pub password_hash: Option<String>,
    /// The secret of the second factor, encrypted, also before it is confirmed.
    #[diesel(sql_type = Nullable<Text>)]
    pub totp_secret: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub totp_confirmed_at: Option<Db<Moment>>,
    #[diesel(sql_type = BigInt)]
    pub recovery_codes: i64,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub signed_in_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub disabled_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub disabled_by: Option<String>,
    /// Who the person is at the OpenID provider.
    #[diesel(sql_type = Nullable<Text>)]
    pub subject: Option<String>,
    /// The person's groups there, as of the last sign-in.
    #[diesel(sql_type = Array<Text>)]
    pub groups: Vec<String>,
    /// The roles that were granted to the person alone, and their places.
    #[diesel(sql_type = Array<Text>)]
    pub own_roles: Vec<Db<Role>>,
    #[diesel(sql_type = Array<Text>)]
    pub own_places: Vec<String>,
    /// All roles, also those of the groups.
    #[diesel(embed)]
    pub granted: Granted,
}

/// The roles of a person, with the place of each.
#[derive(Clone, Debug, Default, QueryableByName)]
pub struct Granted {
    #[diesel(sql_type = Array<Text>)]
    pub roles: Vec<Db<Role>>,
    #[diesel(sql_type = Array<Text>)]
    pub places: Vec<String>,
}

impl Granted {
    /// The grants, by place.
    pub fn grants(&self) -> Vec<Grant> {
        paired(&self.roles, &self.places)
    }
}

fn paired(roles: &[Db<Role>], places: &[String]) -> Vec<Grant> {
    let pairs = roles.iter().zip(places);
    pairs
        .map(|(role, place)| Grant {
            role: role.0,
            place: place.clone(),
        })
        .collect()
}

impl Person {
    /// The grants to the person alone, by place.
    pub fn own_grants(&self) -> Vec<Grant> {
        paired(&self.own_roles, &self.own_places)
    }

    /// Whether signing in takes a second factor.
    pub fn has_second_factor(&self) -> bool {
        self.totp_confirmed_at.is_some() && self.totp_secret.is_some()
    }
}

/// The columns of [`Granted`], of people whose id is in this column: their own roles, and those of their groups.
macro_rules! granted_columns {
    ($id:literal) => {
        concat!(
            $crate::person::granted_column!($id, "role"),
            " as roles, ",
            $crate::person::granted_column!($id, "path"),
            " as places"
        )
    };
}
/// One column of the roles of the person with this id.
macro_rules! granted_column {
    ($id:literal, $column:literal) => {
        concat!(
            "array(select given.", $column, " from (
               select gp.path, g.role from person_grant g join place gp on gp.id = g.place_id where g.person_id = ", $id, "
               union
               select gp.path, g.role from group_grant g join place gp on gp.id = g.place_id
               join person member on member.id = ", $id, " where g.name = any(member.groups)) given
             order by given.path, given.role)"
        )
    };
}
pub(crate) use {granted_column, granted_columns};

/// The columns of a [`Person`], of people that are called `q`.
macro_rules! person_columns {
    () => {
        concat!(
            "q.id, q.name, q.full_name, q.password_hash, q.totp_secret, q.totp_confirmed_at, q.created_at, q.created_by,
             q.signed_in_at, q.disabled_at, q.disabled_by, q.subject, q.groups,
             array(select g.role from person_grant g join place gp on gp.id = g.place_id where g.person_id = q.id order by gp.path)
               as own_roles,
             array(select gp.path from person_grant g join place gp on gp.id = g.place_id where g.person_id = q.id order by gp.path)
               as own_places,
             (select count(*) from recovery_code r where r.person_id = q.id) as recovery_codes, ",
            $crate::person::granted_columns!("q.id")
        )
    };
}
pub(crate) use person_columns;

/// What to make an account from.
#[derive(Clone, Debug)]
pub struct NewPerson {
    pub id: PersonId,
    pub name: String,
    pub full_name: String,
    pub at: Moment,
    pub by: String,
}

/// Adds an account without a password.
///
/// # Errors
/// `Duplicate` where the name is taken.
pub async fn insert(connection: &mut Connection, new: NewPerson) -> Result<()> {
    sql!(
        "insert into person (id, name, full_name, created_at, created_by) values (:id, :name, :full_name, :at, :by)";
        id: SqlUuid = Db(new.id),
        name: Text = new.name,
        full_name: Text = new.full_name,
        at: Timestamptz = Db(new.at),
        by: Text = new.by,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Whether there is any account.
pub async fn any(connection: &mut Connection) -> Result<bool> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Bool)]
        found: bool,
    }
    let row: Row = sql!("select exists (select from person) as found")
        .get_result(connection)
        .await?;
    Ok(row.found)
}

/// Returns the account with this name.
pub async fn find(connection: &mut Connection, name: &str) -> Result<Option<Person>> {
    Ok(sql!(
        "select " person_columns!() " from person q where q.name = :name";
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Returns the account with this name and locks it, so that changes of one account happen one after another.
pub async fn lock(connection: &mut Connection, name: &str) -> Result<Option<Person>> {
    Ok(sql!(
        "select " person_columns!() " from person q where q.name = :name for no key update of q";
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Returns the accounts by name.
pub async fn list(connection: &mut Connection, limit: i64) -> Result<Vec<Person>> {
    Ok(sql!(
        "select " person_columns!() " from person q order by q.name limit :limit";
        limit: BigInt = limit,
    )
    .load(connection)
    .await?)
}

/// Gives a person a role at a place, in the place of the one that the person had there.
pub async fn grant(
    connection: &mut Connection,
    person: PersonId,
    place: PlaceId,
    role: Role,
    at: Moment,
    by: &str,
) -> Result<()> {
    sql!(
        "insert into person_grant (person_id, place_id, role, granted_at, granted_by) values (:person, :place, :role, :at, :by)
         on conflict (person_id, place_id) do update
         set role = excluded.role, granted_at = excluded.granted_at, granted_by = excluded.granted_by";
        person: SqlUuid = Db(person),
        place: SqlUuid = Db(place),
        role: Text = Db(role),
        at: Timestamptz = Db(at),
        by: Text = by,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// The names of people with one of these roles at a place, those whose role is granted nearest to it first. Disabled accounts are
/// left out.
pub async fn with_role_at(
    connection: &mut Connection,
    roles: &[Role],
    path: &str,
    limit: i64,
) -> Result<Vec<String>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = Text)]
        name: String,
    }
    let rows: Vec<Row> = sql!(
        "select p.name from person p join person_grant g on g.person_id = p.id join place l on l.id = g.place_id
         where p.disabled_at is null and g.role = any(:roles) and (l.path in ('', :path) or starts_with(:path, l.path || '/'))
         group by p.name order by max(length(l.path)) desc, p.name limit :limit";
        roles: Array<Text> = words(roles),
        path: Text = path,
        limit: BigInt = limit,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.name).collect())
}

/// Takes the role of a person at a place away. False where there was none.
pub async fn revoke(connection: &mut Connection, person: PersonId, place: PlaceId) -> Result<bool> {
    let revoked = sql!(
        "delete from person_grant where person_id = :person and place_id = :place";
        person: SqlUuid = Db(person),
        place: SqlUuid = Db(place),
    )
    .execute(connection)
    .await?;
    Ok(revoked == 1)
}

/// Sets a person's name for others.
pub async fn rename(connection: &mut Connection, person: PersonId, full_name: &str) -> Result<()> {
    sql!(
        "update person set full_name = :full_name where id = :person";
        full_name: Text = full_name,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Disables an account, which ends its sign-ins and makes its links invalid, or enables it again.
pub async fn set_disabled(
    connection: &mut Connection,
    person: PersonId,
    disabled: Option<(Moment, &str)>,
) -> Result<()> {
    sql!(
        "with sessions as (delete from sign_in where person_id = :person and :is_disabled),
              links as (delete from sign_in_link where person_id = :person and :is_disabled)
         update person set disabled_at = :at, disabled_by = :by where id = :person";
        person: SqlUuid = Db(person),
        is_disabled: Bool = disabled.is_some(),
        at: Nullable<Timestamptz> = disabled.map(|(at, _)| Db(at)),
        by: Nullable<Text> = disabled.map(|(_, by)| by),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Sets a person's password.
pub async fn set_password(connection: &mut Connection, person: PersonId, hash: &str) -> Result<()> {
    sql!(
        "update person set password_hash = :hash where id = :person";
        hash: Text = hash,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Stores the encrypted secret of a second factor that is not confirmed yet.
pub async fn begin_second_factor(
    connection: &mut Connection,
    person: PersonId,
    secret: &str,
) -> Result<()> {
    sql!(
        "update person set totp_secret = :secret, totp_confirmed_at = null, totp_step = 0 where id = :person";
        secret: Text = secret,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Turns the second factor on, with these hashes of recovery codes.
pub async fn confirm_second_factor(
    connection: &mut Connection,
    person: PersonId,
    codes: &[Vec<u8>],
    at: Moment,
) -> Result<()> {
    sql!(
        "update person set totp_confirmed_at = :at where id = :person";
        at: Timestamptz = Db(at),
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    replace_recovery_codes(connection, person, codes).await
}

/// Replaces the recovery codes of a person.
pub async fn replace_recovery_codes(
    connection: &mut Connection,
    person: PersonId,
    codes: &[Vec<u8>],
) -> Result<()> {
    sql!(
        "with old as (delete from recovery_code where person_id = :person and not code_hash = any(:codes))
         insert into recovery_code (person_id, code_hash) select :person, unnest(:codes) on conflict do nothing";
        person: SqlUuid = Db(person),
        codes: Array<diesel::sql_types::Bytea> = codes,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Turns the second factor off.
pub async fn remove_second_factor(connection: &mut Connection, person: PersonId) -> Result<()> {
    sql!(
        "with codes as (delete from recovery_code where person_id = :person)
         update person set totp_secret = null, totp_confirmed_at = null, totp_step = 0 where id = :person";
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Accepts the code of a time step. False where a code of that step or a later one was accepted before.
pub async fn use_step(connection: &mut Connection, person: PersonId, step: i64) -> Result<bool> {
    let used = sql!(
        "update person set totp_step = :step where id = :person and totp_step < :step";
        step: BigInt = step,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(used == 1)
}

/// Accepts a recovery code. False where it is unknown or was used before.
pub async fn use_recovery_code(
    connection: &mut Connection,
    person: PersonId,
    hash: &[u8],
) -> Result<bool> {
    let used = sql!(
        "delete from recovery_code where person_id = :person and code_hash = :hash";
        person: SqlUuid = Db(person),
        hash: diesel::sql_types::Bytea = hash,
    )
    .execute(connection)
    .await?;
    Ok(used == 1)
}

/// Returns the account of the person whom the OpenID provider calls so, and locks it.
pub async fn lock_subject(connection: &mut Connection, subject: &str) -> Result<Option<Person>> {
    Ok(sql!(
        "select " person_columns!() " from person q where q.subject = :subject for no key update of q";
        subject: Text = subject,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Sets who a person is at the OpenID provider.
///
/// # Errors
/// `Duplicate` where another account is this person's.
pub async fn set_subject(
    connection: &mut Connection,
    person: PersonId,
    subject: Option<&str>,
) -> Result<()> {
    sql!(
        "update person set subject = :subject where id = :person";
        subject: Nullable<Text> = subject,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Sets a person's groups, and the name for others.
pub async fn set_groups(
    connection: &mut Connection,
    person: PersonId,
    groups: &[String],
    full_name: &str,
) -> Result<()> {
    sql!(
        "update person set groups = :groups, full_name = :full_name where id = :person";
        groups: Array<Text> = groups,
        full_name: Text = full_name,
        person: SqlUuid = Db(person),
    )
    .execute(connection)
    .await?;
    Ok(())
}
