//! Untrusted jobs run only where nothing stays behind them, and take nothing that trusted jobs share.

use crate::capacity::{supply, with_programs};
use crate::runners::enrol;
use crate::support::{Runner, Service, StandinCloud};
use pennine_client::{ClientError, Route, RunnerClient};
use pennine_core::dispatch::Reason;
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::trust::Trust;
use pennine_wire::{
    Action, BulkAction, Job, JobPolicyChange, NewJob, NewPool, NewSeat, NewTicket, PoolChange,
    Problem, SupplyChange,
};
use std::collections::BTreeMap;

fn untrusted(requirement: &str, script: &str) -> NewJob {
    NewJob {
        project: "firmware/buoy".into(),
        requirement: requirement.into(),
        command: ["sh", "-c", script].map(str::to_owned).to_vec(),
        trust: Trust::Untrusted,
        ..NewJob::default()
    }
}

async fn submit(service: &Service, job: &NewJob) -> Job {
    let taken = service.client.submit(job, None).await.expect("it is taken");
    service.client.job(&taken.job.name).await.expect("a job")
}

async fn set(service: &Service, pool: &str, change: PoolChange) -> Result<(), ClientError> {
    let changed = service.client.change_pool(pool, &change).await;
    changed.map(drop)
}

fn takes_untrusted(yes: bool) -> PoolChange {
    PoolChange {
        takes_untrusted: Some(yes),
        ..PoolChange::default()
    }
}

/// The problem with which a request was refused.
fn refused<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    let error = result.expect_err("it is refused");
    error.problem().expect("a problem").clone()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_untrusted_job_waits_until_a_pool_takes_it_and_runs_on_a_machine_that_is_then_removed() {
    let service = with_programs().await;
    service.furnish().await;
    let cloud = StandinCloud::start(|_| ()).await;
    cloud.join(&service, "chandler").await;
    let _standing = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;

    let job = submit(&service, &untrusted("linux", "exit 3")).await;
    let name = job.line.name.clone();
    let why = service.why_when(&name, Reason::OutOfReach).await;
    assert!(
        why.message
            .contains("the project may not use its pool for untrusted jobs"),
        "{}",
        why.message
    );
    let remedy = why.remedy.expect("a remedy").message;
    assert!(remedy.contains("take untrusted jobs"), "{remedy}");

    let slipway = NewPool {
        name: "slipway".into(),
        supply: Some(SupplyChange {
            single_use: Some(true),
            slots: Some(1),
            ..supply("chandler", 2)
        }),
        ..NewPool::default()
    };
    service.client.add_pool(&slipway).await.unwrap();
    set(&service, "slipway", takes_untrusted(true))
        .await
        .unwrap();
    let done = service.done(&name).await;
    assert_eq!(done.line.result, Some(Outcome::Failure), "{done:?}");
    assert_eq!(
        (done.trust, done.attempts[0].pool.as_str()),
        (Trust::Untrusted, "slipway")
    );
    let log = String::from_utf8_lossy(&service.log(&name).await).into_owned();
    assert!(log.contains("pennine: untrusted job\n"), "{log}");
    crate::capacity::nothing_left(&service).await;

    // A retry stays what its job was.
    let retry = BulkAction {
        action: Action::Retry,
        reason: None,
        cause: None,
        project: None,
        team: None,
        requirement: None,
        jobs: vec![name],
        preview: false,
    };
    let retried = service.client.act_on_jobs(&retry).await.unwrap();
    let again = service.done(&retried.jobs[0]).await;
    assert_eq!(again.trust, Trust::Untrusted);
    cloud.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pool_that_is_unfit_for_untrusted_jobs_cannot_take_them_nor_become_unfit() {
    let service = with_programs().await;
    service.furnish().await;
    let cloud = StandinCloud::start(|_| ()).await;
    cloud.join(&service, "chandler").await;
    service
        .client
        .add_supplier(&crate::capacity::local(2))
        .await
        .unwrap();
    let _standing = Runner::working(&service, "staithe", "fell-01", 1).await;

    let problem = refused(set(&service, "staithe", takes_untrusted(true)).await);
    assert_eq!(problem.field.as_deref(), Some("takes_untrusted"));
    assert!(problem.detail.contains("needs a supplier"), "{problem:?}");

    // On the service's own host only in a sandbox, and never on a machine that stays.
    let with = |single_use, isolation| PoolChange {
        takes_untrusted: Some(true),
        supply: Some(SupplyChange {
            single_use: Some(single_use),
            ..SupplyChange::default()
        }),
        jobs: Some(JobPolicyChange {
            isolation: Some(isolation),
            ..JobPolicyChange::default()
        }),
        ..PoolChange::default()
    };
    let own = NewPool {
        name: "slipway".into(),
        supply: Some(supply("here", 0)),
        ..NewPool::default()
    };
    service.client.add_pool(&own).await.unwrap();
    for (change, expected) in [
        (
            with(false, IsolationLevel::Sandbox),
            "needs single-use machines",
        ),
        (with(true, IsolationLevel::Process), "share a host"),
    ] {
        let problem = refused(set(&service, "slipway", change).await);
        assert!(problem.detail.contains(expected), "{problem:?}");
    }
    set(&service, "slipway", with(true, IsolationLevel::Sandbox))
        .await
        .unwrap();

    // Once it takes them, it stays fit, and people add no machines of their own.
    let to_standing = PoolChange {
        supply: Some(SupplyChange {
            single_use: Some(false),
            ..SupplyChange::default()
        }),
        ..PoolChange::default()
    };
    let problem = refused(set(&service, "slipway", to_standing.clone()).await);
    assert!(problem.detail.contains("single-use"), "{problem:?}");
    let ticket = service
        .client
        .add_ticket("slipway", &NewTicket::default())
        .await;
    assert_eq!(refused(ticket).word(), "pool-takes-untrusted");

    // A machine cannot join with a ticket from before either; and one that did keeps the pool from taking them.
    set(&service, "slipway", takes_untrusted(false))
        .await
        .unwrap();
    let ticket = service.ticket("slipway").await;
    set(&service, "slipway", takes_untrusted(true))
        .await
        .unwrap();
    let machine = RunnerClient::new(&service.url, "", &Route::default()).unwrap();
    let joined = machine.enrol(&enrol(&ticket, "fell-02")).await;
    assert_eq!(refused(joined).word(), "pool-takes-untrusted");
    set(&service, "slipway", takes_untrusted(false))
        .await
        .unwrap();
    machine.enrol(&enrol(&ticket, "fell-02")).await.unwrap();
    let problem = refused(set(&service, "slipway", takes_untrusted(true)).await);
    assert_eq!(problem.word(), "standing-runners");
    assert!(problem.detail.contains("fell-02"), "{problem:?}");
    cloud.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_untrusted_job_takes_no_seats() {
    let service = Service::start().await;
    service.furnish().await;
    let seat = NewSeat {
        name: "compiler-licence".into(),
        count: 3,
        ..NewSeat::default()
    };
    service.client.add_seat(&seat).await.unwrap();
    let job = NewJob {
        seats: BTreeMap::from([("compiler-licence".to_owned(), 1)]),
        ..untrusted("", "true")
    };
    let problem = refused(service.client.submit(&job, None).await);
    assert_eq!(problem.field.as_deref(), Some("seats"));
}
