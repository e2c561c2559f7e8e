//! Roles at places, and the tokens that carry them.

use crate::support::{Service, refusal, until};
use pennine_client::{Client, JobListFilter, QueueFilter, Route, TrendFilter};
use pennine_core::access::{Purpose, Role};
use pennine_core::alert::AlertKind;
use pennine_core::lifecycle::job::JobState;
use pennine_core::time::Micros;
use pennine_wire::{
    Action, BulkAction, MadeToken, NewJob, NewPool, NewProject, NewTeam, NewTicket, NewToken,
    NewVariable, Page, PlaceChange, PoolRemoval, RunnerChange, Token, TokenChange, TokenRotation,
};
use std::time::Duration;

/// The page whose end is the table; `UPDATE=1` rewrites it.
const PAGE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/access.md");

#[test]
fn the_page_about_access_ends_with_the_table_of_all_actions() {
    let page = std::fs::read_to_string(PAGE).unwrap();
    let table = pennine_core::access::table();
    let text = page.split("| action |").next().unwrap_or_default();
    let expected = format!("{text}{table}");
    if std::env::var_os("UPDATE").is_some() {
        std::fs::write(PAGE, &expected).unwrap();
    }
    assert_eq!(page, expected, "rewrite it with UPDATE=1");
}

fn client(service: &Service, secret: &str) -> Client {
    Client::new(&service.url, secret, &Route::default()).unwrap()
}

fn job(project: &str) -> NewJob {
    NewJob {
        project: project.into(),
        command: vec!["true".into()],
        ..NewJob::default()
    }
}

fn token(name: &str, role: Role, place: &str) -> NewToken {
    NewToken {
        name: name.into(),
        role,
        place: place.into(),
        purpose: None,
        lifetime_us: None,
        is_own: false,
    }
}

/// A second team, with a project and a pool.
async fn furnish_shore(service: &Service) {
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
    let jetty = NewPool {
        name: "jetty".into(),
        owner: Some("shore".into()),
        ..NewPool::default()
    };
    service.client.add_pool(&jetty).await.unwrap();
}

