//! What goes wrong with suppliers and machines: nothing is orphaned, no job is lost, and the ceiling holds.

use crate::capacity::{add_pool, installation, machines, nothing_left, supply};
use crate::support::{Service, ServiceProcess, StandinCloud, free_port, until};
use pennine_client::{Client, Route};
use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::machine::MachineState;
use pennine_wire::SupplyChange;
use serde_json::json;

async fn chandler(
    change: impl FnOnce(&mut pennine_standins::cloud::Plan),
) -> (StandinCloud, Service) {
    let cloud = StandinCloud::start(change).await;
    let service = Service::start().await;
    service.furnish().await;
    cloud.join(&service, "chandler").await;
    (cloud, service)
}

/// Waits until the cloud has nothing of the installation.
async fn cloud_is_empty(cloud: &StandinCloud, service: &Service) {
    let installation = installation(service).await;
    until("the cloud has nothing left", || async {
        (cloud.there(installation).await == 0).then_some(())
    })
    .await;
}

async fn all_succeed(service: &Service, names: &[String]) {
    for name in names {
        let job = service.done(name).await;
        assert_eq!(job.line.result, Some(Outcome::Success), "{:?}", job.line);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_failing_supplier_raises_an_alert_with_its_waiting_jobs_and_is_retried() {
    let (cloud, service) = chandler(|_| {}).await;
    cloud.faults(json!({"down": true})).await;
    let wanted = SupplyChange {
        facts: Some(
            [(
                "os".to_owned(),
                serde_json::from_value("linux".into()).unwrap(),
            )]
            .into(),
        ),
        ..supply("chandler", 2)
    };
    add_pool(&service, "slipway", wanted).await;
    let job = service.submit("slipway", "true").await;
    until("the job's reason is recorded", || async {
        let why = service.client.why(&job).await.ok()?;
        let told = why.message.contains("the cloud is down for repairs");
        (why.reason == Some(Reason::SupplyShort) && told).then_some(())
    })
    .await;
    let shown = service.client.supplier("chandler").await.unwrap();
    assert!(shown.failure.unwrap().message.contains("down for repairs"));
    cloud.faults(json!({"down": false})).await;
    all_succeed(&service, &[job]).await;
    until("the trouble is over", || async {
        let shown = service.client.supplier("chandler").await.ok()?;
        shown.failure.is_none().then_some(())
    })
    .await;
    nothing_left(&service).await;
    cloud_is_empty(&cloud, &service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn orders_fail_answers_get_lost_and_machines_do_not_come_up() {
    let (cloud, service) = chandler(|plan| {
        plan.seed = 7;
        plan.boot_s = (0.0, 0.3);
        plan.faults.orders_fail = 0.3;
        plan.faults.answers_lost = 0.2;
        plan.faults.boots_fail = 0.2;
        plan.faults.requests_a_second = Some(40);
    })
    .await;
    let wanted = SupplyChange {
        single_use: Some(true),
        ..supply("chandler", 3)
    };
    add_pool(&service, "slipway", wanted).await;
    let mut names = Vec::new();
    for _ in 0..3 {
        names.push(service.submit("slipway", "true").await);
    }
    let installation = installation(&service).await;
    // A little more than the ceiling could only be there if an order was forgotten.
    // Each failure is followed by a pause, so that all of them together may take minutes.
    for name in &names {
        until(&format!("{name} is done"), || async {
            let there = cloud.there(installation).await;
            assert!(there <= 3, "{there} machines at the cloud");
            service.client.job(name).await.ok()?.line.result
        })
        .await;
    }
    all_succeed(&service, &names).await;
    cloud
        .faults(json!({"orders_fail": 0.0, "answers_lost": 0.0, "boots_fail": 0.0, "requests_a_second": null}))
        .await;
    nothing_left(&service).await;
    cloud_is_empty(&cloud, &service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_that_vanishes_under_its_job_is_noticed_and_the_job_tried_again() {
    let (cloud, service) = chandler(|_| {}).await;
    add_pool(&service, "slipway", supply("chandler", 2)).await;
    let job = service
        .submit("slipway", "[ $PENNINE_ATTEMPT_NUMBER != 1 ] || sleep 1000")
        .await;
    let running = service
        .job_when(&job, "starts", |job| job.line.started_at.is_some())
        .await;
    let name = running.line.runner.unwrap();
    let machine = service.client.machine(&name).await.unwrap();
    cloud.reclaim(machine.id, 0.0).await;
    let gone = until("it is seen to be gone", || async {
        let machine = service.client.machine(&name).await.ok()?;
        (!machine.state.exists()).then_some(machine)
    })
    .await;
    assert!(
        gone.reason.contains("vanished") || gone.reason.contains("stopped"),
        "{gone:?}"
    );
    service
        .job_when(&job, "is retried", |job| job.attempts.len() == 2)
        .await;
    service.client.cancel(&job).await.unwrap();
    service.done(&job).await;
    nothing_left(&service).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_with_an_announced_reclaim_finishes_its_job_and_is_replaced() {
    let (cloud, service) = chandler(|_| {}).await;
    let wanted = SupplyChange {
        floor: Some(1),
        ..supply("chandler", 2)
    };
    add_pool(&service, "slipway", wanted).await;
    let job = service.submit("slipway", "sleep 4").await;
    let running = service
        .job_when(&job, "starts", |job| job.line.started_at.is_some())
        .await;
    let first = running.line.runner.unwrap();
    let machine = service.client.machine(&first).await.unwrap();
    cloud.reclaim(machine.id, 600.0).await;
    let next = until("another is ordered meanwhile", || async {
        let all = machines(&service, None).await;
        all.into_iter().find(|one| one.name != first)
    })
    .await;
    all_succeed(&service, std::slice::from_ref(&job)).await;
    let done = service.client.job(&job).await.unwrap();
    assert_eq!(done.attempts.len(), 1);
    until("the first is gone and the other has joined", || async {
        let gone = service.client.machine(&first).await.ok()?;
        let came = service.client.machine(&next.name).await.ok()?;
        (gone.state == MachineState::Gone && came.state == MachineState::Joined).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn unknown_machines_are_removed_unless_they_are_another_installations() {
    use pennine_suppliers::conformance::some_order;
    let (cloud, service) = chandler(|_| {}).await;
    let installation = installation(&service).await;
    let other = uuid::Uuid::from_u128(77);
    for (whose, number) in [(installation, 1), (other, 2)] {
        let mut order = some_order(whose, number);
        // It has nowhere to join, and nothing ends it.
        order.join.server = "http://127.0.0.1:9".into();
        let answer = reqwest::Client::new()
            .post(format!("{}/machines", cloud.url))
            .bearer_auth(&cloud.key)
            .json(&order)
            .send()
            .await
            .unwrap();
        assert!(answer.status().is_success());
    }
    cloud_is_empty(&cloud, &service).await;
    assert_eq!(cloud.there(other).await, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_service_that_is_killed_between_order_and_record_leaves_no_second_machine_and_no_orphan()
{
    let (cloud, mut service) = chandler(|plan| plan.boot_s = (0.2, 0.4)).await;
    add_pool(&service, "slipway", supply("chandler", 3)).await;
    nothing_left(&service).await;
    let installation = installation(&service).await;
    service.goes_away().await;
    let port = free_port();
    let database = service.database.url.clone();
    let mut process = ServiceProcess::start(&database, service.data.path(), port).await;
    let client = Client::new(&process.url, &service.token, &Route::default()).unwrap();
    // Orders take half a second to be answered, so that it is killed in the middle of them.
    cloud.faults(json!({"answer_after_s": 0.5})).await;
    let mut names = Vec::new();
    for _ in 0..3 {
        let new = pennine_wire::NewJob {
            project: "buoy".into(),
            requirement: "slipway".into(),
            command: ["true".to_owned()].to_vec(),
            ..Default::default()
        };
        names.push(client.submit(&new, None).await.unwrap().job.name);
    }
    until("machines are ordered", || async {
        let all = client.machines(None, None, None).await.ok()?;
        (!all.items.is_empty()).then_some(())
    })
    .await;
    process.kill();
    cloud.faults(json!({"answer_after_s": 0.0})).await;
    let process = ServiceProcess::start(&database, service.data.path(), port).await;
    let client = Client::new(&process.url, &service.token, &Route::default()).unwrap();
    until("all jobs are done", || async {
        assert!(cloud.there(installation).await <= 3);
        let mut done = 0;
        for name in &names {
            let job = client.job(name).await.ok()?;
            done += usize::from(job.line.result == Some(Outcome::Success));
        }
        (done == names.len()).then_some(())
    })
    .await;
    until("nothing is left", || async {
        let none = client
            .machines(None, None, None)
            .await
            .ok()?
            .items
            .is_empty();
        (none && cloud.there(installation).await == 0).then_some(())
    })
    .await;
}
