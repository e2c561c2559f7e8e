//! Connections, and the schema they find.

use crate::address::Address;
use crate::error::{Error, Result};
use ::deadpool::managed::{Metrics, PoolError, TimeoutType};
use diesel::{ConnectionError, QueryableByName};
use diesel_async::pooled_connection::deadpool::{self, Hook, HookError};
use diesel_async::pooled_connection::{
    AsyncDieselConnectionManager, ManagerConfig, RecyclingMethod,
};
use diesel_async::{AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use futures::FutureExt;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// A connection to PostgreSQL.
pub type Connection = AsyncPgConnection;
/// A connection that goes back to its pool when it is dropped.
pub type PooledConnection = deadpool::Object<AsyncPgConnection>;
/// Connections to PostgreSQL.
pub type Pool = deadpool::Pool<AsyncPgConnection>;

/// How many connections each use may have at once. Each has its own, so that a flood of one is not a want of another.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PoolSizes {
    /// People's and programs' requests.
    pub people: usize,
    /// Questions about long ranges of the history: trends and exports.
    pub analysis: usize,
    /// The runners' protocol.
    pub runners: usize,
    /// Background tasks, and what the leader reads.
    pub tasks: usize,
}

impl Default for PoolSizes {
    fn default() -> Self {
        PoolSizes {
            people: 8,
            analysis: 3,
            runners: 6,
            tasks: 4,
        }
    }
}

/// The leader's batches, and its renewals of the lead.
const LEADER: usize = 4;
/// Work that takes minutes.
const PATIENT: usize = 2;
/// How long a connection of a pool is waited for.
const WAIT: Duration = Duration::from_secs(5);

/// The record: where its connections come from.
#[derive(Clone)]
pub struct Store {
    address: Address,
    people: Pool,
    analysis: Pool,
    runners: Pool,
    tasks: Pool,
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
    pub fn open(url: &str, sizes: &PoolSizes) -> Result<Store> {
        let limits = |statement, lock, idle_in_transaction| Limits {
            statement: Duration::from_millis(statement),
            lock: Duration::from_millis(lock),
            idle_in_transaction: Duration::from_millis(idle_in_transaction),
        };
        let address = Address::parse(url)?;
        let pool = |connections, limits| pool(&address, connections, limits);
        let usual = || limits(10_000, 5000, 10_000);
        Ok(Store {
            people: pool(sizes.people, usual())?,
            analysis: pool(sizes.analysis, limits(20_000, 5000, 20_000))?,
            runners: pool(sizes.runners, usual())?,
            tasks: pool(sizes.tasks, usual())?,
            leader: pool(LEADER, limits(500, 500, 500))?,
            patient: pool(PATIENT, limits(3_600_000, 60_000, 60_000))?,
            address,
        })
    }

    /// The address that it was opened with.
    pub fn address(&self) -> &Address {
        &self.address
    }

    /// A connection for requests of people and programs.
    pub async fn people(&self) -> Result<PooledConnection> {
        take(&self.people).await
    }

    /// A connection for questions about long ranges of the history.
    pub async fn analysis(&self) -> Result<PooledConnection> {
        take(&self.analysis).await
    }

    /// A connection for the runners' protocol.
    pub async fn runners(&self) -> Result<PooledConnection> {
        take(&self.runners).await
    }

    /// A connection for a background task, or for what the leader reads.
    pub async fn tasks(&self) -> Result<PooledConnection> {
        take(&self.tasks).await
    }

    /// A connection for the leader's batches, with time limits of half a second.
    pub async fn leader(&self) -> Result<PooledConnection> {
        take(&self.leader).await
    }

    /// A connection for long work that no request waits for.
    pub async fn patient(&self) -> Result<PooledConnection> {
        take(&self.patient).await
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

/// # Errors
/// [`Error::Busy`] where others had all of its connections for too long.
async fn take(pool: &Pool) -> Result<PooledConnection> {
    pool.get().await.map_err(|error| match error {
        PoolError::Timeout(TimeoutType::Wait) => Error::Busy,
        error => Error::Unreachable(root_cause(&error)),
    })
}

/// A connection, driven by a task of its own.
pub(crate) async fn establish(address: &Address) -> Result<AsyncPgConnection, ConnectionError> {
    let (client, connection) = address
        .connect()
        .await
        .map_err(|error| ConnectionError::BadConnection(root_cause(&error)))?;
    AsyncPgConnection::try_from_client_and_connection(client, connection).await
}

fn pool(address: &Address, connections: usize, limits: Limits) -> Result<Pool> {
    let mut config = ManagerConfig::default();
    // A connection that broke is known to be closed without asking; a question before each use would cost a round
    // trip on every path.
    config.recycling_method = RecyclingMethod::Fast;
    let address = address.clone();
    config.custom_setup = Box::new(move |_| {
        let address = address.clone();
        async move { establish(&address).await }.boxed()
    });
    // The address is what the function above connects to.
    let manager = AsyncDieselConnectionManager::new_with_config("", config);
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
        .wait_timeout(Some(WAIT))
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
        .pre_recycle(Hook::async_fn(
            |connection: &mut AsyncPgConnection, metrics: &Metrics| {
                let is_due = metrics.last_used() > LOOK_AFTER
                    || metrics.recycle_count.is_multiple_of(LOOK_EACH);
                Box::pin(async move {
                    match is_due && is_read_only(connection).await? {
                        false => Ok(()),
                        true => Err(HookError::message("the server takes no writes any more")),
                    }
                })
            },
        ))
        .build()
        .map_err(|e| Error::Refused(e.to_string()))
}

/// A connection that was not used for this long, or was used this often, is asked whether its server still takes writes: a
/// primary that another has replaced may go on as a standby.
const LOOK_AFTER: Duration = Duration::from_secs(2);
const LOOK_EACH: usize = 64;

#[derive(QueryableByName)]
struct ReadOnly {
    #[diesel(sql_type = diesel::sql_types::Bool)]
    is_read_only: bool,
}

async fn is_read_only(connection: &mut AsyncPgConnection) -> Result<bool, HookError> {
    let asked = diesel::sql_query(
        "select pg_is_in_recovery() or current_setting('default_transaction_read_only')::bool as is_read_only",
    );
    let found: ReadOnly = asked
        .get_result(connection)
        .await
        .map_err(|e| HookError::message(e.to_string()))?;
    Ok(found.is_read_only)
}

/// The innermost cause, which is what a person can act upon ("connection refused").
pub(crate) fn root_cause(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}
