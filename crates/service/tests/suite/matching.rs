//! Who runs where, and why not: shares, limits, seats, reach, giving up, and actions on many jobs at once.

use crate::support::{Runner, Service, refusal, until};
use pennine_core::dispatch::{Band, Reason};
use pennine_core::lifecycle::job::{JobState, Outcome};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::time::Micros;
use pennine_core::wait::Span;
use pennine_wire::{
    Action, BulkAction, Job, NewJob, NewPool, NewProject, NewSeat, NewTeam, NewTrial, PlaceChange,
    PoolChange, QueueGroup, SeatChange, TakeBack,
};
use reqwest::Method;
use std::time::Duration;

fn job(project: &str, requirement: &str, script: &str) -> NewJob {
    NewJob {
        project: project.into(),
        requirement: requirement.into(),
        command: ["sh", "-c", script].map(str::to_owned).to_vec(),
        ..NewJob::default()
    }
}

/// Runs until the file is there.
fn held_until(file: &std::path::Path) -> String {
    format!("while [ ! -e {} ]; do sleep 0.02; done", file.display())
}

trait Waiting {
    async fn take(&self, new: NewJob) -> String;
    async fn starts(&self, name: &str) -> Job;
}

impl Waiting for Service {
    async fn take(&self, new: NewJob) -> String {
        self.client.submit(&new, None).await.unwrap().job.name
    }

