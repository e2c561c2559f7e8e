//! Pools, their policies, and maintenance.

use crate::{NOW, Record};
use pennine_core::id::{MaintenanceId, PoolId};
use pennine_core::job_policy::JobPolicy;
use pennine_store::maintenance::{self, NewMaintenanceRow};
use pennine_store::pool::{self, Pool};
use pennine_store::types::Json;
use pennine_store::{Db, Error, place};
use std::time::Duration;
use uuid::Uuid;

const HOUR: Duration = Duration::from_secs(3600);

pub async fn pool(record: &Record, name: &str) -> Pool {
    let mut connection = record.connection().await;
    let root = place::root(&mut connection).await.unwrap();
    let pool = Pool {
        id: Db(PoolId(Uuid::now_v7())),
        name: name.to_owned(),
        description: String::new(),
        owner_id: root.id,
        labels: vec!["linux".to_owned()],
        open: true,
        policy_version: 1,
        created_at: Db(NOW),
        narrow_to: Vec::new(),
        widen_to: Vec::new(),
        takes_untrusted: false,
        asks_approval: false,
        approved: Vec::new(),
        paused: false,
        needs: String::new(),
        supply: None,
        jobs: Json(JobPolicy::default()),
    };
    pool::insert(&mut connection, &pool, "ada").await.unwrap();
    pool
}

#[tokio::test]
async fn of_two_changes_of_a_pool_that_were_read_at_once_the_later_is_refused() {
    let record = Record::fresh().await;
    let read = pool(&record, "staithe").await;
    let mut connection = record.connection().await;
    let paused = Pool {
        paused: true,
        ..read.clone()
    };
    let open = Pool {
        open: false,
        ..read.clone()
    };
    assert!(
        pool::set(&mut connection, &paused, "ada", NOW)
            .await
            .unwrap()
    );
    assert!(!pool::set(&mut connection, &open, "bo", NOW).await.unwrap());
    let now = pool::get(&mut connection, read.id.0)
        .await
        .unwrap()
        .unwrap();
    assert_eq!(
        (now.pool.paused, now.pool.open, now.pool.policy_version),
        (true, true, 2)
    );
}

#[tokio::test]
async fn the_name_of_a_removed_pool_is_free_and_its_record_stays() {
    let record = Record::fresh().await;
    let first = pool(&record, "staithe").await;
    let mut connection = record.connection().await;
    let again = Pool {
        id: Db(PoolId(Uuid::now_v7())),
        ..first.clone()
    };
    assert!(matches!(
        pool::insert(&mut connection, &again, "ada").await,
        Err(Error::Duplicate(_))
    ));
    let removed = pool::remove(&mut connection, first.id.0, "ada", NOW).await;
    assert!(removed.unwrap());
    assert!(
        pool::find(&mut connection, "staithe")
            .await
            .unwrap()
            .is_none()
    );
    pool::insert(&mut connection, &again, "ada").await.unwrap();
    let every = pool::every(&mut connection).await.unwrap();
    assert_eq!(every.len(), 2, "{every:?}");
    let listed = pool::list(&mut connection).await.unwrap();
    assert_eq!(listed.len(), 1);
    assert_eq!(listed[0].pool.id, again.id);
}

#[tokio::test]
async fn maintenance_is_open_until_its_end_or_until_it_is_ended() {
    let record = Record::fresh().await;
    let pool = pool(&record, "tank").await;
    let mut connection = record.connection().await;
    let new = NewMaintenanceRow {
        id: MaintenanceId(Uuid::now_v7()),
        pool: Some(pool.id.0),
        runner: None,
        from: NOW + HOUR,
        until: NOW + HOUR * 3,
        reason: "new water",
        by: "ada",
        at: NOW,
    };
    maintenance::insert(&mut connection, new).await.unwrap();
    let open = async |connection: &mut _, now| maintenance::open(connection, now).await.unwrap();
    let listed = open(&mut connection, NOW).await;
    assert_eq!(listed.len(), 1);
    assert!(open(&mut connection, NOW + HOUR * 4).await.is_empty());
    let number = listed[0].number;
    assert!(
        maintenance::end(&mut connection, number, "bo", NOW)
            .await
            .unwrap()
    );
    assert!(open(&mut connection, NOW).await.is_empty());
    let twice = maintenance::end(&mut connection, number, "bo", NOW).await;
    assert!(!twice.unwrap(), "it is over");
}
