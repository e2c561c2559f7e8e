//! How long from the commit of a change to its delivery: at the replica that wrote it, which reads at once, and at another, which
//! gets a hint.
//!
//! `cargo bench -p pennined --bench feed`. It needs a PostgreSQL cluster: `scripts/cluster up target/bench-postgres`.

// A bench that cannot go on stops.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

#[allow(dead_code)]
mod stand;

use pennine_core::id::PoolId;
use pennine_core::time::Moment;
use pennine_store::change::Change;
use pennine_store::connect::{PoolSizes, in_transaction};
use pennine_store::{Store, outbox, partition};
use pennined::background::TaskTurns;
use pennined::feed::Feed;
use stand::report;
use std::time::Instant;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

const CHANGES: usize = 2000;
const WARM_UP: usize = 100;

fn main() {
    stand::run(measure());
}

/// A feed as a replica has it.
fn replica(store: &Store, stop: &CancellationToken) -> Feed {
    let (feed, turns) = (Feed::default(), TaskTurns::new(None));
    tokio::spawn(
        feed.clone()
            .read(store.clone(), stop.clone(), turns.clone()),
    );
    let address = store.address().clone();
    tokio::spawn(feed.clone().hint(address, stop.clone(), turns));
    feed
}

async fn measure() {
    let (_, url) = stand::fresh_database().await;
    let store = Store::open(&url, &PoolSizes::default()).unwrap();
    store.migrate().await.unwrap();
    let mut connection = store.people().await.unwrap();
    let now = outbox::moment(&mut connection).await.unwrap();
    partition::ensure(&mut connection, now, now).await.unwrap();
    let stop = CancellationToken::new();
    let (own, other) = (replica(&store, &stop), replica(&store, &stop));
    let (mut here, mut there) = (own.subscribe(), other.subscribe());
    own.marks().await;
    other.marks().await;
    let (mut at_own, mut at_other) = (Vec::new(), Vec::new());
    for n in 0..WARM_UP + CHANGES {
        let change = Change::PoolFactsLearnt {
            pool: PoolId(Uuid::now_v7()),
        };
        in_transaction(&mut connection, async |connection| {
            outbox::write(
                connection,
                Moment::from_micros(now.micros() + n as i64),
                &change,
            )
            .await
        })
        .await
        .unwrap();
        let committed = Instant::now();
        own.kick();
        let delivered = tokio::join!(
            async {
                here.recv().await.unwrap();
                committed.elapsed()
            },
            async {
                there.recv().await.unwrap();
                committed.elapsed()
            },
        );
        if n >= WARM_UP {
            at_own.push(delivered.0);
            at_other.push(delivered.1);
        }
    }
    stop.cancel();
    println!("{CHANGES} changes, one at a time");
    report("commit to own subscriber", at_own);
    report("commit to another replica's", at_other);
}
