//! The store against a real database: one of its own for each test, copied from a template that has the schema.
//!
//! The cluster is the one of `./check`; by hand: scripts/cluster up target/test-postgres fsync=off.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

mod access;
mod feed;
mod inputs;
mod jobs;
mod pools;
mod tree;

use pennine_core::time::Moment;
use pennine_store::connect::PoolSizes;
use pennine_store::{Connection, Store};
use pennine_testing::Database;

/// The time at which everything happens in these tests.
const NOW: Moment = Moment::from_micros(1_795_415_517_000_000);

/// A database, and a store on it.
struct Record {
    store: Store,
    // Dropped with the value, after the store.
    _database: Database,
}

impl Record {
    async fn fresh() -> Record {
        let database = Database::fresh().await;
        let store = Store::open(&database.url, &PoolSizes::default()).expect("a store");
        let record = Record {
            store,
            _database: database,
        };
        pennine_store::partition::ensure(&mut *record.connection().await, NOW, NOW)
            .await
            .expect("partitions");
        record
    }

    async fn connection(&self) -> impl std::ops::DerefMut<Target = Connection> + use<> {
        self.store.people().await.expect("a connection")
    }
}