fn bulk(action: Action, team: Option<&str>, jobs: &[&str]) -> BulkAction {
    BulkAction {
        action,
        reason: None,
        cause: None,
        project: None,
        team: team.map(str::to_owned),
        requirement: (team.is_none() && jobs.is_empty()).then(|| "nowhere".to_owned()),
        jobs: jobs.iter().map(|job| (*job).to_owned()).collect(),
        preview: false,
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_submitter_of_a_team_submits_and_cancels_the_teams_jobs_alone() {
    let service = Service::start().await;
    furnish_shore(&service).await;
    let theirs = service
        .client
        .submit(&job("soundings"), None)
        .await
        .unwrap();
    let theirs = theirs.job.name;
    let mira = service.with_role("mira", Role::Submitter, "firmware").await;
    let own = mira
        .submit(&job("firmware/buoy"), None)
        .await
        .unwrap()
        .job
        .name;
    for refused in [
        refusal(mira.act_on_jobs(&bulk(Action::Cancel, None, &[])).await),
        refusal(mira.add_ticket("staithe", &NewTicket::default()).await),
        refusal(
            mira.add_token(&token("more", Role::Viewer, "firmware"))
                .await,
        ),
    ] {
        assert_eq!(
            (refused.status, refused.word()),
            (403, "role-needed"),
            "{refused:?}"
        );
    }
    // What is not hers to see does not exist for her.
    let unknown = refusal(mira.submit(&job("shore/soundings"), None).await);
    assert_eq!((unknown.status, unknown.word()), (404, "unknown-project"));
    let unknown = bulk(Action::Urgent, Some("shore"), &[]);
    let unknown = refusal(mira.act_on_jobs(&unknown).await);
    assert_eq!((unknown.status, unknown.word()), (404, "unknown-team"));
    for hidden in [
        refusal(mira.cancel(&theirs).await),
        refusal(mira.job(&theirs).await),
        refusal(mira.why(&theirs).await),
        refusal(mira.log(&theirs, None, 0, Micros(0)).await),
        refusal(mira.log_lines(&theirs, 0, 10).await),
        refusal(
            mira.act_on_jobs(&bulk(Action::Cancel, None, &[&own, &theirs]))
                .await,
        ),
    ] {
        assert_eq!(
            (hidden.status, hidden.word()),
            (404, "unknown-job"),
            "{hidden:?}"
        );
    }
    let seen = mira
        .jobs(&JobListFilter::default(), None, 10)
        .await
        .unwrap()
        .items;
    let seen: Vec<&str> = seen.iter().map(|job| job.name.as_str()).collect();
    assert_eq!(seen, [own.as_str()]);
    mira.why(&own).await.unwrap();
    // Nor do the queue and the status count it.
    service.queue_when(|queue| queue.waiting == 2).await;
    let queue = mira.queue(&QueueFilter::default()).await.unwrap();
    let projects: Vec<&str> = queue
        .groups
        .iter()
        .flat_map(|group| &group.strands)
        .map(|strand| strand.project.as_str())
        .collect();
    assert_eq!((queue.waiting, projects), (1, vec!["firmware/buoy"]));
    // Remedies are the ones that her role permits.
    let offered = |queue: &pennine_wire::Queue| -> Vec<String> {
        let strands = queue.groups.iter().flat_map(|group| &group.strands);
        let actions = strands.flat_map(|strand| &strand.actions);
        actions.map(|action| action.message.clone()).collect()
    };
    assert_eq!(offered(&queue), ["Cancel 1 job"]);
    let teo = service.with_role("teo", Role::Viewer, "firmware").await;
    let queue = teo.queue(&QueueFilter::default()).await.unwrap();
    assert_eq!(offered(&queue), [""; 0]);
    assert!(teo.why(&own).await.unwrap().actions.is_empty());
    assert_eq!(mira.status().await.unwrap().waiting, 1);
    assert_eq!(service.client.status().await.unwrap().waiting, 2);
    let refused = refusal(
        mira.add_token(&token("more", Role::Viewer, "firmware"))
            .await,
    );
    assert_eq!(
        refused.detail,
        "this needs the role admin at firmware; the token \"mira\" has submitter there"
    );
    let waiting = service.client.job(&theirs).await.unwrap();
    assert!(waiting.line.result.is_none(), "it was not cancelled");
    let cancelled = mira
        .act_on_jobs(&bulk(Action::Cancel, Some("firmware"), &[]))
        .await;
    assert_eq!(cancelled.unwrap().changed, 1);
    let by = service
        .database
        .texts("select who from audit where what in ('job.submit', 'job.cancel') order by id")
        .await;
    assert_eq!(by, ["admin", "mira", "mira"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_operator_of_a_team_manages_its_pools_and_no_others() {
    let service = Service::start().await;
    furnish_shore(&service).await;
    let runner = crate::support::Runner::working(&service, "staithe", "fell-01", 1).await;
    service
        .runner_when(
            "fell-01",
            pennine_core::lifecycle::runner::RunnerState::Available,
        )
        .await;
    let ola = service.with_role("ola", Role::Operator, "shore").await;
    ola.add_ticket("jetty", &NewTicket::default())
        .await
        .unwrap();
    let own = |owner: &str, name: &str| NewPool {
        name: name.into(),
        owner: Some(owner.into()),
        ..NewPool::default()
    };
    ola.add_pool(&own("shore/soundings", "skiff"))
        .await
        .unwrap();
    ola.remove_pool("skiff", &PoolRemoval::default())
        .await
        .unwrap();
    let slots = RunnerChange {
        slots: Some(Some(3)),
        ..RunnerChange::default()
    };
    let weight = PlaceChange {
        weight: Some(7),
        ..PlaceChange::default()
    };
    ola.change_place("shore/soundings", &weight).await.unwrap();
    for refused in [
        refusal(ola.change_place("shore", &weight).await),
        refusal(ola.add_pool(&own("", "quarry")).await),
        // A pool of the root, which shore may use and therefore sees.
        refusal(ola.add_ticket("staithe", &NewTicket::default()).await),
        refusal(ola.change_runner("fell-01", &slots).await),
        refusal(ola.remove_pool("staithe", &PoolRemoval::default()).await),
    ] {
        assert_eq!(
            (refused.status, refused.word()),
            (403, "role-needed"),
            "{refused:?}"
        );
    }
    let hidden = refusal(ola.add_pool(&own("firmware", "quarry")).await);
    assert_eq!((hidden.status, hidden.word()), (404, "unknown-team"));
    drop(runner);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_administrator_of_a_team_gives_no_more_than_they_have_and_sees_no_other_tokens() {
    let service = Service::start().await;
    furnish_shore(&service).await;
    let lead = service.with_role("lead", Role::Admin, "firmware").await;
    service.with_role("ola", Role::Operator, "shore").await;
    lead.add_token(&token("mira", Role::Submitter, "firmware/buoy"))
        .await
        .unwrap();
    let refused = refusal(lead.add_token(&token("more", Role::Viewer, "")).await);
    assert_eq!((refused.status, refused.word()), (403, "role-needed"));
    let hidden = refusal(lead.add_token(&token("more", Role::Viewer, "shore")).await);
    assert_eq!((hidden.status, hidden.word()), (404, "unknown-place"));
    let seen: Vec<String> = lead
        .tokens(None)
        .await
        .unwrap()
        .items
        .into_iter()
        .map(|one| one.name)
        .collect();
    assert_eq!(seen, ["lead", "mira"]);
    for hidden in ["ola", "admin", "unknown"] {
        let refused = refusal(lead.revoke_token(hidden).await);
        assert_eq!((refused.status, refused.word()), (404, "unknown-token"));
    }
    let taken = refusal(
        lead.add_token(&token("mira", Role::Viewer, "firmware"))
            .await,
    );
    assert_eq!((taken.status, taken.word()), (409, "exists-already"));
    lead.revoke_token("mira").await.unwrap();
    lead.add_token(&token("mira", Role::Viewer, "firmware"))
        .await
        .unwrap();
    let states = service.client.tokens(None).await.unwrap().items;
    let states: Vec<(&str, &str)> = states
        .iter()
        .map(|one| (one.name.as_str(), one.state.as_str()))
        .collect();
    assert_eq!(
        states,
        [
            ("admin", "valid"),
            ("lead", "valid"),
            ("mira", "valid"),
            ("ola", "valid"),
            ("mira", "revoked")
        ]
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_token_is_changed_by_those_who_could_add_it_before_and_after() {
    let service = Service::start().await;
    service.furnish().await;
    let (name, parent) = ("shore".into(), None);
    let team = NewTeam { name, parent };
    service.client.add_team(&team).await.unwrap();
    let lead = service.with_role("lead", Role::Admin, "firmware").await;
    let new = token("deploy", Role::Operator, "firmware/buoy");
    let secret = lead.add_token(&new).await.unwrap().secret;
    let deploy = client(&service, &secret);
    let change = |role, place: &str| TokenChange {
        role: Some(role),
        place: Some(place.to_owned()),
        ..TokenChange::default()
    };
    // Neither at another place, nor out of reach.
    let refused = refusal(
        lead.change_token("deploy", &change(Role::Viewer, "shore"))
            .await,
    );
    assert_eq!((refused.status, refused.word()), (404, "unknown-place"));
    let refused = refusal(lead.change_token("deploy", &change(Role::Viewer, "")).await);
    assert_eq!((refused.status, refused.word()), (403, "role-needed"));
    let refused = refusal(
        deploy
            .change_token("deploy", &change(Role::Admin, "firmware/buoy"))
            .await,
    );
    assert_eq!((refused.status, refused.word()), (403, "role-needed"));
    let refused = refusal(lead.change_token("admin", &TokenChange::default()).await);
    assert_eq!((refused.status, refused.word()), (404, "unknown-token"));

    let smaller = TokenChange {
        purpose: Some(Some(Purpose::Submit)),
        lifetime_us: Some(Micros::from(Duration::from_secs(5 * 86_400))),
        ..change(Role::Submitter, "firmware")
    };
    let changed = lead.change_token("deploy", &smaller).await.unwrap();
    assert_eq!(
        (changed.role, changed.place.as_str(), changed.purpose),
        (Role::Submitter, "firmware", Some(Purpose::Submit))
    );
    let left = changed.expires_at.unwrap().since(changed.renewed_at);
    assert_eq!(left, Duration::from_secs(5 * 86_400));
    // Its secret is the same, and permits what it permits now, at once.
    deploy.submit(&job("buoy"), None).await.unwrap();
    let variable = NewVariable {
        place: "firmware".into(),
        name: "CC".into(),
        ..NewVariable::default()
    };
    let refused = refusal(deploy.set_variable(&variable).await);
    assert_eq!(refused.status, 403);
    let unlimited = TokenChange {
        purpose: Some(None),
        ..TokenChange::default()
    };
    let changed = lead.change_token("deploy", &unlimited).await.unwrap();
    assert_eq!((changed.role, changed.purpose), (Role::Submitter, None));

    service.clock.advance(Duration::from_secs(3 * 86_400));
    let over = TokenChange {
        lifetime_us: Some(Micros::from(Duration::from_secs(86_400))),
        ..TokenChange::default()
    };
    let refused = refusal(lead.change_token("deploy", &over).await);
    assert_eq!(
        (refused.status, refused.field.as_deref()),
        (422, Some("lifetime_us"))
    );
    let audit = "select detail->'after'->>'role' || ' ' || (detail->'after'->>'place') from audit
                 where what = 'token.change' order by id";
    let audit = service.database.texts(audit).await;
    assert_eq!(audit, ["submitter firmware", "submitter firmware"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_list_of_tokens_is_of_what_one_manages_and_has_pages() {
    let service = Service::start().await;
    service.furnish().await;
    for number in 0..6 {
        let place = ["", "firmware"][number % 2];
        let new = token(&format!("robot-{number}"), Role::Viewer, place);
        service.client.add_token(&new).await.unwrap();
    }
    service.client.revoke_token("robot-1").await.unwrap();
    let lead = token("lead", Role::Admin, "firmware");
    let lead = service.client.add_token(&lead).await.unwrap().secret;
    let asked = |secret: &str, query: &str| {
        let url = format!("{}/api/v1/tokens?{query}", service.url);
        reqwest::Client::new().get(url).bearer_auth(secret).send()
    };
    let names = async |secret: &str, query: &str| {
        let (mut names, mut after) = (Vec::new(), String::new());
        loop {
            let answer = asked(secret, &format!("{query}{after}")).await.unwrap();
            let page: Page<Token> = answer.json().await.unwrap();
            names.extend(page.items.into_iter().map(|token| token.name));
            match page.next {
                Some(next) => after = format!("&after={next}"),
                None => return names,
            }
        }
    };
    assert_eq!(
        names(&lead, "limit=2").await,
        ["lead", "robot-3", "robot-5", "robot-1"]
    );
    assert_eq!(names(&lead, "search=ROBOT-3").await, ["robot-3"]);
    let all = names(&service.token, "limit=1&search=viewer").await;
    let expected = [
        "robot-0", "robot-2", "robot-3", "robot-4", "robot-5", "robot-1",
    ];
    assert_eq!(all, expected);
    for wrong in ["limit=0", "limit=1001", "after=robot-1", "after=0:x:robot"] {
        let answer = asked(&service.token, wrong).await.unwrap();
        assert_eq!(answer.status(), 422, "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_token_is_limited_to_its_purpose() {
    let service = Service::start().await;
    service.furnish().await;
    let limited = NewToken {
        purpose: Some(Purpose::RunnerTickets),
        ..token("provisioning", Role::Operator, "")
    };
    let made = service.client.add_token(&limited).await.unwrap();
    let provisioning = client(&service, &made.secret);
    provisioning
        .add_ticket("staithe", &NewTicket::default())
        .await
        .unwrap();
    let refused = refusal(provisioning.submit(&job("buoy"), None).await);
    assert_eq!((refused.status, refused.word()), (403, "role-needed"));
    let metrics = NewToken {
        purpose: Some(Purpose::Metrics),
        ..token("monitoring", Role::Viewer, "")
    };
    let metrics = service.client.add_token(&metrics).await.unwrap();
    let refused_status = refusal(client(&service, &metrics.secret).status().await);
    assert_eq!(refused_status.status, 403);
    let read = reqwest::Client::new()
        .get(format!("{}/metrics", service.url))
        .bearer_auth(&metrics.secret);
    assert_eq!(read.send().await.unwrap().status(), 200);
    assert!(
        refused.detail.contains("limited to runner-tickets"),
        "{}",
        refused.detail
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_token_rotates_with_an_overlap_and_is_refused_once_it_is_revoked_or_expired() {
    let service = Service::start().await;
    service.furnish().await;
    let day = Micros::from(Duration::from_secs(86_400));
    let new = NewToken {
        lifetime_us: Some(day),
        ..token("deploy", Role::Submitter, "firmware")
    };
    let first = service.client.add_token(&new).await.unwrap();
    let deploy = client(&service, &first.secret);
    // It may rotate itself, although it manages no access.
    let overlap = Micros::from(Duration::from_secs(3600));
    let rotation = TokenRotation {
        overlap_us: Some(overlap),
        lifetime_us: None,
    };
    let second = deploy.rotate_token("deploy", &rotation).await.unwrap();
    let rotated = client(&service, &second.secret);
    deploy
        .status()
        .await
        .expect("the present secret stays valid");
    rotated.status().await.expect("so is the new one");
    let length = |made: &MadeToken| made.token.expires_at.unwrap().since(made.token.created_at);
    assert!(
        length(&second) >= Duration::from(day),
        "it is valid as long as before, from now"
    );
    let is_refused = async |client: &Client| {
        let refused = client.status().await.err()?;
        (refused.problem()?.status == 401).then_some(())
    };
    service.clock.advance(Duration::from_secs(3601));
    until("the first secret is refused", || is_refused(&deploy)).await;
    rotated.status().await.unwrap();
    until("its use is recorded", async || {
        let tokens = service.client.tokens(None).await.unwrap().items;
        let token = tokens.into_iter().find(|one| one.name == "deploy")?;
        (token.last_used_from.as_deref() == Some("127.0.0.1") && token.previous_until.is_none())
            .then_some(())
    })
    .await;

    until("its expiry raises an alert", async || {
        let alerts = service.client.alerts(false).await.unwrap().items;
        let alert = alerts
            .into_iter()
            .find(|one| one.kind == AlertKind::TokenExpiring)?;
        assert!(
            alert
                .message
                .starts_with("Token deploy is in use and expires on "),
            "{}",
            alert.message
        );
        assert_eq!(
            alert.about.remedy,
            "give it another secret, and its programs that one: pennine token rotate deploy"
        );
        Some(())
    })
    .await;

    service.client.revoke_token("deploy").await.unwrap();
    until("the revoked token is refused", || is_refused(&rotated)).await;
    let third = service.client.add_token(&new).await.unwrap();
    let third = client(&service, &third.secret);
    third.status().await.unwrap();
    service.clock.advance(Duration::from_secs(86_401));
    until("the expired token is refused", || is_refused(&third)).await;
    let too_long = NewToken {
        lifetime_us: Some(Micros::from(Duration::from_secs(400 * 86_400))),
        ..token("forever", Role::Viewer, "")
    };
    let refused = refusal(service.client.add_token(&too_long).await);
    assert_eq!(refused.field.as_deref(), Some("lifetime_us"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn users_of_a_shared_pool_see_its_runners_and_count_the_jobs_of_others_without_names() {
    let service = Service::start().await;
    furnish_shore(&service).await;
    let _runner = crate::support::Runner::working(&service, "staithe", "fell-01", 2).await;
    let mira = service.with_role("mira", Role::Viewer, "firmware").await;
    let long = |project: &str, title: &str| NewJob {
        title: Some(title.into()),
        command: vec!["sleep".into(), "300".into()],
        ..job(project)
    };
    let mut names = Vec::new();
    for (project, title) in [("shore/soundings", "sweep"), ("firmware/buoy", "solder")] {
        let job = service.client.submit(&long(project, title), None).await;
        let job = job.unwrap().job.name;
        let executes = |job: &pennine_wire::Job| job.line.state == JobState::Executing;
        service.job_when(&job, "executing", executes).await;
        names.push(job);
    }
    let runner = mira.runner("fell-01").await.unwrap();
    let seen: Vec<&str> = runner
        .executing
        .iter()
        .map(|one| one.job.as_str())
        .collect();
    assert_eq!((runner.used, seen), (2, vec![names[1].as_str()]));
    let time = mira.runner_time(&["fell-01"], 1).await.unwrap().items;
    let mut spans: Vec<(&str, &str)> = time
        .iter()
        .flat_map(|one| one.lanes.iter().flatten())
        .map(|span| (span.job.as_str(), span.title.as_str()))
        .collect();
    spans.sort_unstable();
    assert_eq!(spans, [("", ""), (names[1].as_str(), "solder")]);
    let pools: Vec<String> = mira
        .pools()
        .await
        .unwrap()
        .items
        .into_iter()
        .map(|one| one.name)
        .collect();
    assert_eq!(pools, ["staithe"], "jetty is shore's own");
    until("the samples count both jobs", async || {
        let level = mira.skyline().await.unwrap().level;
        (level.executing == 2).then_some(())
    })
    .await;
    // Trends and metrics are of her own projects.
    let trends = mira.trends(&TrendFilter::default()).await.unwrap();
    let all = service
        .client
        .trends(&TrendFilter::default())
        .await
        .unwrap();
    assert_eq!((trends.whole.wait.count, all.whole.wait.count), (1, 2));
    assert!(
        trends.answer.contains("the projects that you see"),
        "{}",
        trends.answer
    );
    let by_runner = TrendFilter {
        runner: Some("fell-01".into()),
        ..TrendFilter::default()
    };
    let refused = refusal(mira.trends(&by_runner).await);
    assert_eq!((refused.status, refused.word()), (403, "role-needed"));
    let purpose = NewToken {
        purpose: Some(Purpose::Metrics),
        ..token("scraper", Role::Viewer, "firmware")
    };
    let scraper = service.client.add_token(&purpose).await.unwrap().secret;
    let metrics = reqwest::Client::new()
        .get(format!("{}/metrics", service.url))
        .bearer_auth(&scraper);
    let metrics = metrics.send().await.unwrap().text().await.unwrap();
    assert!(metrics.contains("firmware/buoy"), "{metrics}");
    for hidden in ["soundings", "staithe", "jetty"] {
        assert!(!metrics.contains(hidden), "{hidden} in {metrics}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_stream_of_events_carries_what_may_be_seen() {
    let service = Service::start().await;
    furnish_shore(&service).await;
    let made = service
        .client
        .add_token(&token("mira", Role::Viewer, "firmware"))
        .await
        .unwrap();
    let stream = reqwest::Client::new()
        .get(format!("{}/api/v1/events", service.url))
        .bearer_auth(&made.secret);
    let mut stream = stream.send().await.unwrap();
    let weight = PlaceChange {
        weight: Some(3),
        ..PlaceChange::default()
    };
    let mut hidden = Vec::new();
    for _ in 0..3 {
        let theirs = service.client.submit(&job("shore/soundings"), None).await;
        hidden.push(theirs.unwrap().job.id.to_string());
    }
    service.client.change_place("shore", &weight).await.unwrap();
    let own = service.client.submit(&job("firmware/buoy"), None).await;
    let own = own.unwrap().job.id.to_string();
    let mut text = String::new();
    while !text.contains(&own) {
        let chunk = tokio::time::timeout(Duration::from_secs(90), stream.chunk()).await;
        let chunk = chunk
            .expect("the change of her own job arrives")
            .unwrap()
            .expect("the stream goes on");
        text += &String::from_utf8_lossy(&chunk);
    }
    hidden.push("shore".to_owned());
    for hidden in hidden {
        assert!(!text.contains(&hidden), "{hidden} in {text}");
    }
    service.client.revoke_token("mira").await.unwrap();
    let ended = async { while let Ok(Some(_)) = stream.chunk().await {} };
    tokio::time::timeout(Duration::from_secs(90), ended)
        .await
        .expect("the stream ends once the token is revoked");
}
