//! What dispatch and capacity decide from can be read as it was at any moment.

use crate::pools::pool;
use crate::tree::{added, seat};
use crate::{NOW, Record};
use pennine_core::dispatch::{Entity, Inconsistency, Price, Problem, SharePolicy};
use pennine_core::id::{JobId, StrandId};
use pennine_core::time::Moment;
use pennine_store::place::{self, Place};
use pennine_store::seat::Seat;
use pennine_store::{Connection, decision_input, set_aside};
use serde_json::{Value, json};
use std::time::Duration;
use uuid::Uuid;

const MINUTE: Duration = Duration::from_secs(60);

/// The values of a kind at a moment, in the order of this key.
async fn values(connection: &mut Connection, kind: &str, key: &str, at: Moment) -> Vec<Value> {
    let all = decision_input::at(connection, at).await.unwrap();
    let of_kind = all.into_iter().filter(|one| one.kind == kind);
    let mut values: Vec<Value> = of_kind.filter_map(|one| one.value).collect();
    values.sort_by_key(|value| value[key].to_string());
    values
}

#[tokio::test]
async fn weights_limits_and_paths_of_places_are_kept_as_they_were() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let root = place::root(&mut connection).await.unwrap();
    let firmware = added(&mut connection, "team", "firmware", &root).await;
    let buoy = added(&mut connection, "project", "buoy", &firmware).await;
    let shore = added(&mut connection, "team", "shore", &root).await;
    let heavy = Place {
        weight: 3,
        slot_limit: Some(8),
        ..firmware.clone()
    };
    place::set(&mut connection, &heavy, NOW + MINUTE)
        .await
        .unwrap();
    // Nothing of it changes what is decided.
    place::set(&mut connection, &heavy, NOW + MINUTE * 2)
        .await
        .unwrap();
    place::move_below(&mut connection, &heavy, &shore, NOW + MINUTE * 3)
        .await
        .unwrap();
    let paths = |values: Vec<Value>| -> Vec<(String, Value)> {
        let pair = |value: Value| {
            (
                value["path"].as_str().unwrap().to_owned(),
                value["weight"].clone(),
            )
        };
        values.into_iter().map(pair).collect()
    };
    let at = async |connection: &mut Connection, minutes: u32| {
        paths(values(connection, "place", "path", NOW + MINUTE * minutes).await)
    };
    let named = |all: &[(&str, u32)]| -> Vec<(String, Value)> {
        all.iter()
            .map(|(path, weight)| ((*path).to_owned(), json!(weight)))
            .collect()
    };
    let first = named(&[("", 1), ("firmware", 1), ("firmware/buoy", 1), ("shore", 1)]);
    assert_eq!(at(&mut connection, 0).await, first);
    let second = named(&[("", 1), ("firmware", 3), ("firmware/buoy", 1), ("shore", 1)]);
    assert_eq!(at(&mut connection, 1).await, second);
    assert_eq!(at(&mut connection, 2).await, second);
    let third = named(&[
        ("", 1),
        ("shore", 1),
        ("shore/firmware", 3),
        ("shore/firmware/buoy", 1),
    ]);
    assert_eq!(at(&mut connection, 3).await, third);
    let moved = place::find(&mut connection, &["project"], "buoy")
        .await
        .unwrap();
    assert_eq!(moved[0].id, buoy.id);
    place::remove(&mut connection, &moved[0], NOW + MINUTE * 4)
        .await
        .unwrap();
    assert_eq!(
        at(&mut connection, 3).await,
        third,
        "what is gone was there then"
    );
    assert_eq!(at(&mut connection, 4).await.len(), 3);
}

#[tokio::test]
async fn seats_prices_and_the_share_policy_are_kept_as_they_were() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let licence = seat(&mut connection, "licence", 2).await;
    let fewer = Seat {
        count: 1,
        ..licence
    };
    pennine_store::seat::set(&mut connection, &fewer, NOW + MINUTE)
        .await
        .unwrap();
    let counts = async |connection: &mut Connection, minutes: u32| -> Vec<Value> {
        let all = values(connection, "seat", "name", NOW + MINUTE * minutes).await;
        all.into_iter()
            .map(|value| value["count"].clone())
            .collect()
    };
    assert_eq!(counts(&mut connection, 0).await, [json!(2)]);
    assert_eq!(counts(&mut connection, 1).await, [json!(1)]);

    let id = pool(&record, "staithe").await.id.0;
    for (price, minutes) in [(400, 0), (500, 2)] {
        pennine_store::pool::set_price(&mut connection, id, Price(price), NOW + MINUTE * minutes)
            .await
            .unwrap();
    }
    for (minutes, price) in [(1, 400), (2, 500)] {
        let all = values(&mut connection, "pool", "price", NOW + MINUTE * minutes).await;
        assert_eq!(all[0]["price"], json!(price));
    }

    let mut policy = SharePolicy::default();
    for minutes in [0, 1] {
        decision_input::record_share_policy(&mut connection, &policy, NOW + MINUTE * minutes)
            .await
            .unwrap();
    }
    policy.climb_after = MINUTE;
    decision_input::record_share_policy(&mut connection, &policy, NOW + MINUTE * 5)
        .await
        .unwrap();
    for (minutes, climb) in [(4, 900_000_000u64), (5, 60_000_000)] {
        let all = values(
            &mut connection,
            "share-policy",
            "half_life_us",
            NOW + MINUTE * minutes,
        )
        .await;
        assert_eq!(all.len(), 1);
        assert_eq!(all[0]["climb_after_us"], json!(climb));
    }
}

#[tokio::test]
async fn a_subject_that_makes_dispatch_inconsistent_twice_is_set_aside_for_an_hour() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let entity = Entity::Job(JobId(Uuid::now_v7()));
    let found = Inconsistency {
        subject: Some(entity),
        problem: Problem::UnknownStrand(StrandId(Uuid::nil())),
    };
    let note = async |connection: &mut Connection, minutes: u32| {
        set_aside::note(connection, entity, &found, NOW + MINUTE * minutes)
            .await
            .unwrap()
    };
    assert!(!note(&mut connection, 0).await);
    assert!(
        set_aside::list(&mut connection, NOW)
            .await
            .unwrap()
            .is_empty()
    );
    assert!(!note(&mut connection, 61).await, "the first is long ago");
    assert!(note(&mut connection, 70).await);
    let listed = set_aside::list(&mut connection, NOW + MINUTE * 71)
        .await
        .unwrap();
    assert_eq!(listed[0].entity.0, entity);
    assert_eq!(listed[0].first_at.0, NOW + MINUTE * 61);
    let later = set_aside::list(&mut connection, NOW + MINUTE * 131)
        .await
        .unwrap();
    assert!(later.is_empty(), "it is retried");
}
