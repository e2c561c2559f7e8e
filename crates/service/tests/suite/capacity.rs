//! Pools that get machines: bursts on this host and on the stand-in cloud, single use, previews, checks, secrets.

use crate::support::{Service, StandinCloud, program, until};
use pennine_client::{ClientError, DecisionFilter};
use pennine_core::capacity::{Budget, Money};
use pennine_core::dispatch::{Price, Reason};
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::time::Micros;
use pennine_standins::engine::Podman;
use pennine_wire::{
    Job, JobPolicyChange, Machine, NewMachines, NewPool, NewSupplier, PoolChange, StopMachine,
    SupplierChange, SupplierCheck, SupplyChange,
};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

pub const ALL: &str = "ordered,booting,joined,releasing,gone,failed";

/// Machines on this host, behind the best walls that it has.
pub fn local(most: u32) -> NewSupplier {
    NewSupplier {
        name: "here".into(),
        kind: "local".into(),
        settings: BTreeMap::from([("most".to_owned(), most.to_string())]),
        ..NewSupplier::default()
    }
}

/// A service that hands out, and starts, the runner's program.
pub async fn with_programs() -> Service {
    let programs = program("pennine-runner").parent().unwrap().to_owned();
    Service::with(|config| config.programs_dir = programs).await
}

pub fn supply(supplier: &str, ceiling: u32) -> SupplyChange {
    SupplyChange {
        supplier: Some(supplier.into()),
        ceiling: Some(ceiling),
        dwell_us: Some(Micros::from(Duration::from_millis(300))),
        ..SupplyChange::default()
    }
}

pub async fn add_pool(service: &Service, name: &str, supply: SupplyChange) {
    add_isolated_pool(service, name, supply, IsolationLevel::Process).await;
}

async fn add_isolated_pool(
    service: &Service,
    name: &str,
    supply: SupplyChange,
    isolation: IsolationLevel,
) {
    let new = NewPool {
        name: name.into(),
        labels: vec![name.into()],
        supply: Some(supply),
        jobs: Some(JobPolicyChange {
            isolation: Some(isolation),
            ..JobPolicyChange::default()
        }),
        ..NewPool::default()
    };
    service.client.add_pool(&new).await.expect("a pool");
}

pub async fn machines(service: &Service, states: Option<&str>) -> Vec<Machine> {
    service
        .client
        .machines(None, states, None)
        .await
        .expect("machines")
        .items
}

pub async fn nothing_left(service: &Service) {
    until("no machine is there any more", || async {
        machines(service, None).await.is_empty().then_some(())
    })
    .await;
}

async fn change(service: &Service, pool: &str, supply: SupplyChange, preview: bool) -> Vec<String> {
    let change = PoolChange {
        supply: Some(supply),
        preview,
        ..PoolChange::default()
    };
    let changed = service.client.change_pool(pool, &change).await.unwrap();
    let message = changed.decisions.into_iter().map(|one| one.message);
    message.collect()
}

async fn decisions(service: &Service) -> Vec<(String, String)> {
    let all = service
        .client
        .decisions(&DecisionFilter::default(), None)
        .await
        .unwrap();
    let mut all: Vec<_> = all
        .items
        .into_iter()
        .map(|one| (one.verb, one.message))
        .collect();
    all.reverse();
    all
}

fn succeeded(job: &Job) {
    assert_eq!(job.line.result, Some(Outcome::Success), "{:?}", job.line);
}