    async fn starts(&self, name: &str) -> Job {
        self.job_when(name, "starts", |job| job.line.started_at.is_some())
            .await
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_team_limit_is_the_reason_for_a_wait_and_its_remedy_ends_it() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 3).await;
    let limit = |limit| PlaceChange {
        limit: Some(Some(limit)),
        ..PlaceChange::default()
    };
    let set = service.client.change_place("firmware", &limit(1)).await;
    assert_eq!(set.unwrap().limit, Some(1));
    let open = service.shared("open");
    let first = service
        .take(job("firmware/buoy", "", &held_until(&open)))
        .await;
    service.starts(&first).await;
    let second = service.take(job("firmware/buoy", "", "true")).await;
    let why = service.why_when(&second, Reason::TeamLimit).await;
    assert!(
        why.message.contains("firmware uses 1 slot; its limit is 1"),
        "{}",
        why.message
    );
    // The remedy is a request that a client can send unchanged.
    let action = &why.actions[0];
    assert_eq!(action.message, "Raise the limit of firmware to 2");
    let method: Method = action.method.parse().unwrap();
    let sent = reqwest::Client::new()
        .request(method, format!("{}/api/v1{}", service.url, action.path))
        .bearer_auth(&service.token)
        .json(&action.body)
        .send();
    assert_eq!(sent.await.unwrap().status(), 200);
    service.done(&second).await;
    // Nothing starts under a limit of nothing, and taking it away lets everything start.
    service
        .client
        .change_place("firmware", &limit(0))
        .await
        .unwrap();
    let third = service.take(job("firmware/buoy", "", "true")).await;
    service.why_when(&third, Reason::TeamLimit).await;
    let none = PlaceChange {
        limit: Some(None),
        ..PlaceChange::default()
    };
    service
        .client
        .change_place("firmware", &none)
        .await
        .unwrap();
    service.done(&third).await;
    std::fs::write(open, "").unwrap();
    service.done(&first).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn seats_are_counted_drain_when_lowered_and_can_be_taken_back_on_the_record() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 4).await;
    let unknown = NewJob {
        seats: [("licence".to_owned(), 1)].into(),
        ..job("buoy", "", "true")
    };
    let problem = refusal(service.client.submit(&unknown, None).await);
    assert_eq!(problem.field.as_deref(), Some("seats"));
    let licence = NewSeat {
        name: "licence".into(),
        count: 2,
        description: "the cross-compiler".into(),
    };
    service.client.add_seat(&licence).await.unwrap();
    let too_many = NewJob {
        seats: [("licence".to_owned(), 3)].into(),
        ..job("buoy", "", "true")
    };
    let problem = refusal(service.client.submit(&too_many, None).await);
    assert!(problem.detail.contains("1 to 2"));
    let open = service.shared("open");
    let seated = |script: &str| NewJob {
        seats: [("licence".to_owned(), 1)].into(),
        ..job("buoy", "", script)
    };
    let holder = service.take(seated(&held_until(&open))).await;
    service.starts(&holder).await;
    let lowered = SeatChange {
        count: Some(1),
        description: None,
    };
    let seat = service
        .client
        .change_seat("licence", &lowered)
        .await
        .unwrap();
    assert_eq!((seat.count, seat.taken), (1, 1), "nothing was ended");
    let next = service.take(seated("true")).await;
    let why = service.why_when(&next, Reason::SeatTaken).await;
    assert!(
        why.message.contains("1 of 1 licence seats are taken"),
        "{}",
        why.message
    );
    let back = |why: &str| TakeBack {
        job: holder.clone(),
        reason: why.into(),
    };
    let problem = refusal(service.client.take_seat_back("licence", &back(" ")).await);
    assert_eq!(problem.field.as_deref(), Some("reason"));
    let seat = service
        .client
        .take_seat_back("licence", &back("its compiler hangs"))
        .await
        .unwrap();
    let record = seat.holders.iter().find(|one| one.job == holder).unwrap();
    let record = record.taken_back.as_ref().expect("it is on the record");
    assert_eq!(
        (record.by.as_str(), record.reason.as_str()),
        ("admin", "its compiler hangs")
    );
    service.done(&next).await;
    assert_eq!(
        service.client.job(&holder).await.unwrap().line.state,
        JobState::Executing
    );
    let again = service
        .client
        .take_seat_back("licence", &back("again"))
        .await;
    assert_eq!(refusal(again).word(), "wrong-state");
    std::fs::write(open, "").unwrap();
    let job = service.done(&holder).await;
    assert_eq!(job.line.result, Some(Outcome::Success));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn seats_reserved_for_a_job_that_needs_several_name_it() {
    let service = Service::start().await;
    service.furnish().await;
    let licence = NewSeat {
        name: "licence".into(),
        count: 3,
        description: String::new(),
    };
    service.client.add_seat(&licence).await.unwrap();
    let seated = |count: u32, requirement: &str, script: &str| NewJob {
        seats: [("licence".to_owned(), count)].into(),
        ..job("buoy", requirement, script)
    };
    // It waits so long for a machine that it has climbed to the top when the machine comes.
    let patient = service
        .take(seated(3, "runner = \"fell-02\"", "true"))
        .await;
    // They join before, since a machine whose clock is off is refused.
    let mut machines = Vec::new();
    for (name, slots) in [("fell-01", "2"), ("fell-02", "1")] {
        let ticket = service.ticket("staithe").await;
        machines.push(Runner::joined(&[
            "--server",
            &service.url,
            "--ticket",
            &ticket,
            "--name",
            name,
            "--slots",
            slots,
        ]));
    }
    service.clock.advance(Duration::from_secs(16 * 60));
    machines[0].work();
    let open = service.shared("open");
    let holder = service
        .take(seated(1, "runner = \"fell-01\"", &held_until(&open)))
        .await;
    service.starts(&holder).await;
    machines[1].work();
    service.why_when(&patient, Reason::SeatTaken).await;

    let later = service.take(seated(2, "", "true")).await;
    let why = service.why_when(&later, Reason::SeatReserved).await;
    let kept = format!("2 of 3 licence seats are reserved for {patient}, which has waited longer");
    assert!(why.message.contains(&kept), "{}", why.message);
    let is_reserved = |group: &&QueueGroup| group.reason == Reason::SeatReserved;
    let queue = service
        .queue_when(|queue| queue.groups.iter().any(|group| is_reserved(&group)))
        .await;
    let group = queue.groups.iter().find(is_reserved).unwrap();
    assert_eq!(group.cause, "licence");
    assert!(group.strands[0].message.contains(&kept), "{group:?}");
    let seats = service.client.seats().await.unwrap();
    let kept = &seats.items[0].kept_back;
    assert_eq!(
        kept.iter()
            .map(|one| (&one.job, one.count))
            .collect::<Vec<_>>(),
        [(&patient, 3)]
    );

    std::fs::write(open, "").unwrap();
    let first = service.done(&patient).await;
    let second = service.done(&later).await;
    assert!(first.line.started_at < second.line.started_at);
    until("nothing is kept back any more", || async {
        let seats = service.client.seats().await.unwrap();
        seats.items[0].kept_back.is_empty().then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_gives_up_after_its_own_or_its_projects_time_and_at_once_without_any_match() {
    let service = Service::start().await;
    service.furnish().await;
    let patient = NewJob {
        give_up_us: Some(Micros::from(Duration::from_millis(300))),
        ..job("buoy", "arm64", "true")
    };
    let name = service.take(patient).await;
    let done = service.done(&name).await;
    assert_eq!(done.line.result, Some(Outcome::Timeout));
    assert!(
        done.message.as_ref().unwrap().contains("gave up"),
        "{done:?}"
    );
    assert!(done.line.wait_us >= Micros::from(Duration::from_millis(300)));
    let patience = PlaceChange {
        give_up_us: Some(Some(Micros::from(Duration::from_millis(200)))),
        ..PlaceChange::default()
    };
    let place = service
        .client
        .change_place("firmware/buoy", &patience)
        .await;
    assert!(place.unwrap().give_up_us.is_some());
    let name = service.take(job("buoy", "arm64", "true")).await;
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Timeout)
    );
    let hopeless = NewJob {
        fail_unmatched: true,
        give_up_us: Some(Micros::from(Duration::from_secs(3600))),
        ..job("buoy", "no-such-machine", "true")
    };
    let name = service.take(hopeless).await;
    let done = service.done(&name).await;
    assert_eq!(done.line.result, Some(Outcome::Error));
    assert!(done.message.unwrap().contains("no runner satisfies it"));
    let nothing = NewJob {
        give_up_us: Some(Micros(0)),
        ..job("buoy", "", "true")
    };
    let problem = refusal(service.client.submit(&nothing, None).await);
    assert_eq!(problem.field.as_deref(), Some("give_up_us"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn narrowing_a_pool_lists_the_jobs_that_would_lose_their_runners() {
    let service = Service::start().await;
    service.furnish().await;
    let shore = NewTeam {
        name: "shore".into(),
        parent: None,
    };
    service.client.add_team(&shore).await.unwrap();
    let soundings = NewProject {
        name: "soundings".into(),
        team: "shore".into(),
    };
    service.client.add_project(&soundings).await.unwrap();
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service.take(job("shore/soundings", "linux", "true")).await;
    service.done(&name).await;
    let narrow = |preview, accept_losses| PoolChange {
        narrow_to: Some(vec!["firmware".into()]),
        preview,
        accept_losses,
        ..PoolChange::default()
    };
    let seen = service
        .client
        .change_pool("staithe", &narrow(true, false))
        .await
        .unwrap();
    assert!(!seen.done);
    let loss = &seen.losses[0];
    assert_eq!(
        (
            loss.project.as_str(),
            loss.requirement.as_str(),
            loss.waiting,
            loss.recent
        ),
        ("shore/soundings", "linux", 0, 1)
    );
    let problem = refusal(
        service
            .client
            .change_pool("staithe", &narrow(false, false))
            .await,
    );
    assert_eq!(problem.word(), "jobs-would-be-stranded");
    let changed = service
        .client
        .change_pool("staithe", &narrow(false, true))
        .await
        .unwrap();
    assert!(changed.done && changed.pool.narrow_to == ["firmware"]);
    // Denied is explained on the job.
    let name = service.take(job("shore/soundings", "linux", "true")).await;
    let why = service.why_when(&name, Reason::OutOfReach).await;
    assert!(
        why.message.contains("may not use its pool"),
        "{}",
        why.message
    );
    assert_eq!(why.actions[0].message, "Allow the pool staithe");
    assert_eq!(
        why.actions[0].body,
        serde_json::json!({"widen_to": ["shore/soundings"]})
    );
    // Widened again, it starts.
    let widen = PoolChange {
        widen_to: Some(vec!["shore/soundings".into()]),
        ..PoolChange::default()
    };
    service.client.change_pool("staithe", &widen).await.unwrap();
    service.done(&name).await;
    // A label that something asks for is not lost silently either.
    let label = |labels: &[&str]| PoolChange {
        labels: Some(labels.iter().map(|&label| label.to_owned()).collect()),
        ..PoolChange::default()
    };
    service
        .client
        .change_pool("staithe", &label(&["wet"]))
        .await
        .unwrap();
    let name = service.take(job("firmware/buoy", "wet", "true")).await;
    service.done(&name).await;
    let problem = refusal(service.client.change_pool("staithe", &label(&[])).await);
    assert_eq!(problem.word(), "jobs-would-be-stranded");
    // A reach that names an unknown team, or only teams that could never use it, is refused.
    for (only, word) in [("absent", "unknown-team"), ("shore", "")] {
        let change = PoolChange {
            owner: (word.is_empty()).then(|| "firmware".to_owned()),
            narrow_to: Some(vec![only.into()]),
            ..PoolChange::default()
        };
        let problem = refusal(service.client.change_pool("staithe", &change).await);
        assert_eq!(problem.field.as_deref(), Some("narrow_to"), "{problem:?}");
    }
    drop(runner);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_tree_takes_no_cycle_and_loses_no_jobs_and_its_strands_move_along() {
    let service = Service::start().await;
    service.furnish().await;
    let team = |name: &str, parent: Option<&str>| NewTeam {
        name: name.into(),
        parent: parent.map(str::to_owned),
    };
    service
        .client
        .add_team(&team("radio", Some("firmware")))
        .await
        .unwrap();
    service
        .client
        .add_team(&team("chartroom", None))
        .await
        .unwrap();
    let below = |parent: &str| PlaceChange {
        parent: Some(parent.into()),
        ..PlaceChange::default()
    };
    for parent in ["firmware", "firmware/radio"] {
        let problem = refusal(
            service
                .client
                .change_place("firmware", &below(parent))
                .await,
        );
        assert_eq!(problem.field.as_deref(), Some("parent"));
        assert!(problem.detail.contains("cannot contain itself"));
    }
    // A pool of chartroom's is out of the buoy's reach until the buoy is moved there.
    let pool = NewPool {
        name: "loft".into(),
        description: String::new(),
        labels: vec!["loft".into()],
        open: Some(true),
        owner: Some("chartroom".into()),
        ..NewPool::default()
    };
    service.client.add_pool(&pool).await.unwrap();
    let _runner = Runner::working(&service, "loft", "loft-01", 1).await;
    let name = service.take(job("buoy", "loft", "true")).await;
    service.why_when(&name, Reason::OutOfReach).await;
    let problem = refusal(service.client.remove_place("firmware/buoy").await);
    assert_eq!(problem.word(), "not-empty");
    let moved = service
        .client
        .change_place("firmware/buoy", &below("chartroom"))
        .await;
    assert_eq!(moved.unwrap().path, "chartroom/buoy");
    let done = service.done(&name).await;
    assert_eq!(done.line.project, "chartroom/buoy");
    service.client.remove_place("firmware/radio").await.unwrap();
    service.client.remove_place("firmware").await.unwrap();
    let problem = refusal(service.client.remove_place("chartroom").await);
    assert!(problem.detail.contains("1 place"));
}

/// Whether the queue is shown with four jobs, three of which wait for a requirement that nothing satisfies.
fn shows_all_four(queue: &pennine_wire::Queue) -> bool {
    let groups = queue.groups.iter();
    let mut no_match = groups.filter(|group| group.reason == Reason::NoMatch);
    queue.waiting == 4 && no_match.any(|group| group.jobs >= 3)
}

/// How long it would have waited.
fn patience(job: &Job) -> Option<Duration> {
    Some(job.give_up_at?.since(job.ready_at?))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn many_jobs_are_cancelled_moved_and_retried_by_filter() {
    let service = Service::start().await;
    service.furnish().await;
    let act = |action, reason, preview| BulkAction {
        action,
        reason,
        cause: None,
        project: None,
        team: Some("firmware".into()),
        requirement: None,
        jobs: Vec::new(),
        preview,
    };
    let mut names = Vec::new();
    for _ in 0..3 {
        names.push(service.take(job("buoy", "arm64", "exit 3")).await);
    }
    let patient = NewJob {
        give_up_us: Some(Duration::from_secs(3600).into()),
        ..job("buoy", "linux", "exit 3")
    };
    let wanted = service.take(patient).await;
    for name in &names {
        service.why_when(name, Reason::NoMatch).await;
    }
    // By a reason, an action goes by what the leader has shown of the queue.
    service.queue_when(shows_all_four).await;
    let by_requirement = |action, preview| BulkAction {
        requirement: Some("(ARM64)".into()),
        ..act(action, Some(Reason::NoMatch), preview)
    };
    let seen = service
        .client
        .act_on_jobs(&by_requirement(Action::Cancel, true))
        .await
        .unwrap();
    assert_eq!((seen.found, seen.changed), (3, 0));
    let waited_until = service.client.job(&names[0]).await.unwrap().now;
    let moved = service
        .client
        .act_on_jobs(&by_requirement(Action::Urgent, false))
        .await
        .unwrap();
    assert_eq!((moved.found, moved.changed), (3, 3));
    for name in &names {
        let why = service.why_when(name, Reason::NoMatch).await;
        // What it waited for in the band that it left is not forgotten.
        let before = |span: &Span| span.reason == Reason::NoMatch && span.from < waited_until;
        assert!(why.waiting.iter().any(before), "{:?}", why.waiting);
        let job = service.client.job(name).await.unwrap();
        assert_eq!(job.band, Band::Urgent);
    }
    let gone = service
        .client
        .act_on_jobs(&by_requirement(Action::Cancel, false))
        .await
        .unwrap();
    assert_eq!(gone.jobs, names, "the oldest first");
    for name in &names {
        assert_eq!(
            service.done(name).await.line.result,
            Some(Outcome::Cancellation)
        );
    }
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    assert_eq!(
        service.done(&wanted).await.line.result,
        Some(Outcome::Failure)
    );
    let again = BulkAction {
        project: None,
        team: None,
        jobs: vec![wanted.clone()],
        ..act(Action::Retry, None, false)
    };
    let again = service.client.act_on_jobs(&again).await.unwrap();
    assert_eq!(again.changed, 1);
    assert_ne!(again.jobs[0], wanted, "a new job does what the old one did");
    let again = service.done(&again.jobs[0]).await;
    assert_eq!(again.exit_code, Some(3));
    assert_eq!(patience(&again), Some(Duration::from_secs(3600)));
    // By filter only what was not retried yet is retried: pressing twice does it once.
    let failed = |preview| act(Action::Retry, None, preview);
    let first = service.client.act_on_jobs(&failed(false)).await.unwrap();
    assert_eq!(
        first.changed, 4,
        "three cancelled, and the one that failed again"
    );
    for name in &first.jobs {
        let one = service.client.job(name).await.unwrap();
        if one.line.requirement == "arm64" {
            service.client.cancel(name).await.unwrap();
        }
        service.done(name).await;
    }
    let old = service.client.job(&names[0]).await.unwrap();
    assert_eq!(old.retried_as.as_ref(), first.jobs.first());
    let second = service.client.act_on_jobs(&failed(true)).await.unwrap();
    assert_eq!(second.found, 4, "the new ones only: {:?}", second.jobs);
    assert!(first.jobs.iter().all(|name| second.jobs.contains(name)));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_action_on_all_jobs_is_refused() {
    let service = Service::start().await;
    let everything = BulkAction {
        action: Action::Cancel,
        reason: None,
        cause: None,
        project: None,
        team: None,
        requirement: None,
        jobs: Vec::new(),
        preview: false,
    };
    assert_eq!(
        refusal(service.client.act_on_jobs(&everything).await)
            .field
            .as_deref(),
        Some("action")
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_requirement_is_explained_before_a_job_is_submitted() {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let trial = |requirement: &str, project: Option<&str>| NewTrial {
        requirement: requirement.into(),
        project: project.map(str::to_owned),
    };
    let tried = service
        .client
        .try_requirement(&trial("linux and has sh", Some("buoy")))
        .await;
    let tried = tried.map_err(|e| e.to_string());
    let tried = tried.unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(tried.explanation.runners, 1);
    let tried = service
        .client
        .try_requirement(&trial("LINUX", Some("buoy")))
        .await
        .unwrap();
    assert_eq!(tried.requirement, "linux");
    assert_eq!(tried.runners[0].runner, "fell-01");
    assert_eq!(tried.runners[0].free, 2, "{tried:?}");
    assert!(
        tried.message.contains("would start now"),
        "{}",
        tried.message
    );
    let tried = service
        .client
        .try_requirement(&trial("linux and lniux", None))
        .await
        .unwrap();
    assert_eq!(tried.standing.satisfying, 0);
    assert_eq!(tried.explanation.nearest.unwrap().fails, ["lniux"]);
    assert_eq!(tried.hints[0].nearest.as_deref(), Some("linux"));
    service
        .client
        .set_desired_state("fell-01", DesiredState::Pause)
        .await
        .unwrap();
    let tried = service
        .client
        .try_requirement(&trial("linux", Some("buoy")))
        .await
        .unwrap();
    assert!(tried.message.contains("would wait"), "{}", tried.message);
    let problem = refusal(
        service
            .client
            .try_requirement(&trial("linux and and", None))
            .await,
    );
    assert_eq!(problem.column, Some(11));
    let long = "a ".repeat(6000);
    let deep = format!("{}linux{}", "(".repeat(1000), ")".repeat(1000));
    for wrong in [long, deep] {
        let problem = refusal(service.client.try_requirement(&trial(&wrong, None)).await);
        assert_eq!(problem.field.as_deref(), Some("where"));
    }
    drop(runner);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn shares_outlive_a_change_of_leader() {
    let service = Service::start().await;
    service.furnish().await;
    let shore = NewTeam {
        name: "shore".into(),
        parent: None,
    };
    service.client.add_team(&shore).await.unwrap();
    let soundings = NewProject {
        name: "soundings".into(),
        team: "shore".into(),
    };
    service.client.add_project(&soundings).await.unwrap();
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    // Shore has used the machine a little; then both wait behind one job of shore's.
    let name = service.take(job("shore/soundings", "", "sleep 0.3")).await;
    service.done(&name).await;
    let open = service.shared("open");
    let first = service
        .take(job("shore/soundings", "", &held_until(&open)))
        .await;
    service.starts(&first).await;
    let late = service.take(job("shore/soundings", "", "true")).await;
    let early = service.take(job("firmware/buoy", "", "true")).await;
    service.why_when(&early, Reason::AllBusy).await;
    // The state is rebuilt, as a new leader would.
    let pennine_wire::Place { path, .. } = service
        .client
        .change_place(
            "firmware/buoy",
            &PlaceChange {
                parent: Some(String::new()),
                ..PlaceChange::default()
            },
        )
        .await
        .unwrap();
    assert_eq!(path, "buoy");
    std::fs::write(open, "").unwrap();
    let (early, late) = (service.done(&early).await, service.done(&late).await);
    assert!(
        early.line.started_at < late.line.started_at,
        "who used less goes first, although it came later"
    );
}
