//! A long queue: what is shown of it, page by page, and what is done to many jobs at once.

use crate::command_line::prints;
use crate::support::{Service, refusal, until};
use pennine_client::QueueFilter;
use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::bulk::BulkState;
use pennine_wire::{Action, BulkAction, NewJob, NewProject, NewTeam, PlaceChange, Queue};
use std::collections::BTreeSet;

/// Requirements that nothing satisfies, one job each.
const STRANDS: usize = 33;

async fn submit_strands(service: &Service) {
    let project = NewProject {
        name: "barometer".into(),
        team: "firmware".into(),
    };
    service.client.add_project(&project).await.unwrap();
    for n in 0..STRANDS {
        let job = NewJob {
            project: ["firmware/buoy", "firmware/barometer"][n % 2].into(),
            requirement: format!("lab-{n}"),
            command: vec!["true".into()],
            ..NewJob::default()
        };
        service.client.submit(&job, None).await.unwrap();
    }
    let is_whole = |queue: &Queue| {
        let groups: Vec<_> = queue
            .groups
            .iter()
            .map(|one| (one.reason, one.jobs))
            .collect();
        groups == [(Reason::NoMatch, STRANDS as u64)]
    };
    service.queue_when(is_whole).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_long_queue_is_listed_page_by_page_and_narrowed_to_a_project() {
    let service = Service::start().await;
    service.furnish().await;
    submit_strands(&service).await;
    let overview = service.client.queue(&QueueFilter::default()).await.unwrap();
    let group = &overview.groups[0];
    assert_eq!(group.strand_count, STRANDS as u64);
    assert!(group.strands.len() < STRANDS, "an overview names the first");

    let mut filter = QueueFilter {
        reason: Some(Reason::NoMatch),
        limit: Some(10),
        ..QueueFilter::default()
    };
    let (mut listed, mut pages) = (Vec::new(), 0);
    loop {
        let page = service.client.queue(&filter).await.unwrap();
        listed.extend(page.groups.into_iter().flat_map(|group| group.strands));
        pages += 1;
        filter.after = page.next;
        if filter.after.is_none() {
            break;
        }
    }
    let longest: Vec<_> = listed
        .iter()
        .map(|strand| strand.requirement.clone())
        .collect();
    let expected: Vec<_> = (0..STRANDS).map(|n| format!("lab-{n}")).collect();
    assert_eq!(
        (longest, pages),
        (expected, 4),
        "the longest wait first, each once"
    );

    let barometer = QueueFilter {
        project: Some("barometer".into()),
        ..QueueFilter::default()
    };
    let narrowed = service.client.queue(&barometer).await.unwrap();
    assert_eq!(narrowed.waiting, STRANDS as u64 / 2);
    let projects: BTreeSet<_> = narrowed.groups[0]
        .strands
        .iter()
        .map(|one| &*one.project)
        .collect();
    assert_eq!(projects, ["firmware/barometer"].into());
    for (wrong, field) in [
        (
            QueueFilter {
                limit: Some(0),
                ..QueueFilter::default()
            },
            "limit",
        ),
        (
            QueueFilter {
                after: Some("j-1".into()),
                ..QueueFilter::default()
            },
            "after",
        ),
        (
            QueueFilter {
                requirement: Some("linux and".into()),
                ..QueueFilter::default()
            },
            "where",
        ),
    ] {
        let problem = refusal(service.client.queue(&wrong).await);
        assert_eq!(problem.field.as_deref(), Some(field), "{problem:?}");
    }

    let printed = prints(&service, &["queue"]).await;
    assert!(printed.lines().count() < 24, "it fits a screen:\n{printed}");
    assert!(
        printed.contains("and 25 more requirements or projects: pennine queue --reason no-match"),
        "{printed}"
    );
    let list = prints(&service, &["queue", "--reason", "no-match", "--limit", "5"]).await;
    let next = list.rsplit("--after ").next().unwrap().trim();
    let rest = prints(
        &service,
        &["queue", "--reason", "no-match", "--after", next],
    )
    .await;
    assert!(rest.contains("lab-5") && !rest.contains("lab-4:"), "{rest}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_new_leader_shows_the_whole_queue_and_nothing_that_an_earlier_one_left() {
    let service = Service::start().await;
    service.furnish().await;
    submit_strands(&service).await;
    let stale = "with line as (
                   insert into waiting_line (strand_id, part, epoch, project_id, requirement, reason, cause, jobs, oldest, first, place)
                   select id, 5, -1, project_id, 'left', 'offline', '', 7, now(), 1, 0 from strand limit 1)
                 insert into waiting_group (project_id, reason, cause, jobs, strands, oldest)
                   select id, 'offline', '', 7, 1, now() from place where path = 'firmware/buoy'
                 returning reason";
    assert_eq!(service.database.texts(stale).await, ["offline"]);
    let queue = service.queue_when(|queue| queue.groups.len() == 2).await;
    assert_eq!(queue.waiting, STRANDS as u64 + 7);
    // Where the tree changes, the state is rebuilt, as by a new leader.
    let shore = NewTeam {
        name: "shore".into(),
        parent: None,
    };
    service.client.add_team(&shore).await.unwrap();
    let moved = PlaceChange {
        parent: Some("shore".into()),
        ..PlaceChange::default()
    };
    service
        .client
        .change_place("firmware/buoy", &moved)
        .await
        .unwrap();
    let queue = service
        .queue_when(|queue| queue.waiting == STRANDS as u64)
        .await;
    assert_eq!(queue.groups.len(), 1, "{queue:?}");
    let left = "select requirement from waiting_line where requirement = 'left'";
    assert_eq!(service.database.texts(left).await, Vec::<String>::new());
}

/// More jobs than one request changes.
const MANY: usize = 520;

async fn submit_many(service: &Service, requirement: &str) {
    for _ in 0..MANY / 20 {
        let jobs = (0..20).map(|_| service.submit(requirement, "true"));
        futures::future::join_all(jobs).await;
    }
    let is_whole = |queue: &Queue| queue.waiting >= MANY as u64;
    service.queue_when(is_whole).await;
}

fn cancel_all(requirement: &str) -> BulkAction {
    BulkAction {
        action: Action::Cancel,
        reason: None,
        cause: None,
        project: None,
        team: None,
        requirement: Some(requirement.to_owned()),
        jobs: Vec::new(),
        preview: false,
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn more_jobs_than_one_request_changes_are_cancelled_in_the_background() {
    let service = Service::start().await;
    service.furnish().await;
    submit_many(&service, "lab-7").await;
    let other = service.submit("lab-8", "true").await;
    let result = service.client.act_on_jobs(&cancel_all("lab-7")).await;
    let result = result.unwrap();
    assert_eq!((result.found, result.changed), (MANY as u64, 0));
    let name = result.background.expect("it goes on in the background");
    let done = until("the action has ended", async || {
        let progress = service.client.job_action(&name).await.unwrap();
        progress.ended_at.is_some().then_some(progress)
    })
    .await;
    assert_eq!(done.state, BulkState::Done);
    assert_eq!(
        (done.found, done.handled, done.changed),
        (Some(520), 520, 520)
    );
    let queue = service.queue_when(|queue| queue.waiting == 1).await;
    assert_eq!(queue.groups[0].strands[0].first, other);
    let listed = prints(&service, &["queue", "actions"]).await;
    assert!(listed.contains("cancel --where lab-7"), "{listed}");
    let audited =
        "select count(*)::text from audit where what = 'job.cancel' and detail->>'action' = 'b-1'";
    assert_eq!(service.database.texts(audited).await, ["520"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_action_in_the_background_is_stopped_once_and_keeps_what_it_has_changed() {
    let service = Service::start().await;
    service.furnish().await;
    submit_many(&service, "lab-7").await;
    let result = service.client.act_on_jobs(&cancel_all("lab-7")).await;
    let name = result.unwrap().background.unwrap();
    let stopped = service.client.stop_job_action(&name).await.unwrap();
    assert_eq!(stopped.state, BulkState::Stopped);
    let problem = refusal(service.client.stop_job_action(&name).await);
    assert_eq!(problem.status, 409, "{problem:?}");
    let left = MANY as u64 - stopped.changed;
    service.queue_when(|queue| queue.waiting == left).await;
    let after = service.client.job_action(&name).await.unwrap();
    assert_eq!(after.changed, stopped.changed);
}
