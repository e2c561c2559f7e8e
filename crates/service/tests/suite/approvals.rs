//! Pools that ask for approval of a project's first use.

use crate::support::{Runner, Service, refusal};
use pennine_core::access::Role;
use pennine_core::dispatch::{PoolAccess, Reason};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Micros;
use pennine_wire::{
    ApprovalWithdrawal, NewPerson, NewProject, NewTeam, PoolApproval, PoolChange, QueueStrand,
};

fn asks(yes: bool) -> PoolChange {
    PoolChange {
        asks_approval: Some(yes),
        accept_losses: true,
        ..PoolChange::default()
    }
}

fn project(path: &str) -> PoolApproval {
    PoolApproval {
        project: Some(path.to_owned()),
        job: None,
    }
}

/// A service whose pool asks for approval, with a runner in it.
async fn asking() -> (Service, Runner) {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    people.change_pool("staithe", &asks(true)).await.unwrap();
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    (service, runner)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_waits_until_its_project_is_approved_and_says_who_can() {
    let (service, _runner) = asking().await;
    let people = &service.client;
    let ola = NewPerson {
        name: "ola".into(),
        full_name: "Ola Brekke".into(),
        role: Role::Operator,
        place: String::new(),
    };
    people.add_person(&ola).await.unwrap();
    let waits = service.submit("linux", "true").await;
    let why = service.why_when(&waits, Reason::NeedsApproval).await;
    let asks = "staithe asks for approval of the project's first use";
    assert!(why.message.contains(asks), "{}", why.message);
    let remedy = why.remedy.unwrap().message;
    assert!(
        remedy.starts_with("Ask an operator of the root (admin, ola)"),
        "{remedy}"
    );
    let offered: Vec<&str> = why.actions.iter().map(|one| one.message.as_str()).collect();
    let expected = [
        "Approve firmware/buoy in staithe".to_owned(),
        format!("Approve only {waits} in staithe"),
        "Cancel 1 job".to_owned(),
    ];
    assert_eq!(offered, expected);
    let queue = service.queue_when(|queue| queue.waiting == 1).await;
    let reasons: Vec<Reason> = queue.groups.iter().map(|group| group.reason).collect();
    assert_eq!(reasons, [Reason::NeedsApproval]);
    let first: &QueueStrand = &queue.groups[0].strands[0];
    assert_eq!(
        first.actions[0].command,
        "pennine pool approve staithe --project firmware/buoy"
    );

    let pool = people
        .approve_use("staithe", &project("buoy"))
        .await
        .unwrap();
    assert_eq!(pool.approved, ["firmware/buoy"]);
    let done = service.done(&waits).await;
    assert_eq!(done.line.result, Some(Outcome::Success));
    let reasons: Vec<Reason> = done.attempts[0]
        .wait
        .iter()
        .map(|span| span.reason)
        .collect();
    assert!(reasons.contains(&Reason::NeedsApproval), "{reasons:?}");
    // A second approval changes nothing.
    let again = people
        .approve_use("staithe", &project("firmware/buoy"))
        .await
        .unwrap();
    assert_eq!(again.settings_version, pool.settings_version);
    // Withdrawn, its next job asks again.
    let withdrawal = ApprovalWithdrawal {
        project: "firmware/buoy".into(),
    };
    people
        .withdraw_approval("staithe", &withdrawal)
        .await
        .unwrap();
    let refused = refusal(people.withdraw_approval("staithe", &withdrawal).await);
    assert_eq!((refused.status, refused.word()), (404, "unknown-approval"));
    let next = service.submit("linux", "true").await;
    service.why_when(&next, Reason::NeedsApproval).await;
    // A pool that does not ask takes it.
    people.change_pool("staithe", &asks_not()).await.unwrap();
    service.done(&next).await;
    let actions = "select concat(what, ' ', detail->>'project') from audit where what like 'pool.%appro%' order by id";
    let expected = [
        "pool.approve firmware/buoy",
        "pool.approve firmware/buoy",
        "pool.withdraw-approval firmware/buoy",
    ];
    assert_eq!(service.database.texts(actions).await, expected);
}

fn asks_not() -> PoolChange {
    asks(false)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_job_can_be_approved_and_the_next_one_asks_again() {
    let (service, _runner) = asking().await;
    let people = &service.client;
    let (one, other) = (
        service.submit("linux", "true").await,
        service.submit("linux", "true").await,
    );
    service.why_when(&one, Reason::NeedsApproval).await;
    let approval = |job: &str| PoolApproval {
        project: None,
        job: Some(job.to_owned()),
    };
    people
        .approve_use("staithe", &approval(&one))
        .await
        .unwrap();
    assert_eq!(service.done(&one).await.line.result, Some(Outcome::Success));
    service.why_when(&other, Reason::NeedsApproval).await;
    let refused = refusal(people.approve_use("staithe", &approval(&one)).await);
    assert_eq!(
        refused.field.as_deref(),
        Some("job"),
        "it does not wait: {refused:?}"
    );
    let both = PoolApproval {
        project: Some("buoy".into()),
        job: Some(other.clone()),
    };
    for wrong in [PoolApproval::default(), both] {
        let refused = refusal(people.approve_use("staithe", &wrong).await);
        assert_eq!(refused.status, 422);
    }
    // Moved to another band, it stays approved.
    people
        .approve_use("staithe", &approval(&other))
        .await
        .unwrap();
    assert_eq!(
        service.done(&other).await.line.result,
        Some(Outcome::Success)
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn operators_of_the_pools_owner_approve_and_a_project_sees_its_own_approval_only() {
    let (service, _runner) = asking().await;
    let people = &service.client;
    let (name, parent) = ("shore".to_owned(), None);
    people.add_team(&NewTeam { name, parent }).await.unwrap();
    let (name, team) = ("soundings".to_owned(), "shore".to_owned());
    people
        .add_project(&NewProject { name, team })
        .await
        .unwrap();
    let mira = service.with_role("mira", Role::Operator, "firmware").await;
    let teo = service.with_role("teo", Role::Viewer, "shore").await;
    let refused = refusal(mira.approve_use("staithe", &project("firmware/buoy")).await);
    assert_eq!(refused.status, 403);
    let waits = service.submit("linux", "true").await;
    service.why_when(&waits, Reason::NeedsApproval).await;
    let why = mira.why(&waits).await.unwrap();
    let offered: Vec<&str> = why.actions.iter().map(|one| one.message.as_str()).collect();
    assert_eq!(offered, ["Cancel 1 job"]);
    people
        .approve_use("staithe", &project("firmware/buoy"))
        .await
        .unwrap();
    people
        .approve_use("staithe", &project("shore/soundings"))
        .await
        .unwrap();
    assert_eq!(
        mira.pool("staithe").await.unwrap().approved,
        ["firmware/buoy"]
    );
    assert_eq!(
        teo.pool("staithe").await.unwrap().approved,
        ["shore/soundings"]
    );
    // Of projects that are neither visible nor within the pool's reach nothing is said.
    service.add_pool("loft", &[]).await;
    let owner = PoolChange {
        owner: Some("firmware".into()),
        ..PoolChange::default()
    };
    people.change_pool("loft", &owner).await.unwrap();
    let refused = refusal(mira.approve_use("loft", &project("soundings")).await);
    assert_eq!((refused.status, refused.word()), (404, "unknown-project"));
    mira.approve_use("loft", &project("buoy")).await.unwrap();
    // A project that moves stays approved under its new path.
    let change = pennine_wire::PlaceChange {
        parent: Some("shore".into()),
        ..Default::default()
    };
    people.change_place("firmware/buoy", &change).await.unwrap();
    let approved = people.pool("staithe").await.unwrap().approved;
    assert!(approved.contains(&"shore/buoy".to_owned()), "{approved:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn asking_for_approval_shows_beforehand_whose_jobs_would_wait() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let ran = service.submit("linux", "true").await;
    service.done(&ran).await;
    let careful = PoolChange {
        accept_losses: false,
        ..asks(true)
    };
    let refused = refusal(people.change_pool("staithe", &careful).await);
    assert!(refused.detail.contains("firmware/buoy"), "{refused:?}");
    // Approved before, nothing is lost.
    people
        .approve_use("staithe", &project("firmware/buoy"))
        .await
        .unwrap();
    let changed = people.change_pool("staithe", &careful).await.unwrap();
    assert!(changed.done && changed.losses.is_empty());
    let ran = service.submit("linux", "true").await;
    assert!(service.done(&ran).await.line.wait_us > Micros(0));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_projects_view_says_which_pools_it_may_use_and_whom_to_ask_for_the_others() {
    let (service, _runner) = asking().await;
    let people = &service.client;
    let (name, parent) = ("shore".to_owned(), None);
    people.add_team(&NewTeam { name, parent }).await.unwrap();
    service.add_pool("slipway", &["slip"]).await;
    service.add_pool("press", &["plotter"]).await;
    let owned = |owner: &str, widen_to: &[&str]| PoolChange {
        owner: Some(owner.to_owned()),
        widen_to: Some(widen_to.iter().map(|path| (*path).to_owned()).collect()),
        ..PoolChange::default()
    };
    people
        .change_pool("slipway", &owned("shore", &["firmware"]))
        .await
        .unwrap();
    people
        .change_pool("press", &owned("shore", &[]))
        .await
        .unwrap();
    let waits = service.submit("linux", "true").await;
    service.why_when(&waits, Reason::NeedsApproval).await;
    let view = people.project("buoy").await.unwrap();
    let pools: Vec<_> = view
        .pools
        .iter()
        .map(|one| (one.pool.as_str(), one.access, one.by.as_str(), one.waiting))
        .collect();
    let expected = [
        ("slipway", PoolAccess::Widened, "firmware", 0),
        ("staithe", PoolAccess::NeedsApproval, "", 1),
    ];
    assert_eq!((pools.as_slice(), view.waiting), (expected.as_slice(), 1));
    let staithe = &view.pools[1];
    assert_eq!(staithe.ask, "an operator of the root: admin");
    assert!(
        staithe.machines.contains(&"linux".to_owned()),
        "{:?}",
        staithe.machines
    );
    let memory = staithe
        .machines
        .iter()
        .find(|one| one.ends_with(" of memory"));
    assert!(
        memory.is_some_and(|text| text.contains("iB ")),
        "{memory:?}"
    );
    assert_eq!((staithe.free, staithe.slots), (1, 1));
    let others: Vec<_> = view
        .out_of_reach
        .iter()
        .map(|one| (one.pool.as_str(), one.ask.as_str()))
        .collect();
    assert_eq!(others, [("press", "an operator of shore: admin")]);
    // A viewer of the project does not hear of pools elsewhere.
    let teo = service
        .with_role("teo", Role::Viewer, "firmware/buoy")
        .await;
    let view = teo.project("firmware/buoy").await.unwrap();
    assert!(view.out_of_reach.is_empty());
    assert_eq!(refusal(teo.project("shore/soundings").await).status, 404);
}
