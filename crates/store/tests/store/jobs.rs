//! Selections of waiting jobs.

use crate::tree::added;
use crate::{NOW, Record};
use pennine_core::access::ActorKind;
use pennine_core::dispatch::{Band, StrandKey};
use pennine_core::id::{JobId, RunId, StrandId};
use pennine_core::time::Micros;
use pennine_core::trust::Trust;
use pennine_store::audit::Actor;
use pennine_store::bulk;
use pennine_store::job::{self, NewJob};
use pennine_store::place::{self, Place};
use pennine_store::waiting_line::LineFilter;
use pennine_store::{Connection, job_selection, strand};
use serde_json::json;
use std::collections::BTreeMap;
use uuid::Uuid;

/// A job of this project that was submitted just now: no leader has heard of it.
async fn submitted(connection: &mut Connection, project: &Place, requirement: &str) -> JobId {
    let key = StrandKey {
        requirement: requirement.to_owned(),
        project: project.id.0,
        band: Band::Normal,
        seats: BTreeMap::new(),
        workspace: None,
        trust: Trust::Trusted,
        approved_in: Default::default(),
    };
    let fresh = StrandId(Uuid::now_v7());
    let strand = strand::ensure(connection, fresh, &key, NOW).await.unwrap();
    let new = NewJob {
        id: JobId(Uuid::now_v7()),
        run: RunId(Uuid::now_v7()),
        project: project.id.0,
        strand,
        title: "check".to_owned(),
        requirement: requirement.to_owned(),
        command: vec!["true".to_owned()],
        secrets: Default::default(),
        variables: BTreeMap::new(),
        time_limit: Micros(3_600_000_000),
        tries: 1,
        band: Band::Normal,
        seats: BTreeMap::new(),
        trust: Trust::Trusted,
        give_up: None,
        fail_unmatched: false,
        retries: None,
        by: Actor::named(ActorKind::Token, "admin").at("firmware/buoy"),
        at: NOW,
    };
    let id = new.id;
    job::submit(connection, new).await.unwrap();
    id
}

#[tokio::test]
async fn a_job_is_selected_from_the_moment_of_its_submission() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let root = place::root(&mut connection).await.unwrap();
    let firmware = added(&mut connection, "team", "firmware", &root).await;
    let buoy = added(&mut connection, "project", "buoy", &firmware).await;
    let shore = added(&mut connection, "team", "shore", &root).await;
    let soundings = added(&mut connection, "project", "soundings", &shore).await;
    let one = submitted(&mut connection, &buoy, "linux").await;
    let other = submitted(&mut connection, &buoy, "arm64").await;
    let third = submitted(&mut connection, &soundings, "linux").await;
    let cases = [
        (None, None, vec![one, other, third]),
        (Some("firmware"), None, vec![one, other]),
        (Some("firmware/buoy"), Some("linux"), vec![one]),
        (None, Some("linux"), vec![one, third]),
        (Some("firm"), None, vec![]),
    ];
    for (number, (place, requirement, expected)) in cases.into_iter().enumerate() {
        let found = job_selection::waiting(&mut connection, place, requirement, 10).await;
        let found = found.unwrap();
        assert_eq!(found.ids, expected, "{place:?} {requirement:?}");
        assert_eq!(found.all, expected.len() as u64);

        let action = Uuid::from_u128(number as u128);
        let request = json!({"action": "cancel"});
        let admin = Actor::named(ActorKind::Token, "admin");
        let begun = bulk::begin(&mut connection, action, &request, &admin, NOW).await;
        assert!(begun.is_ok(), "{begun:?}");
        let filter = LineFilter {
            place: place.map(str::to_owned),
            requirement: requirement.map(str::to_owned),
            ..LineFilter::default()
        };
        bulk::collect_waiting(&mut connection, action, &filter)
            .await
            .unwrap();
        let taken = bulk::take(&mut connection, action, 10).await.unwrap();
        assert_eq!(taken, expected, "in the background");
    }
    let first = job_selection::waiting(&mut connection, None, None, 1).await;
    let first = first.unwrap();
    assert_eq!((first.ids, first.all), (vec![one], 3), "one of three");
}