/// Submits some jobs and waits for all of them; ceiling machines than the ceiling are seen meanwhile.
async fn burst(service: &Service, pool: &str, jobs: usize, ceiling: usize) -> Vec<Job> {
    let mut names = Vec::new();
    for _ in 0..jobs {
        names.push(service.submit(pool, "sleep 0.2").await);
    }
    let mut done = Vec::new();
    for name in &names {
        let job = until(&format!("{name} is done"), || async {
            let there = machines(service, None).await.len();
            assert!(there <= ceiling, "{there} machines, ceiling {ceiling}");
            let job = service.client.job(name).await.ok()?;
            job.line.result.is_some().then_some(job)
        })
        .await;
        succeeded(&job);
        done.push(job);
    }
    done
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_burst_takes_a_local_pool_from_nothing_to_its_ceiling_and_back() {
    let service = with_programs().await;
    service.furnish().await;
    service.client.add_supplier(&local(8)).await.unwrap();
    follows_a_burst(&service, IsolationLevel::Process).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_burst_takes_a_pool_on_a_container_engine_from_nothing_to_its_ceiling_and_back() {
    let Some(podman) = Podman::or_skip() else {
        return;
    };
    let service = with_programs().await;
    service.furnish().await;
    let engine = NewSupplier {
        name: "here".into(),
        kind: "engine".into(),
        settings: podman.settings(),
        ..NewSupplier::default()
    };
    service.client.add_supplier(&engine).await.unwrap();
    // A container cannot make namespaces in itself.
    follows_a_burst(&service, IsolationLevel::None).await;
}

/// A pool on the supplier `here` goes from nothing to its ceiling and back, and says why.
async fn follows_a_burst(service: &Service, isolation: IsolationLevel) {
    add_isolated_pool(service, "slipway", supply("here", 3), isolation).await;
    // The probe comes, says what it is, and goes: the pool is at nothing.
    until("the pool is known", || async {
        let pool = service.client.pool("slipway").await.ok()?;
        pool.standing?.known.then_some(())
    })
    .await;
    nothing_left(service).await;
    let done = burst(service, "slipway", 7, 3).await;
    let runners: BTreeSet<_> = done.iter().map(|job| job.line.runner.clone()).collect();
    assert!((1..=3).contains(&runners.len()), "{runners:?}");
    nothing_left(service).await;
    let made = machines(service, Some(ALL)).await;
    assert!(
        made.iter()
            .all(|one| one.state == MachineState::Gone && !one.failed),
        "{made:?}"
    );
    let message = decisions(service).await;
    assert_eq!(message[0].0, "probe", "{message:?}");
    assert!(
        message
            .iter()
            .any(|(verb, message)| verb == "order" && message.contains("ceiling 3")),
        "{message:?}"
    );
    let last = &message.last().unwrap().1;
    assert!(last.contains("and not needed"), "{message:?}");
    let sought = DecisionFilter {
        pool: Some("slipway".to_owned()),
        search: Some(" AND NOT needed".to_owned()),
    };
    let found = service.client.decisions(&sought, None).await.unwrap().items;
    assert!(
        !found.is_empty() && found.len() < message.len(),
        "{found:?}"
    );
    assert!(
        found
            .iter()
            .all(|one| one.message.contains("and not needed")),
        "{found:?}"
    );
    // Each wait is split into its reasons, and the machine's coming is one of them.
    let spans = &done[0].attempts[0].wait;
    let coming = spans
        .iter()
        .any(|span| span.reason == Reason::MachineComing);
    assert!(coming, "{spans:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_single_use_machine_of_the_cloud_takes_one_job_and_leaves() {
    let cloud = StandinCloud::start(|_| {}).await;
    let service = Service::start().await;
    service.furnish().await;
    cloud.join(&service, "chandler").await;
    let wanted = SupplyChange {
        single_use: Some(true),
        size: Some("medium".into()),
        image: Some("debian-12".into()),
        ..supply("chandler", 2)
    };
    add_pool(&service, "slipway", wanted).await;
    let done = burst(&service, "slipway", 4, 2).await;
    let runners: BTreeSet<_> = done
        .iter()
        .filter_map(|job| job.line.runner.clone())
        .collect();
    assert_eq!(runners.len(), 4, "each on a machine of its own");
    nothing_left(&service).await;
    let made = machines(&service, Some(ALL)).await;
    let used: Vec<_> = made
        .iter()
        .filter(|one| one.reason == "its job is finished")
        .collect();
    assert_eq!(used.len(), 4, "{made:?}");
    // The cloud's price for the size, by the time from order to end.
    for one in used {
        assert_eq!(one.price, Price(480_000));
        let took = one.ended_at.unwrap().since(one.ordered_at).as_micros();
        let cost = u128::from(one.price.0) * took / 3_600_000_000;
        assert_eq!(u128::from(one.cost.0), cost);
        assert!(["north", "south", "isle"].contains(&one.zone.as_str()));
    }
    let relief = service.client.relief("slipway", 5).await.unwrap();
    assert!(relief.spent_day > Money(0));
    assert_eq!(relief.spent_day, relief.spent_month);
    assert!(
        relief
            .steps
            .iter()
            .any(|step| step.level.coming > 0 || step.level.executing > 0)
    );
    assert!(!relief.decisions.is_empty());
    cloud.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_effect_of_a_policy_change_is_previewed() {
    let service = with_programs().await;
    service.furnish().await;
    service.client.add_supplier(&local(8)).await.unwrap();
    let none = SupplyChange {
        facts: Some(
            [(
                "os".to_owned(),
                serde_json::from_value("linux".into()).unwrap(),
            )]
            .into(),
        ),
        ..supply("here", 0)
    };
    add_pool(&service, "slipway", none).await;
    let job = service.submit("slipway", "true").await;
    service.submit("slipway", "true").await;
    // The reason is on record a moment before the numbers that it comes with.
    until("the job's reason names what limits its pool", || async {
        let why = service.client.why(&job).await.ok()?;
        let told = why.message.contains("slipway has a ceiling of 0");
        (why.reason == Some(Reason::SupplyShort) && told).then_some(())
    })
    .await;
    let ceiling = |ceiling| SupplyChange {
        ceiling: Some(ceiling),
        ..SupplyChange::default()
    };
    let message = change(&service, "slipway", ceiling(8), true).await;
    assert_eq!(message, ["ordered 2: 2 waiting, no machine, ceiling 8"]);
    assert!(
        machines(&service, Some(ALL)).await.is_empty(),
        "only foreseen"
    );
    let message = change(&service, "slipway", ceiling(1), false).await;
    assert_eq!(message, ["ordered 1: 1 waiting, no machine, ceiling 1"]);
    succeeded(&service.done(&job).await);
    nothing_left(&service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_supplier_is_checked_with_a_trial_machine_and_nothing_is_left() {
    let cloud = StandinCloud::start(|plan| plan.boot_s = (0.1, 0.2)).await;
    let service = Service::start().await;
    cloud.join(&service, "chandler").await;
    let how = SupplierCheck::default();
    let checked = service
        .client
        .check_supplier("chandler", &how)
        .await
        .unwrap();
    assert!(checked.well, "{checked:?}");
    assert!(checked.facts.contains_key("cores"));
    assert!(Duration::from(checked.boot_us.unwrap()) >= Duration::from_millis(100));
    let installation = installation(&service).await;
    assert_eq!(cloud.there(installation).await, 0);
    assert!(
        service
            .client
            .runners(&Default::default())
            .await
            .unwrap()
            .items
            .is_empty()
    );
    // One whose client goes away is finished all the same.
    let client = service.client.clone();
    let abandoned = tokio::spawn(async move {
        let how = SupplierCheck::default();
        client.check_supplier("chandler", &how).await
    });
    until("the trial machine is there", || async {
        (cloud.there(installation).await == 1).then_some(())
    })
    .await;
    abandoned.abort();
    until("the second check is recorded", || async {
        let checks = "select subject from audit where what = 'supplier.check'";
        (service.database.texts(checks).await.len() == 2).then_some(())
    })
    .await;
    assert_eq!(cloud.there(installation).await, 0);
    // A machine that never joins is reported with its output.
    cloud.faults(serde_json::json!({"boots_fail": 1.0})).await;
    let limit = SupplierChange {
        boot_limit_us: Some(Micros::from(Duration::from_secs(2))),
        ..SupplierChange::default()
    };
    service
        .client
        .change_supplier("chandler", &limit)
        .await
        .unwrap();
    let checked = service
        .client
        .check_supplier("chandler", &how)
        .await
        .unwrap();
    assert!(!checked.well);
    assert!(
        checked.console.contains("no bootable device"),
        "{checked:?}"
    );
    assert_eq!(cloud.there(installation).await, 0);
    cloud.end().await;
}

pub async fn installation(service: &Service) -> uuid::Uuid {
    let rows = service
        .database
        .texts("select id::text from installation")
        .await;
    rows[0].parse().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn secrets_of_a_supplier_are_never_shown_and_stored_encrypted() {
    let cloud = StandinCloud::start(|_| {}).await;
    let service = Service::start().await;
    cloud.join(&service, "chandler").await;
    let shown = service.client.supplier("chandler").await.unwrap();
    assert_eq!(shown.secrets, ["key"]);
    let text = serde_json::to_string(&shown).unwrap();
    assert!(!text.contains(&cloud.key), "{text}");
    let rows = service
        .database
        .texts("select secrets::text from supplier union all select detail::text from audit union all select body::text from outbox")
        .await;
    assert!(rows.iter().all(|row| !row.contains(&cloud.key)), "{rows:?}");
    // It is used all the same.
    until("the cloud was asked", || async {
        let offer = service.client.supplier("chandler").await.ok()?.offer?;
        (offer.quota == Some(20)).then_some(())
    })
    .await;
    let wrong = SupplierChange {
        secrets: BTreeMap::from([("key".to_owned(), "wrong".to_owned())]),
        ..SupplierChange::default()
    };
    service
        .client
        .change_supplier("chandler", &wrong)
        .await
        .unwrap();
    let failure = until("the wrong key is reported", || async {
        service.client.supplier("chandler").await.ok()?.failure
    })
    .await;
    assert!(
        failure.message.contains("it rejects the key"),
        "{}",
        failure.message
    );
    cloud.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn machines_are_started_and_stopped_by_hand_within_the_ceiling() {
    let service = with_programs().await;
    service.furnish().await;
    service.client.add_supplier(&local(8)).await.unwrap();
    let wanted = SupplyChange {
        dwell_us: Some(Micros::from(Duration::from_secs(600))),
        ..supply("here", 2)
    };
    add_pool(&service, "slipway", wanted).await;
    let joined = |name: String| {
        let service = &service;
        async move {
            until(&format!("{name} has joined"), || async {
                let machine = service.client.machine(&name).await.ok()?;
                (machine.state == MachineState::Joined).then_some(machine)
            })
            .await
        }
    };
    let probe = until("a probe is ordered", || async {
        machines(&service, None).await.into_iter().next()
    })
    .await;
    joined(probe.name).await;
    let made = service
        .client
        .start_machines("slipway", &NewMachines::default())
        .await
        .unwrap();
    let by_hand = joined(made.items[0].name.clone()).await;
    assert_eq!(by_hand.ordered_by, "admin");
    let error = service
        .client
        .start_machines("slipway", &NewMachines::default())
        .await
        .unwrap_err();
    let ClientError::Refused(problem) = error else {
        panic!("{error:?}");
    };
    assert_eq!(problem.word(), "ceiling-reached");
    // A busy one finishes first.
    let job = service.submit("slipway", "sleep 1; echo finished").await;
    let running = service
        .job_when(&job, "starts", |job| job.line.runner.is_some())
        .await;
    let busy = running.line.runner.unwrap();
    let stop = StopMachine::default();
    let stopped = service.client.stop_machine(&busy, &stop).await.unwrap();
    assert_eq!(stopped.state, MachineState::Joined);
    succeeded(&service.done(&job).await);
    let gone = until("it is gone", || async {
        let machine = service.client.machine(&busy).await.ok()?;
        (machine.state == MachineState::Gone).then_some(machine)
    })
    .await;
    assert_eq!(gone.reason, "it was drained and has finished");
    let rest = machines(&service, None).await;
    assert_eq!(rest.len(), 1, "{rest:?}");
    service
        .client
        .stop_machine(&rest[0].short, &stop)
        .await
        .unwrap();
    nothing_left(&service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_command_supplier_makes_machines_with_forty_lines_of_shell() {
    let service = Service::start().await;
    service.furnish().await;
    let folder = tempfile::tempdir().unwrap();
    let example = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../docs/examples/supplier.sh"
    );
    let new = NewSupplier {
        name: "own".into(),
        kind: "command".into(),
        settings: BTreeMap::from([
            ("program".to_owned(), example.to_owned()),
            ("dir".to_owned(), folder.path().display().to_string()),
            (
                "runner".to_owned(),
                program("pennine-runner").display().to_string(),
            ),
        ]),
        ..NewSupplier::default()
    };
    service.client.add_supplier(&new).await.unwrap();
    add_pool(&service, "slipway", supply("own", 2)).await;
    burst(&service, "slipway", 3, 2).await;
    nothing_left(&service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn policies_that_make_no_sense_are_refused_with_what_is_wrong() {
    let service = with_programs().await;
    service.client.add_supplier(&local(8)).await.unwrap();
    add_pool(&service, "slipway", supply("here", 0)).await;
    let refused = async |supply: SupplyChange| {
        let change = PoolChange {
            supply: Some(supply),
            ..PoolChange::default()
        };
        match service.client.change_pool("slipway", &change).await {
            Err(ClientError::Refused(problem)) => problem.field.clone().unwrap_or_default(),
            other => panic!("{other:?}"),
        }
    };
    let wrong = |field: fn(&mut SupplyChange)| {
        let mut change = SupplyChange::default();
        field(&mut change);
        change
    };
    for (change, field) in [
        (
            wrong(|one| one.supplier = Some("absent".into())),
            "supply.supplier",
        ),
        (wrong(|one| one.floor = Some(1)), "supply.floor"),
        (wrong(|one| one.ceiling = Some(1_000_000)), "supply.ceiling"),
        (wrong(|one| one.slots = Some(0)), "supply.slots"),
        (
            wrong(|one| {
                one.single_use = Some(true);
                one.slots = Some(2);
            }),
            "supply.slots",
        ),
        (
            wrong(|one| one.dwell_us = Some(Micros(u64::MAX))),
            "supply.dwell_us",
        ),
        (
            wrong(|one| {
                one.week = Some(pennine_core::capacity::Week {
                    zone: "Middle/Earth".into(),
                    times: Vec::new(),
                });
            }),
            "supply.week.zone",
        ),
        (wrong(|one| one.clear = vec!["tide".into()]), "supply.clear"),
    ] {
        assert_eq!(refused(change).await, field);
    }
    let no_kind = NewSupplier {
        name: "odd".into(),
        kind: "balloon".into(),
        ..NewSupplier::default()
    };
    let error = service.client.add_supplier(&no_kind).await.unwrap_err();
    assert!(error.to_string().contains("balloon"), "{error}");
    let misspelt = NewSupplier {
        name: "odd".into(),
        settings: BTreeMap::from([("mots".to_owned(), "3".to_owned())]),
        ..local(1)
    };
    let error = service.client.add_supplier(&misspelt).await.unwrap_err();
    assert!(error.to_string().contains("mots"), "{error}");
    // It is in use.
    let error = service.client.remove_supplier("here").await.unwrap_err();
    assert!(error.to_string().contains("slipway"), "{error}");
    assert!(Budget::default().is_none());
}
