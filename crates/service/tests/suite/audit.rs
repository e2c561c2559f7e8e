//! A change and its audit row are one: where the row cannot be written, nothing is changed.

use crate::support::{Runner, Service, refusal};
use pennine_client::AuditFilter;
use pennine_core::access::Role;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::{AuditEntry, NewJob, NewTeam};
use serde_json::{Value, json};

/// Everything that people can change, as far as these requests do.
const KEPT: &str = "select
    (select string_agg(name, ',' order by name) from pool where removed_at is null)
    || '; places ' || (select string_agg(path || weight, ',' order by path) from place)
    || '; seats ' || (select coalesce(string_agg(name || count, ',' order by name), '') from seat)
    || '; tickets ' || (select count(*) || ',' || count(revoked_at) from ticket)
    || '; targets ' || (select coalesce(string_agg(name || days, ',' order by name), '') from target)
    || '; listeners ' || (select coalesce(string_agg(name || paused, ',' order by name), '') from listener)
    || '; maintenance ' || (select count(*) || ',' || count(ended_at) from maintenance)
    || '; runners ' || (select string_agg(name || state || desired_state || description, ',' order by name) from runner)
    || '; jobs ' || (select coalesce(string_agg(state, ',' order by number), '') from job)
    || '; changes ' || (select count(*) from outbox where kind not in ('strand.reason', 'runner.state', 'job.pending'))";

async fn request(service: &Service, method: &str, path: &str, body: Value) -> u16 {
    let method = method.parse().expect("a method");
    let answer = reqwest::Client::new()
        .request(method, format!("{}/api/v1{path}", service.url))
        .bearer_auth(&service.token)
        .json(&body)
        .send();
    let answer = answer.await.expect("an answer");
    let status = answer.status().as_u16();
    // Shown when the test fails.
    println!("{path}: {status} {}", answer.text().await.expect("a body"));
    status
}

/// Requests that change something, in an order in which each can be made.
fn requests(job: &str) -> Vec<(&'static str, String, Value)> {
    vec![
        ("POST", "/teams".to_owned(), json!({"name": "chartroom"})),
        (
            "POST",
            "/projects".to_owned(),
            json!({"name": "charts", "team": "firmware"}),
        ),
        ("PATCH", "/places/firmware".to_owned(), json!({"weight": 7})),
        ("POST", "/pools".to_owned(), json!({"name": "tank"})),
        (
            "PATCH",
            "/pools/staithe".to_owned(),
            json!({"labels": ["wet"]}),
        ),
        (
            "POST",
            "/seats".to_owned(),
            json!({"name": "bench", "count": 1}),
        ),
        ("PATCH", "/seats/licence".to_owned(), json!({"count": 9})),
        ("POST", "/pools/staithe/tickets".to_owned(), json!({})),
        ("PATCH", "/targets/prompt".to_owned(), json!({"days": 7})),
        ("DELETE", "/targets/prompt".to_owned(), json!({})),
        (
            "PATCH",
            "/listeners/pager".to_owned(),
            json!({"paused": true}),
        ),
        ("POST", "/listeners/pager/renew".to_owned(), json!({})),
        ("DELETE", "/listeners/pager".to_owned(), json!({})),
        (
            "PATCH",
            "/alerts/thresholds".to_owned(),
            json!({"budget_percent": 50}),
        ),
        (
            "PUT",
            "/runners/fell-01/desired-state".to_owned(),
            json!({"desired_state": "pause"}),
        ),
        (
            "PATCH",
            "/runners/fell-01".to_owned(),
            json!({"description": "by the window"}),
        ),
        (
            "POST",
            "/maintenance".to_owned(),
            json!({"runner": "fell-01", "reason": "a fan", "length_us": 3_600_000_000_u64}),
        ),
        (
            "POST",
            "/runners/fell-01/retire".to_owned(),
            json!({"force": true, "accept_losses": true}),
        ),
        (
            "POST",
            "/jobs".to_owned(),
            json!({"project": "buoy", "where": "nowhere", "command": ["true"]}),
        ),
        ("POST", format!("/jobs/{job}/cancel"), json!({})),
        (
            "POST",
            "/pools/staithe/remove".to_owned(),
            json!({"force": true, "accept_losses": true}),
        ),
    ]
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_changed_where_its_audit_row_cannot_be_written() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let job = service.submit("nowhere", "true").await;
    let target = json!({"name": "prompt", "pool": "staithe", "share": 950, "within_us": 60_000_000, "days": 14});
    let listener = json!({"name": "pager", "url": "http://127.0.0.1:9/"});
    let seat = json!({"name": "licence", "count": 3});
    // What can be changed has to be there.
    for (path, body) in [
        ("/targets", &target),
        ("/listeners", &listener),
        ("/seats", &seat),
    ] {
        assert_eq!(
            request(&service, "POST", path, body.clone()).await,
            201,
            "{path}"
        );
    }
    let requests = requests(&job);
    let before = service.database.texts(KEPT).await;
    let database = service.database.connect().await;
    database
        .batch_execute(
            "create function refuse() returns trigger language plpgsql
               as $$ begin raise exception 'no audit'; end $$;
             create trigger refuse before insert on audit for each row execute function refuse()",
        )
        .await
        .unwrap();
    for (method, path, body) in &requests {
        let status = request(&service, method, path, body.clone()).await;
        assert_eq!(status, 500, "{method} {path}");
        assert_eq!(
            service.database.texts(KEPT).await,
            before,
            "{method} {path}"
        );
    }
    // They are refused for that reason alone.
    database
        .batch_execute("drop trigger refuse on audit")
        .await
        .unwrap();
    for (method, path, body) in &requests {
        let status = request(&service, method, path, body.clone()).await;
        let gone =
            ["/listeners/pager", "/targets/prompt"].contains(&path.as_str()) && status == 404;
        assert!(
            (200..300).contains(&status) || gone,
            "{method} {path}: {status}"
        );
    }
}

