//! Identity tokens of jobs: asked for inside a job, verified outside it.

use crate::support::{Runner, Service, refusal, until};
use pennine_client::{Client, Route, RunnerClient};
use pennine_core::id::{AttemptId, LeaseToken};
use pennine_core::identity::{KEY_ANNOUNCED, KEY_LINGERS, KEY_SIGNS, SigningAlgorithm};
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::trust::Trust;
use pennine_standins::store::{self, TrustPolicy};
use pennine_wire::runner_protocol::IdentityRequest;
use pennine_wire::{JobPolicyChange, NewJob, PlaceChange, PoolChange};
use serde_json::Value;
use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

const STORE: &str = "https://store.skerry.example";

/// Prints a token for an audience, inside a job.
fn asking(audience: &str) -> String {
    format!("\"$PENNINE_RUNNER_PROGRAM\" identity --audience {audience}")
}

/// The last line of a log that is a token.
fn token_in(log: &str) -> String {
    let mut tokens = log.lines().filter(|line| line.starts_with("eyJ"));
    let token = tokens.next_back();
    token
        .unwrap_or_else(|| panic!("no token in {log}"))
        .to_owned()
}

async fn log_of(service: &Service, job: &str) -> String {
    String::from_utf8_lossy(&service.log(job).await).into_owned()
}

async fn token_of(service: &Service, script: &str) -> String {
    let job = service.submit("", script).await;
    let done = service.done(&job).await;
    let log = log_of(service, &job).await;
    assert_eq!(done.line.result, Some(Outcome::Success), "{log}");
    token_in(&log)
}

/// Asks an outside verifier. Returns the claims, or why it refuses.
fn verified(verifier: &[&str], issuer: &str, audience: &str, token: &str) -> Result<Value, String> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/clients");
    let (program, arguments) = verifier.split_first().expect("a program");
    let mut child = Command::new(program)
        .args(arguments)
        .args([issuer, audience])
        .current_dir(folder)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("the verifier starts");
    let mut input = child.stdin.take().expect("its input");
    input.write_all(token.as_bytes()).expect("it reads");
    drop(input);
    let output = child.wait_with_output().expect("it ends");
    let text = String::from_utf8_lossy(&output.stdout).trim().to_owned();
    match output.status.success() {
        true => Ok(serde_json::from_str(&text).expect("claims")),
        false => Err(text),
    }
}

const PYTHON: &[&str] = &["/usr/bin/python3", "verify.py"];
const JAVASCRIPT: &[&str] = &["node", "verify.mjs"];

/// Verifies in a thread of its own, so that the service goes on.
async fn verify(
    verifier: &'static [&'static str],
    service: &Service,
    audience: &str,
    token: &str,
) -> Result<Value, String> {
    let (issuer, audience, token) = (service.url.clone(), audience.to_owned(), token.to_owned());
    tokio::task::spawn_blocking(move || verified(verifier, &issuer, &audience, &token))
        .await
        .expect("it ends")
}

