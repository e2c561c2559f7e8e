//! SQL statements with named parameters, checked when they are compiled and prepared once per connection.
//!
//! [`sql!`] takes the text, with parameters as `:name`, and a typed value for each name. Every name of the text needs a
//! value and every value a place in the text: a difference does not compile. A name may stand in the text any number of
//! times and is bound once. `change` clauses (see [`crate::change`]) may stand between pieces of text.
//!
//! In tests every statement registers itself; one test prepares all of them against the migrated schema, with the types
//! of their parameters.
//!
//! Diesel's own `sql_query` is prepared again at every use, which costs a round trip. A [`Statement`]'s text is fixed at
//! compile time, so it is cached like any other query. All statements are of one type, whatever their values and rows:
//! Diesel's machinery is compiled once for them, not once for each.

use crate::connect::Connection;
use diesel::QueryableByName;
use diesel::pg::Pg;
use diesel::query_builder::{AstPass, Query, QueryFragment, QueryId};
use diesel::result::{Error, QueryResult};
use diesel::serialize::ToSql;
use diesel::sql_types::{
    Array, BigInt, Binary, Bool, Double, HasSqlType, Integer, Jsonb, Nullable, SmallInt, Text,
    Timestamptz, Untyped, Uuid as SqlUuid,
};
use diesel_async::AsyncConnectionCore;
use futures::future::BoxFuture;
use futures::{FutureExt, TryStreamExt};
use std::marker::PhantomData;
use std::sync::OnceLock;

type Row = <Connection as AsyncConnectionCore>::Row<'static, 'static>;

/// Makes a [`Statement`]: text, then `;`, then the value of each parameter as `name: SqlType = value`.
///
/// ```ignore
/// sql!(
///     "update pool set name = :name where id = :id and name <> :name";
///     name: Text = name,
///     id: SqlUuid = Db(id),
/// )
/// ```
///
/// The text is a literal, or several pieces: literals, macros that expand to literals, and `change` clauses, which write
/// a change to the feed from the rows of a common table expression:
///
/// ```ignore
/// sql!(
///     "with p as (update pool … returning id, name)"
///     change PoolChanged { pool: "id" } at ":at" from "p";
///     …
/// )
/// ```
macro_rules! sql {
    // A change: the first field is the subject, the others are the body.
    (@text [$($done:tt)*] [$($checks:tt)*]
        change $variant:ident { $subject:ident: $id:literal $(, $field:ident: $value:literal)* $(,)? }
        at $at:literal from $from:literal $($rest:tt)*
    ) => {
        $crate::statement::sql!(@text
            [$($done)*
                " insert into outbox (at, kind, subject, body) select ", $at, ", '",
                $crate::change::kind_of!($variant), "', ", $id, ", jsonb_build_object(",
                $crate::statement::fields!($($field: $value),*), ") from ", $from,
            ]
            [$($checks)* {
                // Names a field that the change does not have, or leaves one out: does not compile.
                fn _fields_of(change: &$crate::change::Change) -> bool {
                    matches!(change, $crate::change::Change::$variant { $subject: _, $($field: _),* })
                }
            }]
            $($rest)*)
    };
    (@text [$($done:tt)*] [$($checks:tt)*] $piece:literal $($rest:tt)*) => {
        $crate::statement::sql!(@text [$($done)* $piece,] [$($checks)*] $($rest)*)
    };
    (@text [$($done:tt)*] [$($checks:tt)*] $piece:ident ! ($($inner:tt)*) $($rest:tt)*) => {
        $crate::statement::sql!(@text [$($done)* $piece!($($inner)*),] [$($checks)*] $($rest)*)
    };
    (@text [$($done:tt)*] [$($checks:tt)*] $(; $($name:ident: $kind:ty = $value:expr),* $(,)?)?) => {{
        $(const _: () = $checks;)*
        const TEXT: &str = concat!($($done)*);
        const NAMES: &[&str] = &[$($(stringify!($name)),*)?];
        const _: () = $crate::statement::check_names(TEXT, NAMES);
        static SQL: $crate::statement::Sql = $crate::statement::Sql::new(
            TEXT,
            NAMES,
            &[$($(<$kind as $crate::statement::ParameterType>::OID),*)?],
            concat!(file!(), ":", line!()),
        );
        #[cfg(test)]
        #[allow(unsafe_code, reason = "a static in a linker section, made by linkme")]
        const _: () = {
            #[linkme::distributed_slice($crate::statement::registry::STATEMENTS)]
            static ENTRY: &$crate::statement::Sql = &SQL;
        };
        $crate::statement::Statement::new(&SQL)$($(.bind::<$kind, _>($value))*)?
    }};
    ($($text:tt)*) => { $crate::statement::sql!(@text [] [] $($text)*) };
}

