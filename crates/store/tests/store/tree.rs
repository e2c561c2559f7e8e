//! Teams, projects and seats.

use crate::{NOW, Record};
use pennine_core::id::PlaceId;
use pennine_store::change::Change;
use pennine_store::place::{self, Place};
use pennine_store::seat::{self, Seat};
use pennine_store::types::Json;
use pennine_store::{Connection, Db, Error, outbox};
use uuid::Uuid;

fn new(kind: &str, name: &str, parent: &Place) -> Place {
    Place {
        id: Db(PlaceId(Uuid::now_v7())),
        kind: kind.to_owned(),
        name: name.to_owned(),
        path: match parent.path.as_str() {
            "" => name.to_owned(),
            above => format!("{above}/{name}"),
        },
        parent_id: Some(parent.id.0.0),
        created_at: Db(NOW),
        weight: 1,
        slot_limit: None,
        give_up_us: None,
        audiences: Vec::new(),
    }
}

pub async fn added(connection: &mut Connection, kind: &str, name: &str, parent: &Place) -> Place {
    let place = new(kind, name, parent);
    place::insert(connection, &place).await.unwrap();
    place
}

#[tokio::test]
async fn a_place_is_found_by_its_path_or_its_name_and_its_path_is_its_own() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let root = place::root(&mut connection).await.unwrap();
    let firmware = added(&mut connection, "team", "firmware", &root).await;
    let shore = added(&mut connection, "team", "shore", &root).await;
    added(&mut connection, "project", "tools", &firmware).await;
    let other = added(&mut connection, "project", "tools", &shore).await;
    let paths = async |connection: &mut Connection, text: &str| -> Vec<String> {
        let found = place::find(connection, &["project"], text).await.unwrap();
        found.into_iter().map(|place| place.path).collect()
    };
    assert_eq!(
        paths(&mut connection, "tools").await,
        ["firmware/tools", "shore/tools"]
    );
    assert_eq!(paths(&mut connection, "shore/tools").await, ["shore/tools"]);
    assert!(
        paths(&mut connection, "firmware").await.is_empty(),
        "a team is no project"
    );
    let again = Place {
        id: Db(PlaceId(Uuid::now_v7())),
        ..other
    };
    assert!(matches!(
        place::insert(&mut connection, &again).await,
        Err(Error::Duplicate(_))
    ));
}

#[tokio::test]
async fn places_below_a_moved_place_move_and_write_changes() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let root = place::root(&mut connection).await.unwrap();
    let firmware = added(&mut connection, "team", "firmware", &root).await;
    let radio = added(&mut connection, "team", "radio", &firmware).await;
    added(&mut connection, "project", "modem", &radio).await;
    let shore = added(&mut connection, "team", "shore", &root).await;
    place::move_below(&mut connection, &radio, &shore, NOW)
        .await
        .unwrap();
    let all = place::all(&mut connection).await.unwrap();
    let paths: Vec<&str> = all.iter().map(|place| place.path.as_str()).collect();
    assert_eq!(
        paths,
        ["", "firmware", "shore", "shore/radio", "shore/radio/modem"]
    );
    let told = outbox::of_subject(&mut connection, radio.id.0.0)
        .await
        .unwrap();
    let moved = told.last().unwrap().change.clone().unwrap();
    assert_eq!(
        moved,
        Change::PlaceMoved {
            place: radio.id.0,
            from: "firmware/radio".to_owned(),
            to: "shore/radio".to_owned(),
        }
    );
}

pub async fn seat(connection: &mut Connection, name: &str, count: i32) -> Seat {
    let seat = Seat {
        id: Uuid::now_v7(),
        name: name.to_owned(),
        description: String::new(),
        count,
        created_at: Db(NOW),
        reserved_for: Json(Vec::new()),
    };
    seat::insert(connection, &seat).await.unwrap();
    seat
}

#[tokio::test]
async fn seats_are_added_once_and_their_count_can_change() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let mut seat = seat(&mut connection, "compiler-licence", 3).await;
    let again = Seat {
        id: Uuid::now_v7(),
        ..seat.clone()
    };
    assert!(matches!(
        seat::insert(&mut connection, &again).await,
        Err(Error::Duplicate(_))
    ));
    seat.count = 5;
    seat::set(&mut connection, &seat, NOW).await.unwrap();
    let listed = seat::list(&mut connection).await.unwrap();
    assert_eq!((listed.len(), listed[0].count), (1, 5));
    let told = outbox::of_subject(&mut connection, seat.id).await.unwrap();
    let kinds: Vec<_> = told
        .iter()
        .map(|entry| entry.change.as_ref().unwrap().kind())
        .collect();
    assert_eq!(kinds, ["seat.added", "seat.changed"]);
}
