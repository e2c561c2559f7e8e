//! Connections, and the schema they find.

use crate::error::{Error, Result};
use diesel_async::pooled_connection::deadpool::{self, Hook, HookError};
use diesel_async::pooled_connection::{
    AsyncDieselConnectionManager, ManagerConfig, RecyclingMethod,
};
use diesel_async::{AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use std::time::Duration;

/// The migrations that this program knows.
pub const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// A connection to PostgreSQL.
pub type Connection = AsyncPgConnection;
/// Connections to PostgreSQL.
pub type Pool = deadpool::Pool<AsyncPgConnection>;

/// Any number; the same in every replica, so that only one migrates at a time.
const MIGRATION_LOCK: i64 = 0x70_65_6e_6e;

/// The record: where its connections come from.
#[derive(Clone)]
pub struct Store {
    url: String,
    pool: Pool,
    leader: Pool,
    patient: Pool,
}

/// What holds for every statement of a connection.
struct Limits {
    statement: Duration,
    lock: Duration,
    idle_in_transaction: Duration,
}

impl Store {
    /// Opens the record; nothing is connected until the first query.
    pub fn open(url: &str, connections: usize) -> Result<Store> {
        let usual = Limits {
            statement: Duration::from_secs(10),
            lock: Duration::from_secs(5),
            idle_in_transaction: Duration::from_secs(10),
        };
        let half = Duration::from_millis(500);
        let strict = Limits {
            statement: half,
            lock: half,
            idle_in_transaction: half,
        };
        let long = Limits {
            statement: Duration::from_secs(3600),
            lock: Duration::from_secs(60),
            idle_in_transaction: Duration::from_secs(60),
        };
        Ok(Store {
            url: url.to_owned(),
            pool: pool(url, connections, usual)?,
            leader: pool(url, 4, strict)?,
            patient: pool(url, 2, long)?,
        })
    }

    /// The address that it was opened with.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// A connection for requests.
    pub async fn get(&self) -> Result<deadpool::Object<AsyncPgConnection>> {
        self.pool
            .get()
            .await
            .map_err(|e| Error::Unreachable(root_cause(&e)))
    }

    /// A connection for the leader's batches, with time limits of half a second.
    pub async fn leader(&self) -> Result<deadpool::Object<AsyncPgConnection>> {
        self.leader
            .get()
            .await
            .map_err(|e| Error::Unreachable(root_cause(&e)))
    }

    /// A connection for long work that no request waits for.
    pub async fn patient(&self) -> Result<deadpool::Object<AsyncPgConnection>> {
        self.patient
            .get()
            .await
            .map_err(|e| Error::Unreachable(root_cause(&e)))
    }

    /// Brings the schema up to what this program knows, one replica at a time. A schema that is newer is refused.
    pub async fn migrate(&self) -> Result<usize> {
        use diesel_async::AsyncConnection;
        let mut connection = AsyncPgConnection::establish(&self.url)
            .await
            .map_err(|e| Error::Unreachable(e.to_string()))?;
        diesel::sql_query("select pg_advisory_lock($1)")
            .bind::<diesel::sql_types::BigInt, _>(MIGRATION_LOCK)
            .execute(&mut connection)
            .await?;
        // The harness blocks on its queries, so it must not stand on a thread that others wait for.
        let done = tokio::task::spawn_blocking(move || -> Result<usize> {
            let mut harness = AsyncMigrationHarness::new(connection);
            let refuse =
                |e: Box<dyn std::error::Error + Send + Sync>| Error::Refused(e.to_string());
            let known =
                diesel::migration::MigrationSource::<diesel::pg::Pg>::migrations(&MIGRATIONS)
                    .map_err(refuse)?
                    .iter()
                    .map(|m| m.name().version().as_owned())
                    .collect::<Vec<_>>();
            for applied in harness.applied_migrations().map_err(refuse)? {
                if !known.contains(&applied) {
                    return Err(Error::Newer(applied.to_string()));
                }
            }
            let run = harness.run_pending_migrations(MIGRATIONS).map_err(refuse)?;
            Ok(run.len())
        });
        done.await.map_err(|e| Error::Refused(e.to_string()))?
    }
}

/// Runs a function in a transaction, which is rolled back on any error.
pub async fn in_transaction<T, E, F>(connection: &mut Connection, work: F) -> Result<T, E>
where
    F: AsyncFnOnce(&mut Connection) -> Result<T, E>,
    E: From<Error>,
{
    use diesel_async::TransactionManager;
    type Manager = <Connection as diesel_async::AsyncConnection>::TransactionManager;
    Manager::begin_transaction(connection)
        .await
        .map_err(Error::from)?;
    match work(connection).await {
        Ok(value) => {
            Manager::commit_transaction(connection)
                .await
                .map_err(Error::from)?;
            Ok(value)
        }
        Err(error) => {
            // A connection that cannot even roll back is thrown away by its pool.
            let _ = Manager::rollback_transaction(connection).await;
            Err(error)
        }
    }
}

fn pool(url: &str, connections: usize, limits: Limits) -> Result<Pool> {
    let mut config = ManagerConfig::default();
    // A connection that broke is known to be closed without asking; a question before each use would cost a round
    // trip on every path.
    config.recycling_method = RecyclingMethod::Fast;
    let manager = AsyncDieselConnectionManager::new_with_config(url, config);
    let setup = format!(
        // A plan made again for each call costs more than it saves: these are look-ups by key, over partitions, of rows
        // that are in memory.
        "set plan_cache_mode = force_generic_plan; set random_page_cost = 1.1; set statement_timeout = {}; set lock_timeout = {}; \
         set idle_in_transaction_session_timeout = {}",
        limits.statement.as_millis(),
        limits.lock.as_millis(),
        limits.idle_in_transaction.as_millis()
    );
    Pool::builder(manager)
        .max_size(connections)
        .wait_timeout(Some(Duration::from_secs(5)))
        .create_timeout(Some(Duration::from_secs(3)))
        .recycle_timeout(Some(Duration::from_secs(3)))
        .runtime(::deadpool::Runtime::Tokio1)
        .post_create(Hook::async_fn(
            move |connection: &mut AsyncPgConnection, _| {
                let setup = setup.clone();
                Box::pin(async move {
                    connection
                        .batch_execute(&setup)
                        .await
                        .map_err(|e| HookError::message(e.to_string()))
                })
            },
        ))
        .build()
        .map_err(|e| Error::Refused(e.to_string()))
}

/// The innermost cause, which is what a person can act upon ("connection refused").
fn root_cause(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}