/// The arguments of `jsonb_build_object` for the fields of a change.
macro_rules! fields {
    () => { "" };
    ($field:ident: $value:literal) => { concat!("'", stringify!($field), "', ", $value) };
    ($field:ident: $value:literal, $($rest:tt)+) => {
        concat!("'", stringify!($field), "', ", $value, ", ", $crate::statement::fields!($($rest)+))
    };
}

pub(crate) use {fields, sql};

/// What the test of all statements reads.
#[cfg(test)]
#[allow(unsafe_code, reason = "a static in a linker section, made by linkme")]
pub(crate) mod registry {
    /// Every statement that [`super::sql!`] makes.
    #[linkme::distributed_slice]
    pub(crate) static STATEMENTS: [&'static super::Sql];
}

/// The text of a statement with the names and types of its parameters.
pub struct Sql {
    text: &'static str,
    names: &'static [&'static str],
    types: &'static [u32],
    place: &'static str,
    pieces: OnceLock<Vec<Piece>>,
}

/// A part of a parsed statement.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Piece {
    Text(&'static str),
    /// The parameter with this place in the list of names.
    Parameter(usize),
}

impl Sql {
    /// Returns a statement whose names were checked with [`check_names`].
    pub const fn new(
        text: &'static str,
        names: &'static [&'static str],
        types: &'static [u32],
        place: &'static str,
    ) -> Sql {
        Sql {
            text,
            names,
            types,
            place,
            pieces: OnceLock::new(),
        }
    }

    /// Returns the text as PostgreSQL gets it, and the types of `$1`, `$2`, … in order (`pg_type.oid`).
    pub fn prepared(&self) -> (String, Vec<u32>) {
        let (mut text, mut order) = (String::new(), Vec::new());
        for piece in self.pieces() {
            match *piece {
                Piece::Text(part) => text.push_str(part),
                Piece::Parameter(index) => {
                    let known = order.iter().position(|one| *one == index);
                    let number = known.unwrap_or_else(|| {
                        order.push(index);
                        order.len() - 1
                    });
                    text.push_str(&format!("${}", number + 1));
                }
            }
        }
        let types = order.iter().filter_map(|index| self.types.get(*index));
        (text, types.copied().collect())
    }

    /// Returns the file and line of the statement.
    pub fn place(&self) -> &'static str {
        self.place
    }

    fn pieces(&self) -> &[Piece] {
        self.pieces.get_or_init(|| {
            let mut pieces = Vec::new();
            let mut from = 0;
            while let Some((start, end)) = next_parameter(self.text.as_bytes(), from) {
                pieces.extend(self.text.get(from..start - 1).map(Piece::Text));
                let name = self.text.get(start..end);
                let index = self.names.iter().position(|known| Some(*known) == name);
                pieces.extend(index.map(Piece::Parameter));
                from = end;
            }
            pieces.extend(self.text.get(from..).map(Piece::Text));
            pieces
        })
    }
}

/// Stops the compilation where a name of the text has no value, a value no place in the text, or two values one name.
#[expect(
    clippy::indexing_slicing,
    reason = "a const fn cannot use get; every index is compared with a length"
)]
pub const fn check_names(text: &str, names: &[&str]) {
    let text = text.as_bytes();
    let mut from = 0;
    while let Some((start, end)) = next_parameter(text, from) {
        let mut index = 0;
        while index < names.len() && !same(text, start, end, names, index) {
            index += 1;
        }
        assert!(
            index < names.len(),
            "a parameter of this statement has no value"
        );
        from = end;
    }
    let mut index = 0;
    while index < names.len() {
        let (mut from, mut used) = (0, false);
        while let Some((start, end)) = next_parameter(text, from) {
            used = used || same(text, start, end, names, index);
            from = end;
        }
        assert!(used, "a value of this statement has no place in its text");
        let mut other = 0;
        while other < index {
            let name = names[index].as_bytes();
            assert!(
                !same(name, 0, name.len(), names, other),
                "two values of this statement have the same name"
            );
            other += 1;
        }
        index += 1;
    }
}

