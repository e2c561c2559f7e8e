//! Statements written as SQL that are prepared once per connection.
//!
//! Diesel's own `sql_query` is prepared anew at every use, which costs a round trip. A [`Statement`]'s text is fixed
//! at compile time, so it may be cached like any other query. Its placeholders are `$1`, `$2`, … each once and in
//! order; rows are read by name.
//!
//! All statements are of one type, whatever their values and rows: Diesel's machinery is compiled once for them, not
//! once for each.

use crate::connect::Connection;
use diesel::QueryableByName;
use diesel::pg::Pg;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::result::{Error, QueryResult};
use diesel::serialize::ToSql;
use diesel::sql_types::{HasSqlType, Untyped};
use diesel_async::AsyncConnectionCore;
use futures::future::BoxFuture;
use futures::{FutureExt, TryStreamExt};
use std::marker::PhantomData;

type Row = <Connection as AsyncConnectionCore>::Row<'static, 'static>;

/// A fixed SQL text with its values.
pub struct Statement<'v> {
    text: &'static str,
    values: Vec<Box<dyn Value + 'v>>,
}

/// A statement with this text and no values yet.
pub fn statement(text: &'static str) -> Statement<'static> {
    Statement {
        text,
        values: Vec::new(),
    }
}

/// A value that knows its SQL type.
trait Value: Send {
    fn write<'b>(&'b self, out: &mut AstPass<'_, 'b, Pg>) -> QueryResult<()>;
}

struct Typed<ST, V> {
    value: V,
    kind: PhantomData<fn() -> ST>,
}

impl<ST, V> Value for Typed<ST, V>
where
    V: ToSql<ST, Pg> + Send,
    Pg: HasSqlType<ST>,
{
    fn write<'b>(&'b self, out: &mut AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        out.push_bind_param::<ST, V>(&self.value)
    }
}

impl<'v> Statement<'v> {
    /// The value of the next placeholder, as this SQL type.
    pub fn bind<'w, ST, V>(self, value: V) -> Statement<'w>
    where
        'v: 'w,
        ST: 'w,
        V: ToSql<ST, Pg> + Send + 'w,
        Pg: HasSqlType<ST>,
    {
        let mut values: Vec<Box<dyn Value + 'w>> = self.values;
        let kind = PhantomData;
        values.push(Box::new(Typed::<ST, V> { value, kind }));
        Statement {
            text: self.text,
            values,
        }
    }

    /// Runs it; how many rows it changed.
    pub fn execute<'c>(self, connection: &'c mut Connection) -> BoxFuture<'c, QueryResult<usize>>
    where
        'v: 'c,
    {
        connection.execute_returning_count(self)
    }

    /// Runs it; the rows that come back.
    pub fn load<'c, R>(
        self,
        connection: &'c mut Connection,
    ) -> impl Future<Output = QueryResult<Vec<R>>> + Send + use<'c, R>
    where
        'v: 'c,
        R: QueryableByName<Pg>,
    {
        let rows = self.rows(connection);
        async move { rows.await?.iter().map(read).collect() }
    }

    /// Runs it; the first row that comes back, or [`Error::NotFound`].
    pub fn get_result<'c, R>(
        self,
        connection: &'c mut Connection,
    ) -> impl Future<Output = QueryResult<R>> + Send + use<'c, R>
    where
        'v: 'c,
        R: QueryableByName<Pg>,
    {
        let rows = self.rows(connection);
        async move { rows.await?.first().map(read).ok_or(Error::NotFound)? }
    }

    fn rows<'c>(self, connection: &'c mut Connection) -> BoxFuture<'c, QueryResult<Vec<Row>>>
    where
        'v: 'c,
    {
        let asked = AsyncConnectionCore::load(connection, self);
        async move { asked.await?.try_collect().await }.boxed()
    }
}

fn read<R: QueryableByName<Pg>>(row: &Row) -> QueryResult<R> {
    R::build(row).map_err(Error::DeserializationError)
}

/// The text before the first placeholder, which has to be this one, and the text after it.
fn up_to(text: &'static str, placeholder: usize) -> QueryResult<(&'static str, &'static str)> {
    let (before, rest) = text.split_once('$').unwrap_or((text, ""));
    let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
    let (number, rest) = rest.split_at_checked(digits).unwrap_or((rest, ""));
    if number.parse() != Ok(placeholder) {
        let message = format!("placeholder ${placeholder} is not where it should be in: {text}");
        return Err(Error::QueryBuilderError(message.into()));
    }
    Ok((before, rest))
}

impl QueryFragment<Pg> for Statement<'_> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        let mut text = self.text;
        for (value, placeholder) in self.values.iter().zip(1..) {
            let (before, rest) = up_to(text, placeholder)?;
            out.push_sql(before);
            value.write(&mut out)?;
            text = rest;
        }
        out.push_sql(text);
        Ok(())
    }
}

impl QueryId for Statement<'_> {
    type QueryId = ();
    const HAS_STATIC_QUERY_ID: bool = false;
}

impl Query for Statement<'_> {
    type SqlType = Untyped;
}
