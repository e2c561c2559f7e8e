//! The HTTP interface itself.

use crate::support::{Service, refusal};
use pennine_client::JobListFilter;
use pennine_wire::{NewJob, Problem};
use reqwest::{Method, Response, StatusCode, header};
use serde_json::json;
use std::time::Duration;

async fn problem(response: Response, status: u16, word: &str) -> Problem {
    assert_eq!(response.status(), status, "{word}");
    let kind = response.headers()[header::CONTENT_TYPE]
        .to_str()
        .unwrap()
        .to_owned();
    assert_eq!(kind, "application/problem+json");
    let id = response.headers()["x-request-id"]
        .to_str()
        .unwrap()
        .to_owned();
    let problem: Problem = response.json().await.expect("a problem");
    assert_eq!((problem.word(), problem.status), (word, status));
    assert_eq!(
        problem.instance.as_deref(),
        Some(id.as_str()),
        "the problem names the request"
    );
    problem
}

fn some_job() -> NewJob {
    NewJob {
        project: "buoy".into(),
        command: vec!["true".into()],
        ..NewJob::default()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_path_of_the_description_needs_a_token_and_says_so_with_a_problem() {
    let service = Service::start().await;
    let http = reqwest::Client::new();
    let description = serde_json::to_value(pennined::http::openapi()).unwrap();
    assert!(description["openapi"].as_str().unwrap().starts_with("3.1"));
    let (mut asked, mut open) = (0, Vec::new());
    for (path, methods) in description["paths"].as_object().unwrap() {
        for (method, operation) in methods.as_object().unwrap() {
            if operation["security"] == json!([{}]) {
                open.push(operation["operationId"].as_str().unwrap().to_owned());
                continue;
            }
            let url = format!("{}{}", service.url, path.replace(['{', '}'], ""));
            let method: Method = method.to_uppercase().parse().unwrap();
            problem(
                http.request(method, url).send().await.unwrap(),
                401,
                "not-signed-in",
            )
            .await;
            asked += 1;
        }
    }
    assert!(asked > 15, "{asked} calls were tried");
    assert_eq!(
        open,
        ["sign_in", "show_link", "use_link", "show_sign_in_options"]
    );
}

/// A browser sends the cookie along with requests that another site's page makes.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_write_that_another_site_makes_with_the_cookie_is_refused() {
    let service = Service::start().await;
    let http = reqwest::Client::new();
    let signed = http
        .post(format!("{}/api/v1/session", service.url))
        .json(&json!({"token": service.token}));
    let signed = signed.send().await.unwrap();
    let cookie = signed.headers()[header::SET_COOKIE].to_str().unwrap();
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let description = serde_json::to_value(pennined::http::openapi()).unwrap();
    let mut refused = 0;
    for (path, methods) in description["paths"].as_object().unwrap() {
        for (method, operation) in methods.as_object().unwrap() {
            let is_open = operation["security"] == json!([{}]);
            if method == "get" || is_open || !path.starts_with("/api/v1") {
                continue;
            }
            let url = format!("{}{}", service.url, path.replace(['{', '}'], ""));
            let method: Method = method.to_uppercase().parse().unwrap();
            let asked = http
                .request(method, url)
                .header(header::COOKIE, &cookie)
                .header("sec-fetch-site", "cross-site")
                .json(&json!({}));
            let answer = asked.send().await.unwrap();
            // A runner shows its credential, and no cookie.
            if answer.status() == StatusCode::UNAUTHORIZED {
                assert!(path.starts_with("/api/v1/runner/"), "{path}");
                continue;
            }
            problem(answer, 403, "foreign-page").await;
            refused += 1;
        }
    }
    assert!(refused > 50, "{refused} writes were tried");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_committed_description_is_the_one_that_is_served() {
    let service = Service::start().await;
    let url = format!("{}/api/v1/openapi.json", service.url);
    let served: serde_json::Value = reqwest::Client::new()
        .get(url)
        .bearer_auth(&service.token)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
    let committed: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(file).unwrap()).unwrap();
    assert_eq!(
        served, committed,
        "run: cargo run -p pennined -- openapi > docs/openapi.json"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn unknown_paths_wrong_methods_and_broken_bodies_are_problems() {
    let service = Service::start().await;
    let http = reqwest::Client::new();
    let ask = |method: Method, path: &str| {
        http.request(method, format!("{}{path}", service.url))
            .bearer_auth(&service.token)
    };
    let found = problem(
        ask(Method::GET, "/api/v1/nowhere").send().await.unwrap(),
        404,
        "unknown-path",
    )
    .await;
    assert!(found.detail.contains("/api/v1/nowhere"), "{found:?}");
    problem(
        ask(Method::GET, "/runner/v1/nowhere").send().await.unwrap(),
        404,
        "unknown-path",
    )
    .await;
    let refused = ask(Method::DELETE, "/api/v1/jobs").send().await.unwrap();
    assert!(
        refused.headers()[header::ALLOW]
            .to_str()
            .unwrap()
            .contains("POST")
    );
    problem(refused, 405, "wrong-method").await;
    let refused = ask(Method::POST, "/some/page").send().await.unwrap();
    assert!(refused.headers().contains_key(header::ALLOW));
    problem(refused, 405, "wrong-method").await;
    let broken = ask(Method::POST, "/api/v1/pools")
        .body("{\"name\":")
        .send()
        .await
        .unwrap();
    problem(broken, 400, "unreadable-request").await;
    let misspelt = ask(Method::POST, "/api/v1/pools")
        .json(&json!({"name": "staithe", "labls": []}))
        .send()
        .await
        .unwrap();
    let found = problem(misspelt, 422, "unreadable-request").await;
    assert!(found.detail.contains("labls"), "{found:?}");
    let typed = ask(Method::POST, "/api/v1/pools")
        .json(&json!({"name": "staithe", "labels": ["a", 3]}))
        .send()
        .await;
    assert_eq!(
        problem(typed.unwrap(), 422, "unreadable-request")
            .await
            .field
            .as_deref(),
        Some("labels[1]")
    );
    let large = ask(Method::POST, "/api/v1/pools")
        .body(vec![b' '; 300_000])
        .send()
        .await
        .unwrap();
    problem(large, 413, "unreadable-request").await;
    let query = ask(Method::GET, "/api/v1/jobs?limit=many")
        .send()
        .await
        .unwrap();
    problem(query, 400, "unreadable-request").await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sign_in_gives_a_cookie_that_scripts_cannot_read_and_other_sites_cannot_use() {
    let service = Service::start().await;
    let http = reqwest::Client::new();
    let session = format!("{}/api/v1/session", service.url);
    let wrong = http
        .post(&session)
        .json(&json!({"token": "nonsense"}))
        .send()
        .await
        .unwrap();
    assert_eq!(
        problem(wrong, 401, "not-signed-in").await.field.as_deref(),
        Some("token")
    );
    let signed = http
        .post(&session)
        .json(&json!({"token": service.token}))
        .send()
        .await
        .unwrap();
    assert_eq!(signed.status(), 200);
    let cookie = signed.headers()[header::SET_COOKIE]
        .to_str()
        .unwrap()
        .to_owned();
    for part in ["HttpOnly", "SameSite=Strict", "Path=/"] {
        assert!(cookie.contains(part), "{cookie}");
    }
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let with_cookie = |method: Method, path: &str| {
        http.request(method, format!("{}/api/v1{path}", service.url))
            .header(header::COOKIE, &cookie)
    };
    assert_eq!(
        with_cookie(Method::GET, "/status")
            .send()
            .await
            .unwrap()
            .status(),
        200
    );
    let team = json!({"name": "shore"});
    let foreign = with_cookie(Method::POST, "/teams")
        .header("sec-fetch-site", "cross-site")
        .json(&team);
    problem(foreign.send().await.unwrap(), 403, "foreign-page").await;
    let bare = with_cookie(Method::POST, "/teams")
        .json(&team)
        .send()
        .await
        .unwrap();
    problem(bare, 403, "foreign-page").await;
    let own = with_cookie(Method::POST, "/teams")
        .header("sec-fetch-site", "same-origin")
        .json(&team);
    assert_eq!(own.send().await.unwrap().status(), StatusCode::CREATED);
    let out = with_cookie(Method::DELETE, "/session")
        .header("sec-fetch-site", "same-origin")
        .send()
        .await
        .unwrap();
    assert_eq!(out.status(), 204);
    problem(
        with_cookie(Method::GET, "/status").send().await.unwrap(),
        401,
        "not-signed-in",
    )
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_key_whose_request_never_ended_is_taken_over_and_the_job_is_made_once() {
    let service = Service::start().await;
    service.furnish().await;
    let new = some_job();
    let first = service.client.submit(&new, Some("cut")).await.unwrap();
    // As a replica leaves it that is killed once the job is stored.
    let connection = service.database.connect().await;
    let unanswered = "update idempotency set status = null, answer = null";
    connection.batch_execute(unanswered).await.unwrap();
    let error = service.client.submit(&new, Some("cut")).await.unwrap_err();
    assert_eq!(error.problem().unwrap().word(), "still-in-progress");
    service.clock.advance(Duration::from_secs(60));
    let second = service.client.submit(&new, Some("cut")).await.unwrap();
    assert_eq!(second.job.name, first.job.name);
    let third = service.client.submit(&new, Some("cut")).await.unwrap();
    assert_eq!(third.job.name, first.job.name);
    // As one leaves it that is killed before.
    let fresh = uuid::Uuid::now_v7();
    let before = format!("{unanswered}, subject = '{fresh}'");
    connection.batch_execute(&before).await.unwrap();
    service.clock.advance(Duration::from_secs(60));
    let fourth = service.client.submit(&new, Some("cut")).await.unwrap();
    assert_ne!(fourth.job.name, first.job.name);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_answer_with_a_secret_is_kept_nowhere() {
    let service = Service::start().await;
    service.furnish().await;
    let ask = async || {
        reqwest::Client::new()
            .post(format!("{}/api/v1/pools/staithe/tickets", service.url))
            .bearer_auth(&service.token)
            .header("idempotency-key", "\"once\"")
            .json(&json!({}))
            .send()
            .await
            .unwrap()
    };
    let first = ask().await;
    assert_eq!(first.status(), 201);
    let second = ask().await;
    assert_eq!(second.status(), 409);
    let problem: Problem = second.json().await.unwrap();
    assert_eq!(problem.word(), "answer-not-kept");
    let kept = service
        .database
        .texts("select coalesce(answer::text, 'none') from idempotency")
        .await;
    assert_eq!(kept, ["none"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_write_sent_twice_with_one_key_is_made_once() {
    let service = Service::start().await;
    service.furnish().await;
    let new = some_job();
    let first = service.client.submit(&new, Some("once")).await.unwrap();
    let second = service.client.submit(&new, Some("once")).await.unwrap();
    assert_eq!(first.job.name, second.job.name);
    assert_eq!(
        service
            .client
            .jobs(&JobListFilter::default(), None, 10)
            .await
            .unwrap()
            .items
            .len(),
        1
    );
    let other = NewJob {
        title: Some("another".into()),
        ..new
    };
    let error = service
        .client
        .submit(&other, Some("once"))
        .await
        .unwrap_err();
    assert_eq!(
        error.problem().unwrap().field.as_deref(),
        Some("Idempotency-Key")
    );
    let refused = NewJob {
        project: "nope".into(),
        ..other
    };
    service
        .client
        .submit(&refused, Some("again"))
        .await
        .unwrap_err();
    let corrected = NewJob {
        project: "buoy".into(),
        ..refused
    };
    service
        .client
        .submit(&corrected, Some("again"))
        .await
        .expect("a refusal does not use the key up");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn jobs_are_listed_by_project_by_team_and_by_a_text_in_them() {
    let service = Service::start().await;
    service.furnish().await;
    let first = service.submit("gcc >= 12", "true").await;
    let second = service.submit("plotter", "true").await;
    let found = async |filter: JobListFilter| -> Vec<String> {
        let page = service.client.jobs(&filter, None, 10).await.unwrap();
        page.items.into_iter().map(|job| job.name).collect()
    };
    let search = async |text: &str| -> Vec<String> {
        let search = Some(text.to_owned());
        found(JobListFilter {
            search,
            ..JobListFilter::default()
        })
        .await
    };
    assert_eq!(search("PLOTTER").await.join(" "), second, "in any case");
    assert_eq!(search(&first).await.join(" "), first, "by name");
    assert_eq!(
        search("firmware").await,
        [second.clone(), first.clone()],
        "by project"
    );
    assert_eq!(
        search("gcc >= 12").await.join(" "),
        first,
        "with blanks and signs"
    );
    assert_eq!(
        search("100%_").await,
        Vec::<String>::new(),
        "no letter is a wildcard"
    );
    let project = Some("buoy".to_owned());
    let of_project = JobListFilter {
        project,
        ..JobListFilter::default()
    };
    assert_eq!(found(of_project).await.len(), 2);
    let team = Some("firmware".to_owned());
    let of_team = JobListFilter {
        team: team.clone(),
        ..JobListFilter::default()
    };
    assert_eq!(found(of_team).await.len(), 2);
    let unknown = JobListFilter {
        team: Some("harbour".into()),
        ..JobListFilter::default()
    };
    let problem = refusal(service.client.jobs(&unknown, None, 10).await);
    assert_eq!(problem.field.as_deref(), Some("team"), "{problem:?}");
    let both = JobListFilter {
        team,
        project: Some("buoy".into()),
        ..JobListFilter::default()
    };
    let problem = refusal(service.client.jobs(&both, None, 10).await);
    assert_eq!(problem.status, 422, "{problem:?}");
    let long = JobListFilter {
        search: Some("x".repeat(201)),
        ..JobListFilter::default()
    };
    let problem = refusal(service.client.jobs(&long, None, 10).await);
    assert_eq!(problem.field.as_deref(), Some("search"), "{problem:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lists_page_by_cursor_with_a_link() {
    let service = Service::start().await;
    service.furnish().await;
    for _ in 0..5 {
        service.submit("nowhere", "true").await;
    }
    let pending = JobListFilter {
        states: Some("pending".into()),
        ..JobListFilter::default()
    };
    let page = service.client.jobs(&pending, None, 2).await.unwrap();
    let names = |page: &pennine_wire::Page<pennine_wire::JobLine>| -> Vec<String> {
        page.items.iter().map(|job| job.name.clone()).collect()
    };
    assert_eq!(names(&page), ["j-5", "j-4"]);
    let next = service
        .client
        .jobs(&pending, page.next.as_deref(), 3)
        .await
        .unwrap();
    assert_eq!(names(&next), ["j-3", "j-2", "j-1"]);
    assert_eq!(next.next, None);
    let url = format!("{}/api/v1/jobs?limit=2", service.url);
    let response = reqwest::Client::new()
        .get(url)
        .bearer_auth(&service.token)
        .send()
        .await
        .unwrap();
    let link = response.headers()[header::LINK].to_str().unwrap();
    assert!(
        link.contains("after=j-4") && link.ends_with("rel=\"next\""),
        "{link}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn below_a_path_of_a_public_address_everything_is_below_that_path() {
    let service = Service::with(|config| config.public_url = String::new()).await;
    let health = reqwest::get(format!("{}/healthz", service.url))
        .await
        .unwrap();
    assert_eq!(health.status(), 200);
    let mut config = crate::support::config(
        &service.database.url,
        service.data.path(),
        ([127, 0, 0, 1], 0).into(),
    );
    let port = crate::support::free_port();
    config.listen = ([127, 0, 0, 1], port).into();
    config.public_url = format!("http://127.0.0.1:{port}/ci");
    let replica = crate::support::Replica::start(config, service.clock.clone()).await;
    crate::support::until("it serves", || async {
        let answer = reqwest::get(format!("{}/healthz", replica.url))
            .await
            .ok()?;
        answer.status().is_success().then_some(())
    })
    .await;
    let page = reqwest::get(format!("{}/", replica.url))
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert!(
        page.contains("<base href=\"/ci/\">") || page.contains("built without its console"),
        "{page}"
    );
    let outside = reqwest::get(format!("http://127.0.0.1:{port}/api/v1/status"))
        .await
        .unwrap();
    assert_eq!(outside.status(), 404);
    replica.stop().await;
}
