//! Statements written as SQL that are prepared once per connection.
//!
//! Diesel's own `sql_query` is prepared anew at every use, which costs a round trip. A [`Statement`]'s text is fixed
//! at compile time, so it may be cached like any other query. Its placeholders are `$1`, `$2`, … each once and in
//! order; rows are read by name.

use diesel::pg::Pg;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::result::QueryResult;
use diesel::serialize::ToSql;
use diesel::sql_types::{HasSqlType, Untyped};
use std::marker::PhantomData;

/// A fixed SQL text with its values.
pub struct Statement<B> {
    text: &'static str,
    binds: B,
}

/// A statement with this text and no values yet.
pub fn statement(text: &'static str) -> Statement<()> {
    Statement { text, binds: () }
}

/// One value of a statement, after those before it.
pub struct Bound<B, ST, V> {
    before: B,
    value: V,
    kind: PhantomData<fn() -> ST>,
}

impl<B> Statement<B> {
    /// The value of the next placeholder, as this SQL type.
    pub fn bind<ST, V>(self, value: V) -> Statement<Bound<B, ST, V>> {
        Statement {
            text: self.text,
            binds: Bound {
                before: self.binds,
                value,
                kind: PhantomData,
            },
        }
    }
}

/// A chain of values, each written at its placeholder.
pub trait Binds {
    /// How many values there are.
    const COUNT: usize;
    /// Writes the text up to and including the last placeholder; what is left of the text comes back.
    fn write<'b>(
        &'b self,
        text: &'static str,
        out: &mut AstPass<'_, 'b, Pg>,
    ) -> QueryResult<&'static str>;
}

impl Binds for () {
    const COUNT: usize = 0;
    fn write<'b>(
        &'b self,
        text: &'static str,
        _: &mut AstPass<'_, 'b, Pg>,
    ) -> QueryResult<&'static str> {
        Ok(text)
    }
}

impl<B, ST, V> Binds for Bound<B, ST, V>
where
    B: Binds,
    V: ToSql<ST, Pg>,
    Pg: HasSqlType<ST>,
{
    const COUNT: usize = B::COUNT + 1;

    fn write<'b>(
        &'b self,
        text: &'static str,
        out: &mut AstPass<'_, 'b, Pg>,
    ) -> QueryResult<&'static str> {
        let text = self.before.write(text, out)?;
        let (sql, rest) = text.split_once('$').unwrap_or((text, ""));
        let digits = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_digit()).len();
        let (number, rest) = rest.split_at_checked(digits).unwrap_or((rest, ""));
        if number.parse() != Ok(Self::COUNT) {
            let message = format!(
                "placeholder ${} is not where it should be in: {text}",
                Self::COUNT
            );
            return Err(diesel::result::Error::QueryBuilderError(message.into()));
        }
        out.push_sql(sql);
        out.push_bind_param::<ST, V>(&self.value)?;
        Ok(rest)
    }
}

impl<B: Binds> QueryFragment<Pg> for Statement<B> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        let rest = self.binds.write(self.text, &mut out)?;
        out.push_sql(rest);
        Ok(())
    }
}

impl<B> QueryId for Statement<B> {
    type QueryId = ();
    const HAS_STATIC_QUERY_ID: bool = false;
}

impl<B> Query for Statement<B> {
    type SqlType = Untyped;
}
