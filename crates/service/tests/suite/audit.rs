//! A change and its audit row are one: where the row cannot be written, nothing is changed.

use crate::support::{Runner, Service};
use pennine_core::lifecycle::runner::RunnerState;
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
    || '; runners ' || (select string_agg(name || state || wish || description, ',' order by name) from runner)
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

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_changed_where_its_audit_row_cannot_be_written() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "quay", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let job = service.submit("nowhere", "true").await;
    let target = json!({"name": "prompt", "pool": "quay", "share": 950, "within_us": 60_000_000, "days": 14});
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
    let requests = [
        ("POST", "/teams", json!({"name": "chartroom"})),
        (
            "POST",
            "/projects",
            json!({"name": "charts", "team": "firmware"}),
        ),
        ("PATCH", "/places/firmware", json!({"weight": 7})),
        ("POST", "/pools", json!({"name": "tank"})),
        ("PATCH", "/pools/quay", json!({"labels": ["wet"]})),
        ("POST", "/seats", json!({"name": "bench", "count": 1})),
        ("PATCH", "/seats/licence", json!({"count": 9})),
        ("POST", "/pools/quay/tickets", json!({})),
        ("PATCH", "/targets/prompt", json!({"days": 7})),
        ("DELETE", "/targets/prompt", json!({})),
        ("PATCH", "/listeners/pager", json!({"paused": true})),
        ("POST", "/listeners/pager/renew", json!({})),
        ("DELETE", "/listeners/pager", json!({})),
        ("PATCH", "/alerts/thresholds", json!({"budget_percent": 50})),
        ("PUT", "/runners/fell-01/wish", json!({"wish": "pause"})),
        (
            "PATCH",
            "/runners/fell-01",
            json!({"description": "by the window"}),
        ),
        (
            "POST",
            "/maintenance",
            json!({"runner": "fell-01", "why": "a fan", "length_us": 3_600_000_000_u64}),
        ),
        (
            "POST",
            "/runners/fell-01/retire",
            json!({"force": true, "accept_losses": true}),
        ),
        ("POST", &format!("/jobs/{job}/cancel"), json!({})),
        (
            "POST",
            "/pools/quay/remove",
            json!({"force": true, "accept_losses": true}),
        ),
    ];
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
        let gone = ["/listeners/pager", "/targets/prompt"].contains(path) && status == 404;
        assert!(
            (200..300).contains(&status) || gone,
            "{method} {path}: {status}"
        );
    }
}