/// Whether this part of the text is the name with this index.
#[expect(
    clippy::indexing_slicing,
    reason = "a const fn cannot use get; every index is compared with a length"
)]
const fn same(text: &[u8], start: usize, end: usize, names: &[&str], index: usize) -> bool {
    let name = names[index].as_bytes();
    if name.len() != end - start {
        return false;
    }
    let mut at = 0;
    while at < name.len() {
        if name[at] != text[start + at] {
            return false;
        }
        at += 1;
    }
    true
}

/// Where the next parameter's name starts and ends, from this place on. Colons of casts (`::`), in literals, in quoted
/// names and in comments start no parameter.
#[expect(
    clippy::indexing_slicing,
    reason = "a const fn cannot use get; every index is compared with a length"
)]
const fn next_parameter(text: &[u8], from: usize) -> Option<(usize, usize)> {
    let mut at = from;
    while at < text.len() {
        let next = if at + 1 < text.len() { text[at + 1] } else { 0 };
        match (text[at], next) {
            (quote @ (b'\'' | b'"'), _) => {
                at += 1;
                while at < text.len() && text[at] != quote {
                    at += 1;
                }
                at += 1;
            }
            (b'-', b'-') => {
                while at < text.len() && text[at] != b'\n' {
                    at += 1;
                }
            }
            (b':', b':') => at += 2,
            (b':', b'a'..=b'z') => {
                let start = at + 1;
                at = start;
                while at < text.len() && matches!(text[at], b'a'..=b'z' | b'0'..=b'9' | b'_') {
                    at += 1;
                }
                return Some((start, at));
            }
            _ => at += 1,
        }
    }
    None
}

/// An SQL type of parameters, with PostgreSQL's number for it (`pg_type.oid`).
pub trait ParameterType {
    const OID: u32;
    const ARRAY_OID: u32;
}

macro_rules! parameter_types {
    ($($kind:ty: $oid:literal, $array:literal;)*) => {
        $(impl ParameterType for $kind {
            const OID: u32 = $oid;
            const ARRAY_OID: u32 = $array;
        })*
    };
}

parameter_types! {
    Bool: 16, 1000;
    Binary: 17, 1001;
    BigInt: 20, 1016;
    SmallInt: 21, 1005;
    Integer: 23, 1007;
    Text: 25, 1009;
    Double: 701, 1022;
    Timestamptz: 1184, 1185;
    SqlUuid: 2950, 2951;
    Jsonb: 3802, 3807;
}

impl<T: ParameterType + diesel::sql_types::SqlType> ParameterType for Nullable<T> {
    const OID: u32 = T::OID;
    const ARRAY_OID: u32 = T::ARRAY_OID;
}

impl<T: ParameterType> ParameterType for Array<T> {
    const OID: u32 = T::ARRAY_OID;
    const ARRAY_OID: u32 = T::ARRAY_OID;
}

/// A statement with its values, in the order of its names. [`sql!`] makes one.
pub struct Statement<'v> {
    sql: &'static Sql,
    values: Vec<Box<dyn Value + 'v>>,
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

impl Statement<'static> {
    /// Returns a statement without values.
    pub fn new(sql: &'static Sql) -> Self {
        Statement {
            sql,
            values: Vec::with_capacity(sql.names.len()),
        }
    }
}

impl<'v> Statement<'v> {
    /// Adds the value of the next name.
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
            sql: self.sql,
            values,
        }
    }

    /// Executes the statement and returns the number of rows that it affected.
    pub fn execute<'c>(self, connection: &'c mut Connection) -> BoxFuture<'c, QueryResult<usize>>
    where
        'v: 'c,
    {
        connection.execute_returning_count(self)
    }

    /// Executes the statement and returns its rows.
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

    /// Executes the statement and returns its first row, or [`Error::NotFound`].
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