/// What the audit record holds of an action, as `who subject`, in order.
async fn recorded(service: &Service, what: &str) -> Vec<String> {
    let query =
        format!("select who || ' ' || subject from audit where what = '{what}' order by id");
    service.database.texts(&query).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn submissions_sign_ins_refusals_and_each_of_many_jobs_are_recorded() {
    let service = Service::start().await;
    service.furnish().await;
    let jobs = [
        service.submit("nowhere", "true").await,
        service.submit("nowhere", "true").await,
    ];
    let of_jobs = |who: &str| jobs.each_ref().map(|job| format!("{who} {job}"));
    assert_eq!(recorded(&service, "job.submit").await, of_jobs("admin"));
    let many = json!({"action": "cancel", "team": "firmware"});
    assert_eq!(request(&service, "POST", "/jobs/actions", many).await, 200);
    assert_eq!(recorded(&service, "job.cancel").await, of_jobs("admin"));
    let again = json!({"action": "retry", "jobs": [jobs[0]]});
    assert_eq!(request(&service, "POST", "/jobs/actions", again).await, 200);
    assert_eq!(recorded(&service, "job.retry").await, ["admin j-3"]);

    let session = json!({"token": service.token});
    let http = reqwest::Client::new();
    let url = format!("{}/api/v1/session", service.url);
    let begun = http.post(&url).json(&session).send().await.unwrap();
    let cookie = begun.headers()["set-cookie"].to_str().unwrap().to_owned();
    let cookie = cookie.split(';').next().unwrap_or_default();
    let ended = http
        .delete(&url)
        .header("cookie", cookie)
        .header("sec-fetch-site", "same-origin");
    assert_eq!(ended.send().await.unwrap().status(), 204);
    assert_eq!(recorded(&service, "session.begin").await, ["admin admin"]);
    assert_eq!(recorded(&service, "session.end").await, ["admin admin"]);
    for _ in 0..3 {
        let wrong = http.post(&url).json(&json!({"token": "wrong"}));
        assert_eq!(wrong.send().await.unwrap().status(), 401);
        let foreign = http.delete(&url).header("cookie", cookie);
        assert!(foreign.send().await.unwrap().status().is_client_error());
    }
    assert_eq!(
        recorded(&service, "refused").await,
        [" sign-in with a token"],
        "the same refusal is recorded once a minute"
    );
}

/// The version of the settings of the thing at this path.
async fn settings_version(service: &Service, path: &str) -> Value {
    let (list, name) = path.rsplit_once('/').unwrap();
    let list = match list {
        "/places" => "/teams",
        "/alerts" => path,
        other => other,
    };
    let answer = reqwest::Client::new()
        .get(format!("{}/api/v1{list}", service.url))
        .bearer_auth(&service.token)
        .send();
    let found: Value = answer.await.unwrap().json().await.unwrap();
    let found = match found["items"].as_array() {
        None => &found,
        Some(items) => items
            .iter()
            .find(|one| one["name"] == name)
            .unwrap_or_else(|| panic!("{path}: {found}")),
    };
    found["settings_version"].clone()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_stale_change_is_refused_and_names_who_changed_the_record() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let target = json!({"name": "prompt", "pool": "staithe", "share": 950, "within_us": 60_000_000, "days": 14});
    request(&service, "POST", "/targets", target).await;
    request(
        &service,
        "POST",
        "/seats",
        json!({"name": "licence", "count": 3}),
    )
    .await;
    let listener = json!({"name": "pager", "url": "http://127.0.0.1:9/"});
    request(&service, "POST", "/listeners", listener).await;
    let supplier = json!({"name": "chandler", "kind": "standin-cloud", "settings": {"url": "http://127.0.0.1:9"}, "quota": 3});
    request(&service, "POST", "/suppliers", supplier).await;
    let things = [
        (
            "/places/firmware",
            json!({"weight": 2}),
            json!({"weight": 3}),
        ),
        (
            "/pools/staithe",
            json!({"labels": ["wet"]}),
            json!({"labels": ["dry"]}),
        ),
        ("/seats/licence", json!({"count": 4}), json!({"count": 5})),
        ("/targets/prompt", json!({"days": 7}), json!({"days": 8})),
        ("/runners/fell-01", json!({"slots": 2}), json!({"slots": 3})),
        (
            "/suppliers/chandler",
            json!({"quota": 4}),
            json!({"quota": 5}),
        ),
        (
            "/listeners/pager",
            json!({"paused": true}),
            json!({"paused": false}),
        ),
        (
            "/alerts/thresholds",
            json!({"budget_percent": 60}),
            json!({"budget_percent": 70}),
        ),
    ];
    let http = reqwest::Client::new();
    for (path, first, second) in things {
        let url = format!("{}/api/v1{path}", service.url);
        let read = async || settings_version(&service, path).await;
        let change = async |version: &Value, change: &Value| {
            let version = version.as_str().unwrap();
            let request = http
                .patch(&url)
                .bearer_auth(&service.token)
                .header("if-match", format!("\"{version}\""))
                .json(change);
            let answer = request.send().await.unwrap();
            (
                answer.status().as_u16(),
                answer.json::<Value>().await.unwrap(),
            )
        };
        let before = read().await;
        assert_eq!(change(&before, &first).await.0, 200, "{path}");
        let after = read().await;
        assert_ne!(before, after, "{path}");
        let (status, problem) = change(&before, &second).await;
        assert_eq!(status, 412, "{path}: {problem}");
        assert_eq!(problem["version"], after, "{path}");
        let detail = problem["detail"].as_str().unwrap();
        assert!(
            detail.contains("has changed since you read it, last by admin at"),
            "{detail}"
        );
        assert_eq!(read().await, after, "{path}: nothing was changed");
        assert_eq!(change(&after, &second).await.0, 200, "{path}");
    }
}

/// The entries that a client finds in the audit log, as "who kind place what subject".
async fn found(client: &pennine_client::Client, filter: &AuditFilter) -> Vec<String> {
    let page = client.audit(filter).await.unwrap();
    let lines = page.items.into_iter().map(|entry| {
        let AuditEntry {
            who,
            who_kind,
            place,
            what,
            subject,
            ..
        } = entry;
        format!("{who} {who_kind} {place} {what} {subject}")
    });
    lines.collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_log_says_who_did_what_at_which_place_and_shows_each_their_part() {
    let service = Service::start().await;
    service.furnish().await;
    let admin = &service.client;
    let lead = service.with_role("lead", Role::Admin, "firmware").await;
    let mira = service
        .with_role("mira", Role::Submitter, "firmware/buoy")
        .await;
    let new = NewJob {
        project: "buoy".into(),
        command: vec!["true".into()],
        ..NewJob::default()
    };
    let job = mira.submit(&new, None).await.unwrap().job.name;
    mira.cancel(&job).await.unwrap();
    let refused = mira.remove_place("firmware/buoy").await;
    assert_eq!(refusal(refused).status, 403);
    let (name, parent) = ("shore".into(), None);
    admin.add_team(&NewTeam { name, parent }).await.unwrap();

    let every = AuditFilter::default();
    let submitted = format!("mira token firmware/buoy job.submit {job}");
    let cancelled = format!("mira token firmware/buoy job.cancel {job}");
    let denied = "mira token  refused DELETE /places/firmware%2Fbuoy".to_owned();
    let own = vec![denied, cancelled.clone(), submitted.clone()];
    assert_eq!(found(&mira, &every).await, own, "everybody sees their own");
    let of_firmware = found(&lead, &every).await;
    assert!(of_firmware.contains(&submitted) && of_firmware.contains(&cancelled));
    assert!(
        !of_firmware.iter().any(|line| line.contains("shore")),
        "{of_firmware:?}"
    );
    let all = found(admin, &every).await;
    assert_eq!(all[0], "admin token  team.add shore");
    let filter = |by: &str, of: &str, what: &str| AuditFilter {
        by: Some(by.into()),
        of: Some(of.into()),
        what: Some(what.into()),
        ..AuditFilter::default()
    };
    let jobs = found(admin, &filter("mira", &job.to_uppercase(), "job")).await;
    assert_eq!(jobs, [cancelled, submitted]);
    assert!(found(admin, &filter("mir", "", "")).await.is_empty());

    // Page by page it is the same.
    let mut filter = AuditFilter {
        limit: Some(2),
        ..AuditFilter::default()
    };
    let mut paged = Vec::new();
    loop {
        let page = admin.audit(&filter).await.unwrap();
        paged.extend(page.items.iter().map(|entry| entry.id));
        filter.cursor = page.next;
        if filter.cursor.is_none() {
            break;
        }
    }
    assert_eq!(paged.len(), all.len());
    assert!(paged.is_sorted_by(|a, b| a > b), "{paged:?}");

    // An entry leads to the request in the service's log, and to the address.
    let response = reqwest::Client::new()
        .post(format!("{}/api/v1/teams", service.url))
        .bearer_auth(&service.token)
        .json(&json!({"name": "deck"}))
        .send()
        .await
        .unwrap();
    let id = response.headers()["x-request-id"].to_str().unwrap();
    let last = admin.audit(&every).await.unwrap().items.remove(0);
    assert_eq!(last.request.as_deref(), Some(id));
    assert_eq!(last.address.as_deref(), Some("127.0.0.1"));
}
