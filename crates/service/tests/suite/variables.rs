//! Variables of places: the jobs of a place and of those below it get them, the nearest first.

use crate::support::{Runner, Service, refusal};
use pennine_core::access::Role;
use pennine_core::time::Micros;
use pennine_wire::{NewJob, NewProject, NewTeam, NewVariable, RunnerChange, VariableRemoval};
use std::collections::BTreeMap;

fn variable(place: &str, name: &str, value: &str) -> NewVariable {
    NewVariable {
        place: place.into(),
        name: name.into(),
        value: value.into(),
        ..NewVariable::default()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_gets_the_variables_of_its_places_its_runner_and_its_own_in_this_order() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    for (place, name, value) in [
        ("", "WHERE", "root"),
        ("", "COMPANY", "Skerry"),
        ("", "TANK", "root"),
        ("", "OWN", "root"),
        ("firmware/buoy", "OF_POOL", "buoy"),
        ("firmware/buoy", "TANK", "buoy"),
        ("firmware", "WHERE", "firmware"),
        ("firmware", "TEAM", "firmware"),
        ("firmware/buoy", "WHERE", "buoy"),
    ] {
        let new = variable(place, name, value);
        people.set_variable(&new).await.unwrap();
    }
    // Another team's are not for this project.
    let (name, parent) = ("shore".into(), None);
    people.add_team(&NewTeam { name, parent }).await.unwrap();
    let other = variable("shore", "TEAM", "shore");
    people.set_variable(&other).await.unwrap();
    // The pool's come before those of places, and after the runner's.
    for (name, value) in [
        ("OF_POOL", "staithe"),
        ("TANK", "staithe"),
        ("OWN", "staithe"),
    ] {
        let new = NewVariable {
            pool: Some("staithe".into()),
            ..variable("", name, value)
        };
        people.set_variable(&new).await.unwrap();
    }
    let both = NewVariable {
        pool: Some("staithe".into()),
        ..variable("firmware", "CC", "gcc")
    };
    assert_eq!(refusal(people.set_variable(&both).await).status, 422);
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let change = RunnerChange {
        variables: BTreeMap::from([("TANK".to_owned(), Some("runner".to_owned()))]),
        ..RunnerChange::default()
    };
    people.change_runner("fell-01", &change).await.unwrap();
    let new = NewJob {
        project: "buoy".into(),
        command: ["sh", "-c", "echo $WHERE $COMPANY $TEAM $OF_POOL $TANK $OWN"]
            .map(str::to_owned)
            .to_vec(),
        variables: BTreeMap::from([("OWN".to_owned(), "job".to_owned())]),
        ..NewJob::default()
    };
    let job = people.submit(&new, None).await.unwrap().job.name;
    service.done(&job).await;
    let log = people.log(&job, None, 0, Micros(0)).await.unwrap();
    let log = String::from_utf8_lossy(&log.bytes).into_owned();
    assert!(
        log.contains("buoy Skerry firmware staithe runner job"),
        "{log}"
    );

    let got = people.variables(Some("firmware/buoy")).await.unwrap().items;
    let got: Vec<_> = got
        .iter()
        .map(|one| (one.name.as_str(), one.place.as_str()))
        .collect();
    let expected = [
        ("COMPANY", ""),
        ("OF_POOL", "firmware/buoy"),
        ("OWN", ""),
        ("TANK", "firmware/buoy"),
        ("TEAM", "firmware"),
        ("WHERE", "firmware/buoy"),
    ];
    assert_eq!(got, expected);
    let (place, name) = ("firmware/buoy".to_owned(), "WHERE".to_owned());
    let pool = None;
    let removal = VariableRemoval { place, pool, name };
    people.remove_variable(&removal).await.unwrap();
    assert_eq!(refusal(people.remove_variable(&removal).await).status, 404);
    let got = people.variables(Some("firmware/buoy")).await.unwrap().items;
    assert_eq!(got.last().unwrap().value, "firmware");
    let of_pool = VariableRemoval {
        pool: Some("staithe".into()),
        name: "OF_POOL".into(),
        ..VariableRemoval::default()
    };
    people.remove_variable(&of_pool).await.unwrap();
    assert_eq!(refusal(people.remove_variable(&of_pool).await).status, 404);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn variables_are_set_by_operators_of_the_place_and_bounded() {
    let service = Service::start().await;
    service.furnish().await;
    let (name, team) = ("barometer".into(), "firmware".into());
    let new = NewProject { name, team };
    service.client.add_project(&new).await.unwrap();
    let ola = service
        .with_role("ola", Role::Operator, "firmware/buoy")
        .await;
    let mira = service.with_role("mira", Role::Submitter, "firmware").await;
    let set = async |client: &pennine_client::Client, new: NewVariable| {
        refusal(client.set_variable(&new).await)
    };
    ola.set_variable(&variable("firmware/buoy", "CC", "gcc"))
        .await
        .unwrap();
    assert_eq!(
        set(&ola, variable("firmware/barometer", "CC", "gcc"))
            .await
            .status,
        404
    );
    assert_eq!(
        set(&mira, variable("firmware/buoy", "CC", "gcc"))
            .await
            .status,
        403
    );
    for (name, value) in [("1CC", "gcc"), ("C C", ""), ("", "x"), ("PENNINE_JOB", "x")] {
        let refused = set(&ola, variable("firmware/buoy", name, value)).await;
        assert_eq!(
            (refused.status, refused.field.as_deref()),
            (422, Some("name")),
            "{name:?}"
        );
    }
    let long = "x".repeat(64 << 10);
    let refused = set(&ola, variable("firmware/buoy", "LONG", &long)).await;
    assert_eq!(
        (refused.status, refused.field.as_deref()),
        (422, Some("value"))
    );
    let seen = mira.variables(None).await.unwrap().items;
    assert_eq!(seen.len(), 1, "what was refused is not there");
    assert!(
        service
            .with_role("teo", Role::Viewer, "firmware/barometer")
            .await
            .variables(None)
            .await
            .unwrap()
            .items
            .is_empty()
    );
    let changes = "select detail::text from audit where what = 'variable.set'";
    let changes = service.database.texts(changes).await;
    assert_eq!(
        changes,
        [r#"{"pool": null, "after": "gcc", "before": null}"#]
    );
}