impl QueryFragment<Pg> for Statement<'_> {
    fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        // The placeholder of each name, once it was bound: they are numbered in the order of their first use.
        let mut bound: Vec<Option<usize>> = vec![None; self.values.len()];
        let mut used = 0;
        for piece in self.sql.pieces() {
            match *piece {
                Piece::Text(text) => out.push_sql(text),
                Piece::Parameter(index) => match (bound.get_mut(index), self.values.get(index)) {
                    (Some(Some(number)), _) => out.push_sql(&format!("${number}")),
                    (Some(first), Some(value)) => {
                        used += 1;
                        *first = Some(used);
                        value.write(&mut out)?;
                    }
                    _ => {
                        let message = format!("{}: a parameter has no value", self.sql.place);
                        return Err(Error::QueryBuilderError(message.into()));
                    }
                },
            }
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn names(text: &str) -> Vec<&str> {
        let mut found = Vec::new();
        let mut from = 0;
        while let Some((start, end)) = next_parameter(text.as_bytes(), from) {
            found.push(&text[start..end]);
            from = end;
        }
        found
    }

    #[test]
    fn only_a_colon_before_a_name_starts_a_parameter() {
        for (text, expected) in [
            ("select 1", vec![]),
            ("select :a, :b_2 from t where c = :a", vec!["a", "b_2", "a"]),
            ("select x::bigint, :y::text", vec!["y"]),
            ("select ':no' || ':it''s :no' || :yes", vec!["yes"]),
            ("select \":no\", :yes -- :no\n, :too", vec!["yes", "too"]),
            ("select a[1:2], :last", vec!["last"]),
        ] {
            assert_eq!(names(text), expected, "{text}");
        }
    }

    #[test]
    fn a_parameter_that_stands_twice_is_bound_once() {
        let statement = sql!(
            "select * from (values ('', 0::bigint, '')) t (a, b, c) where a = :first and b > :second and c < :first";
            second: BigInt = 2,
            first: Text = "one",
        );
        let text = diesel::debug_query::<Pg, _>(&statement).to_string();
        assert!(
            text.contains("where a = $1 and b > $2 and c < $1"),
            "{text}"
        );
        assert_eq!(text.matches("one").count(), 1, "{text}");
    }

    #[test]
    fn names_without_a_value_and_values_without_a_place_are_refused() {
        for (text, names) in [
            ("select :a", &[] as &[&str]),
            ("select :a", &["a", "b"]),
            ("select 1", &["a"]),
            ("select :ab", &["a"]),
            ("select :a", &["a", "a"]),
        ] {
            assert!(
                std::panic::catch_unwind(|| check_names(text, names)).is_err(),
                "{text} with {names:?}"
            );
        }
        check_names("select :a, :b, :a", &["b", "a"]);
    }

    #[tokio::test]
    async fn every_statement_can_be_prepared_with_the_types_of_its_parameters() {
        let database = pennine_testing::Database::fresh().await;
        let client = database.connect().await;
        let mut refused = Vec::new();
        for sql in registry::STATEMENTS {
            let (text, oids) = sql.prepared();
            let types = oids
                .iter()
                .map(|oid| tokio_postgres::types::Type::from_oid(*oid));
            let types: Vec<_> = types.map(|kind| kind.expect("a built-in type")).collect();
            if let Err(error) = client.prepare_typed(&text, &types).await {
                let why = error
                    .as_db_error()
                    .map_or(error.to_string(), ToString::to_string);
                refused.push(format!("{}: {why}\n{text}", sql.place()));
            }
        }
        assert!(refused.is_empty(), "{}", refused.join("\n\n"));
        // None escapes the test because it was not linked. A macro may make several of one invocation.
        let source = concat!(env!("CARGO_MANIFEST_DIR"), "/src");
        let written = invocations(std::path::Path::new(source));
        let registered = registry::STATEMENTS.len();
        assert!(
            registered >= written,
            "{written} statements in the source, {registered} registered"
        );
    }

    /// The number of `sql!` invocations in a folder's files, except in this one.
    fn invocations(folder: &std::path::Path) -> usize {
        let entries = std::fs::read_dir(folder).expect("a folder");
        let paths = entries.map(|entry| entry.expect("an entry").path());
        paths
            .map(|path| match path.is_dir() {
                true => invocations(&path),
                false if path.ends_with("statement.rs") => 1,
                false => {
                    let text = std::fs::read_to_string(&path).expect("a text");
                    text.matches("sql!(").count()
                }
            })
            .sum()
    }
}
