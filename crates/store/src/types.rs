//! How the core's types are stored.

use diesel::deserialize::{self, FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::pg::data_types::PgTimestamp;
use diesel::pg::{Pg, PgValue};
use diesel::serialize::{self, IsNull, Output, ToSql};
use diesel::sql_types::{BigInt, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use pennine_core::time::{Micros, Moment};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fmt;
use std::io::Write;
use std::ops::Deref;
use std::str::FromStr;
use uuid::Uuid;

/// One of the core's types in a column: ids as `uuid`, moments as `timestamptz`, words as `text`, lengths of time as
/// `bigint` microseconds.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, FromSqlRow, AsExpression)]
#[diesel(sql_type = SqlUuid)]
#[diesel(sql_type = Timestamptz)]
#[diesel(sql_type = Text)]
#[diesel(sql_type = BigInt)]
pub struct Db<T>(pub T);

impl<T> Deref for Db<T> {
    type Target = T;
    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: From<Uuid>> FromSql<SqlUuid, Pg> for Db<T> {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        <Uuid as FromSql<SqlUuid, Pg>>::from_sql(value).map(|id| Db(T::from(id)))
    }
}

impl<T: Copy + Into<Uuid> + fmt::Debug> ToSql<SqlUuid, Pg> for Db<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        let id: Uuid = self.0.into();
        out.write_all(id.as_bytes())?;
        Ok(IsNull::No)
    }
}

/// Microseconds from the start of 1970 to the start of 2000, from which PostgreSQL counts.
const EPOCH_2000: i64 = 946_684_800_000_000;

impl FromSql<Timestamptz, Pg> for Db<Moment> {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        let PgTimestamp(micros) = FromSql::<Timestamptz, Pg>::from_sql(value)?;
        Ok(Db(Moment::from_micros(micros.saturating_add(EPOCH_2000))))
    }
}

impl ToSql<Timestamptz, Pg> for Db<Moment> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        out.write_all(&self.0.micros().saturating_sub(EPOCH_2000).to_be_bytes())?;
        Ok(IsNull::No)
    }
}

impl<T: FromStr<Err = String>> FromSql<Text, Pg> for Db<T> {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        let text = <String as FromSql<Text, Pg>>::from_sql(value)?;
        Ok(Db(text.parse::<T>()?))
    }
}

impl<T: fmt::Display + fmt::Debug> ToSql<Text, Pg> for Db<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        write!(out, "{}", self.0)?;
        Ok(IsNull::No)
    }
}

impl FromSql<BigInt, Pg> for Db<Micros> {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        let micros = <i64 as FromSql<BigInt, Pg>>::from_sql(value)?;
        Ok(Db(Micros(micros.max(0).unsigned_abs())))
    }
}

impl ToSql<BigInt, Pg> for Db<Micros> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        out.write_all(&i64::try_from(self.0.0).unwrap_or(i64::MAX).to_be_bytes())?;
        Ok(IsNull::No)
    }
}

/// A value kept as `jsonb`.
#[derive(Clone, PartialEq, Debug, FromSqlRow, AsExpression)]
#[diesel(sql_type = Jsonb)]
pub struct Json<T>(pub T);

impl<T: DeserializeOwned> FromSql<Jsonb, Pg> for Json<T> {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        // The first byte is jsonb's format version.
        match value.as_bytes() {
            [1, text @ ..] => Ok(Json(serde_json::from_slice(text)?)),
            _ => Err("this version of jsonb is not known".into()),
        }
    }
}

impl<T: Serialize + fmt::Debug> ToSql<Jsonb, Pg> for Json<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        // The first byte is jsonb's format version.
        out.write_all(&[1])?;
        serde_json::to_writer(out, &self.0)?;
        Ok(IsNull::No)
    }
}

/// The text of a `jsonb` value, not parsed yet.
#[derive(Clone, PartialEq, Debug, FromSqlRow)]
pub struct RawJson(pub Vec<u8>);

impl FromSql<Jsonb, Pg> for RawJson {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        // The first byte is jsonb's format version.
        match value.as_bytes() {
            [1, text @ ..] => Ok(RawJson(text.to_vec())),
            _ => Err("this version of jsonb is not known".into()),
        }
    }
}

/// Words for an `= any($1)` guard.
pub fn words<T: fmt::Display>(values: &[T]) -> Vec<String> {
    values.iter().map(ToString::to_string).collect()
}