/// Whether the verifier in Python can be run; where it cannot, the test says so loudly.
fn has_python_verifier() -> bool {
    let found = Command::new("/usr/bin/python3")
        .args(["-c", "import jwt, cryptography"])
        .output();
    let is_there = found.is_ok_and(|output| output.status.success());
    if !is_there {
        eprintln!("\n  SKIPPED: tokens were not verified by PyJWT: python3-jwt is not installed\n");
    }
    is_there
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn verifiers_in_two_languages_trust_a_jobs_token_and_refuse_it_where_they_should() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let mut verifiers = vec![JAVASCRIPT];
    verifiers.extend(has_python_verifier().then_some(PYTHON));
    for algorithm in ["RS256", "ES256"] {
        let script = format!("{} --algorithm {algorithm}", asking(STORE));
        let token = token_of(&service, &script).await;
        let (header, rest) = token.split_once('.').unwrap();
        let (own, signature) = rest.split_once('.').unwrap();
        for verifier in &verifiers {
            let claims = verify(verifier, &service, STORE, &token).await;
            let claims = claims.unwrap_or_else(|refusal| panic!("{algorithm}: {refusal}"));
            for (name, value) in [
                ("iss", service.url.as_str()),
                ("sub", "project:firmware/buoy"),
                ("aud", STORE),
                ("project", "firmware/buoy"),
                ("team", "firmware"),
                ("pool", "staithe"),
                ("runner", "fell-01"),
                ("isolation", "process"),
            ] {
                assert_eq!(claims[name], value, "{name}");
            }
            assert_eq!(
                (&claims["trusted"], &claims["attempt"]),
                (&true.into(), &1.into())
            );
            assert!(
                verify(verifier, &service, "https://other.example", &token)
                    .await
                    .is_err()
            );
            // A signature of something else, none at all, and the same key for another algorithm.
            let other = base64url(r#"{"sub":"project:shore/soundings"}"#);
            let none = base64url(r#"{"alg":"none"}"#);
            let swapped = base64url(r#"{"alg":"HS256"}"#);
            for forged in [
                format!("{header}.{other}.{signature}"),
                format!("{none}.{own}."),
                format!("{swapped}.{own}.{signature}"),
            ] {
                assert!(
                    verify(verifier, &service, STORE, &forged).await.is_err(),
                    "{forged}"
                );
            }
        }
    }
}

fn base64url(text: &str) -> String {
    use base64::Engine;
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(text)
}

pub fn claims_in(token: &str) -> Value {
    use base64::Engine;
    let claims = token.split('.').nth(1).expect("claims");
    let bytes = base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(claims);
    serde_json::from_slice(&bytes.expect("base64")).expect("JSON")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_gets_tokens_whatever_its_isolation_and_over_plain_http_too() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let curl = format!(
        "curl -sS --unix-socket \"$PENNINE_IDENTITY_SOCKET\" 'http://runner/identity?audience={STORE}' | \
         sed 's/.*\"token\":\"\\([^\"]*\\)\".*/\\1/'"
    );
    let script = format!(
        "{}; {curl}; ls -a \"$(dirname \"$PENNINE_IDENTITY_SOCKET\")/..\"",
        asking(STORE)
    );
    for (isolation, network) in [
        (IsolationLevel::Process, true),
        (IsolationLevel::Sandbox, true),
        (IsolationLevel::Sandbox, false),
        (IsolationLevel::None, true),
    ] {
        let jobs = JobPolicyChange {
            isolation: Some(isolation),
            network: Some(network),
            ..JobPolicyChange::default()
        };
        let change = PoolChange {
            jobs: Some(jobs),
            ..PoolChange::default()
        };
        service
            .client
            .change_pool("staithe", &change)
            .await
            .unwrap();
        let job = service.submit("", &script).await;
        service.done(&job).await;
        let log = log_of(&service, &job).await;
        let tokens: Vec<&str> = log.lines().filter(|line| line.starts_with("eyJ")).collect();
        // The second is the first again: it is not half over.
        assert_eq!(tokens.len(), 2, "{isolation} {network}: {log}");
        assert_eq!(tokens[0], tokens[1]);
        assert_eq!(claims_in(tokens[0])["isolation"], isolation.word());
    }
}

async fn allow(people: &Client, place: &str, audiences: &[&str]) {
    let change = PlaceChange {
        audiences: Some(audiences.iter().map(|one| (*one).to_owned()).collect()),
        ..PlaceChange::default()
    };
    people.change_place(place, &change).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_place_limits_the_audiences_of_its_jobs_and_an_untrusted_job_has_another_subject() {
    let service = Service::start().await;
    service.furnish().await;
    let people = &service.client;
    allow(people, "firmware", &[STORE, "https://cloud.example"]).await;
    allow(people, "firmware/buoy", &["https://cloud.example"]).await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let script = format!(
        "{}; echo \"status $?\"; {}",
        asking(STORE),
        asking("https://cloud.example")
    );
    let job = service.submit("", &script).await;
    service.done(&job).await;
    let log = log_of(&service, &job).await;
    assert!(
        log.contains("firmware/buoy allows its jobs tokens for https://cloud.example only"),
        "{log}"
    );
    assert!(log.contains("status 3"), "{log}");
    assert_eq!(claims_in(&token_in(&log))["aud"], "https://cloud.example");
    allow(people, "firmware/buoy", &[]).await;
    let token = token_of(&service, &asking(STORE)).await;
    assert_eq!(claims_in(&token)["sub"], "project:firmware/buoy");
    let wrong = PlaceChange {
        audiences: Some(vec!["two words".into()]),
        ..PlaceChange::default()
    };
    let refused = refusal(people.change_place("firmware", &wrong).await);
    assert_eq!(refused.field.as_deref(), Some("audiences"));
}

/// The attempt that a runner has, with its credential.
struct HeldByRunner {
    client: RunnerClient,
    attempt: AttemptId,
    lease: LeaseToken,
}

impl HeldByRunner {
    async fn of(service: &Service, runner: &Runner, job: &str) -> HeldByRunner {
        let file = std::fs::read(runner.home.path().join("runner.json")).unwrap();
        let file: Value = serde_json::from_slice(&file).unwrap();
        let credential = file["credential"].as_str().unwrap();
        let client = RunnerClient::new(&service.url, credential, &Route::default()).unwrap();
        let attempt = service.client.job(job).await.unwrap().attempts[0].id;
        let lease = format!("select lease::text from attempt where id = '{attempt}'");
        let lease = service.database.texts(&lease).await;
        HeldByRunner {
            client,
            attempt,
            lease: lease[0].parse().unwrap(),
        }
    }

    async fn ask(&self, audience: &str) -> Result<String, pennine_client::ClientError> {
        let asked = IdentityRequest {
            lease: self.lease,
            audience: audience.to_owned(),
            algorithm: SigningAlgorithm::Rs256,
        };
        Ok(self.client.identity(self.attempt, &asked).await?.token.0)
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_attempt_that_has_ended_gets_no_token_and_every_token_is_in_the_audit_log() {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let go = runner.shared("go");
    let script = format!("while [ ! -e {} ]; do sleep 0.05; done", go.display());
    let new = NewJob {
        project: "buoy".into(),
        command: ["sh", "-c", &script].map(str::to_owned).to_vec(),
        trust: Trust::Trusted,
        ..NewJob::default()
    };
    let job = service.client.submit(&new, None).await.unwrap().job.name;
    service
        .job_when(&job, "executing", |job| job.line.started_at.is_some())
        .await;
    let held = HeldByRunner::of(&service, &runner, &job).await;
    assert_eq!(claims_in(&held.ask(STORE).await.unwrap())["job"], job);
    let wrong_lease = HeldByRunner {
        lease: LeaseToken(uuid::Uuid::now_v7()),
        ..HeldByRunner::of(&service, &runner, &job).await
    };
    assert_eq!(refusal(wrong_lease.ask(STORE).await).status, 410);
    for wrong in ["", "two words", &"x".repeat(201)] {
        let refused = refusal(held.ask(wrong).await);
        assert_eq!(refused.field.as_deref(), Some("audience"), "{wrong}");
    }
    std::fs::write(&go, "").unwrap();
    service.done(&job).await;
    assert_eq!(refusal(held.ask(STORE).await).word(), "stale-lease");
    let rows = "select concat_ws(' ', who, place, subject, detail->>'audience') from audit where what = 'identity.issue'";
    let rows = service.database.texts(rows).await;
    assert_eq!(rows, [format!("fell-01 firmware/buoy {job} {STORE}")]);
    let keys = "select concat(id, ' ', locked) from signing_key";
    let keys = service.database.texts(keys).await.concat();
    assert!(!keys.contains("PRIVATE"), "{keys}");
}

async fn key_ids(service: &Service) -> Vec<String> {
    let document: Value = reqwest::get(format!("{}/.well-known/jwks.json", service.url))
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    let keys = document["keys"].as_array().unwrap();
    keys.iter()
        .filter(|key| key["alg"] == "ES256")
        .map(|key| key["kid"].as_str().unwrap().to_owned())
        .collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn keys_are_replaced_in_turn_and_a_token_is_verified_by_either() {
    let service = Service::start().await;
    let first = key_ids(&service).await;
    assert_eq!(first.len(), 1);
    let private = reqwest::get(format!("{}/.well-known/jwks.json", service.url))
        .await
        .unwrap();
    let text = private.text().await.unwrap();
    for secret_member in ["\"d\"", "\"p\"", "\"q\"", "\"dp\"", "\"qi\""] {
        assert!(!text.contains(secret_member), "{text}");
    }
    service
        .clock
        .advance(KEY_SIGNS - KEY_ANNOUNCED + Duration::from_secs(1));
    let both = until("the next key is published", || async {
        let keys = key_ids(&service).await;
        (keys.len() == 2).then_some(keys)
    })
    .await;
    assert!(both.contains(&first[0]));
    service
        .clock
        .advance(KEY_ANNOUNCED + KEY_LINGERS + Duration::from_secs(60));
    let last = until("the first key is withdrawn", || async {
        let keys = key_ids(&service).await;
        (!keys.contains(&first[0])).then_some(keys)
    })
    .await;
    assert!(both.contains(&last[0]));
    let actions = "select concat(what, ' ', detail->>'algorithm') from audit where what like 'signing-key.%' order by id";
    let actions = service.database.texts(actions).await;
    let removed = actions
        .iter()
        .filter(|one| one.starts_with("signing-key.remove"));
    assert_eq!(removed.count(), 2, "{actions:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_store_gives_a_credential_to_the_jobs_of_one_project_and_to_no_others() {
    let service = Service::start().await;
    service.furnish().await;
    let (name, team) = ("barometer".to_owned(), "firmware".to_owned());
    let other = pennine_wire::NewProject { name, team };
    service.client.add_project(&other).await.unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let trust = TrustPolicy {
        issuer: service.url.clone(),
        audience: STORE.to_owned(),
        subjects: vec!["project:firmware/buoy".to_owned()],
    };
    let stop = tokio_util::sync::CancellationToken::new();
    let store = store::serve(listener, trust, stop.clone().cancelled_owned());
    let store = tokio::spawn(store);
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let script = |audience: &str| {
        format!(
            "token=$({}); exec 3<>/dev/tcp/{}/{}; printf 'POST /credentials HTTP/1.0\\r\\nAuthorization: Bearer %s\\r\\nContent-Length: 0\\r\\n\\r\\n' \"$token\" >&3; cat <&3",
            asking(audience),
            address.ip(),
            address.port()
        )
    };
    for (project, audience, expected) in [
        ("buoy", STORE, "\"given_to\":\"project:firmware/buoy\""),
        (
            "barometer",
            STORE,
            "project:firmware/barometer gets no credential here",
        ),
        (
            "buoy",
            "https://other.example",
            "the token is not trusted: InvalidAudience",
        ),
    ] {
        let new = NewJob {
            project: project.to_owned(),
            command: ["bash", "-c", &script(audience)]
                .map(str::to_owned)
                .to_vec(),
            ..NewJob::default()
        };
        let job = service.client.submit(&new, None).await.unwrap().job.name;
        service.done(&job).await;
        let log = log_of(&service, &job).await;
        assert!(log.contains(expected), "{project} {audience}: {log}");
    }
    stop.cancel();
    store.await.unwrap().unwrap();
}
