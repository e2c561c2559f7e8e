//! People: accounts and roles, links, passwords, the second factor, sessions, and how guessing is slowed.

use crate::support::Service;
use pennine_client::{Client, Route};
use pennine_core::access::{Grant, Purpose, Role};
use pennine_core::time::Moment;
use pennine_wire::{
    Account, GrantRemoval, LinkOwner, MadeLink, MadeToken, NewLink, NewPerson, NewSecondFactor,
    NewTeam, PersonChange, RecoveryCodes, SignedIn,
};
use reqwest::{Method, RequestBuilder, StatusCode, header};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use std::time::Duration;
use totp_rs::{Algorithm, Secret, TOTP};

const PASSWORD: &str = "slack water at noon";

/// A browser without a window: it keeps the cookie that it is given.
struct Visitor {
    http: reqwest::Client,
    api: String,
    cookie: String,
}

impl Visitor {
    fn new(service: &Service) -> Visitor {
        Visitor {
            http: reqwest::Client::new(),
            api: format!("{}/api/v1", service.url),
            cookie: String::new(),
        }
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http
            .request(method, format!("{}{path}", self.api))
            .header(header::COOKIE, &self.cookie)
            .header("sec-fetch-site", "same-origin")
            .header(header::USER_AGENT, "test browser")
    }

    /// Sends a body; returns the status and the answer, and keeps the cookie.
    async fn post(&mut self, path: &str, body: Value) -> (StatusCode, Value) {
        let response = self.request(Method::POST, path).json(&body).send().await;
        let response = response.unwrap();
        if let Some(set) = response.headers().get(header::SET_COOKIE) {
            let set = set.to_str().unwrap();
            assert!(set.contains("HttpOnly") && set.contains("SameSite=Strict"));
            set.split(';').next().unwrap().clone_into(&mut self.cookie);
        }
        let status = response.status();
        (status, response.json().await.unwrap_or(Value::Null))
    }

    async fn make<T: DeserializeOwned>(&mut self, path: &str, body: Value) -> T {
        let (status, answer) = self.post(path, body).await;
        assert!(status.is_success(), "{path}: {status} {answer}");
        serde_json::from_value(answer).unwrap()
    }

    async fn get(&self, path: &str) -> (StatusCode, Value) {
        let response = self.request(Method::GET, path).send().await.unwrap();
        let status = response.status();
        (status, response.json().await.unwrap_or(Value::Null))
    }

    async fn account(&self) -> Account {
        let (status, answer) = self.get("/account").await;
        assert_eq!(status, StatusCode::OK, "{answer}");
        serde_json::from_value(answer).unwrap()
    }

    async fn sign_in(&mut self, name: &str, password: &str) -> (StatusCode, Value) {
        let body = json!({"name": name, "password": password});
        self.post("/session", body).await
    }
}

fn secret_of(link: &str) -> String {
    let (address, secret) = link.split_once('#').expect("a link");
    assert!(address.ends_with("/welcome"), "{link}");
    secret.to_owned()
}

fn person(name: &str, role: Role, place: &str) -> NewPerson {
    NewPerson {
        name: name.to_owned(),
        full_name: "Mira Tveit".to_owned(),
        role,
        place: place.to_owned(),
    }
}

/// Adds a person and signs in with the link.
async fn joined(service: &Service, by: &Client, new: &NewPerson) -> Visitor {
    let made = by.add_person(new).await.unwrap();
    let mut visitor = Visitor::new(service);
    let body = json!({"link": secret_of(&made.link), "password": PASSWORD});
    let signed: SignedIn = visitor.make("/session/link/use", body).await;
    assert_eq!(signed.name, new.name.to_lowercase());
    visitor
}

fn code_at(secret: &str, at: Moment) -> String {
    let bytes = Secret::Encoded(secret.to_owned()).to_bytes().unwrap();
    let totp = TOTP::new(Algorithm::SHA1, 6, 1, 30, bytes, None, "x".into()).unwrap();
    totp.generate(u64::try_from(at.micros() / 1_000_000).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_sets_a_password_once_and_roles_decide_what_its_person_may() {
    let service = Service::start().await;
    service.furnish().await;
    let admin = &service.client;
    let made = admin
        .add_person(&person("Mira", Role::Submitter, "firmware"))
        .await
        .unwrap();
    assert_eq!(made.person.name, "mira");
    assert_eq!(made.person.state, "invited");
    let link = secret_of(&made.link);

    let mut mira = Visitor::new(&service);
    let owner: LinkOwner = mira.make("/session/link", json!({"link": link})).await;
    assert_eq!((owner.name.as_str(), owner.needs_code), ("mira", false));
    let short = json!({"link": link, "password": "short"});
    let (status, problem) = mira.post("/session/link/use", short).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(problem["field"], "password");
    let used = json!({"link": link, "password": PASSWORD});
    let signed: SignedIn = mira.make("/session/link/use", used.clone()).await;
    assert!(signed.is_person);
    assert_eq!(signed.full_name, "Mira Tveit");
    let (status, problem) = Visitor::new(&service).post("/session/link/use", used).await;
    assert_eq!(status, StatusCode::GONE, "{problem}");

    let job = json!({"project": "firmware/buoy", "command": ["true"]});
    let (status, _) = mira.post("/jobs", job).await;
    assert_eq!(status, StatusCode::CREATED);
    let (status, problem) = mira.post("/teams", json!({"name": "deck"})).await;
    assert_eq!(status, StatusCode::FORBIDDEN);
    let detail = problem["detail"].as_str().unwrap();
    let expected = "this needs the role operator at the root; mira has submitter at firmware";
    assert_eq!(detail, expected);

    let (status, _) = Visitor::new(&service).sign_in(" MIRA ", PASSWORD).await;
    assert_eq!(status, StatusCode::OK);
    let who = service
        .database
        .texts("select who || ' ' || what from audit where subject = 'mira' order by id")
        .await;
    let expected = [
        "admin person.add",
        "mira account.password",
        "mira session.begin",
        "mira session.begin",
    ];
    assert_eq!(who, expected);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_is_managed_only_by_those_who_have_all_that_it_has() {
    let service = Service::start().await;
    service.furnish().await;
    let admin = &service.client;
    let (name, parent) = ("shore".into(), None);
    admin.add_team(&NewTeam { name, parent }).await.unwrap();
    let lead = service.with_role("lead", Role::Admin, "firmware").await;
    admin
        .add_person(&person("ola", Role::Operator, "shore"))
        .await
        .unwrap();
    lead.add_person(&person("mira", Role::Submitter, "firmware/buoy"))
        .await
        .unwrap();
    let names = |people: pennine_wire::Page<pennine_wire::Person>| -> Vec<String> {
        people.items.into_iter().map(|person| person.name).collect()
    };
    assert_eq!(
        names(admin.people().await.unwrap()),
        ["admin", "mira", "ola"]
    );
    assert_eq!(names(lead.people().await.unwrap()), ["mira"]);
    let kind =
        |error: pennine_client::ClientError| crate::support::refusal::<()>(Err(error)).status;
    assert_eq!(kind(lead.person("ola").await.unwrap_err()), 404);
    let elsewhere = person("teo", Role::Viewer, "shore");
    assert_eq!(kind(lead.add_person(&elsewhere).await.unwrap_err()), 404);

    // The lead may no longer act as a person who has a role elsewhere, too.
    lead.add_person_link("mira", &NewLink::default())
        .await
        .unwrap();
    let shore = Grant {
        role: Role::Viewer,
        place: "shore".into(),
    };
    admin.grant_role("mira", &shore).await.unwrap();
    let refused = lead.add_person_link("mira", &NewLink::default()).await;
    assert_eq!(kind(refused.unwrap_err()), 403);
    let seen = lead.person("mira").await.unwrap();
    assert_eq!(seen.grants.len(), 1, "the role at shore is not shown");
    let disable = PersonChange {
        disabled: Some(true),
        ..PersonChange::default()
    };
    let refused = lead.change_person("mira", &disable).await;
    assert_eq!(kind(refused.unwrap_err()), 403);
    let place = "firmware/buoy".to_owned();
    lead.revoke_role("mira", &GrantRemoval { place })
        .await
        .unwrap();
    assert_eq!(kind(lead.person("mira").await.unwrap_err()), 404);

    let why = admin.permission("mira", "view", "shore").await.unwrap();
    assert_eq!(
        why.message,
        "Yes: mira has viewer at shore, which includes view at shore."
    );
    let why = admin
        .permission("mira", "submit-job", "shore")
        .await
        .unwrap();
    assert!(!why.is_allowed);
    assert_eq!(
        why.message,
        "No: mira has viewer at shore, and submit-job needs submitter."
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_role_that_is_taken_away_and_an_account_that_is_disabled_are_refused_at_once() {
    let service = Service::start().await;
    service.furnish().await;
    let admin = &service.client;
    let mut mira = joined(&service, admin, &person("mira", Role::Operator, "firmware")).await;
    let own = json!({"name": "laptop", "role": "admin", "place": "", "is_own": true});
    let own: MadeToken = mira.make("/tokens", own).await;
    assert_eq!(own.token.name, "mira/laptop");
    let laptop = Client::new(&service.url, &own.secret, &Route::default()).unwrap();
    let team = |name: &str| NewTeam {
        name: name.into(),
        parent: Some("firmware".into()),
    };
    laptop.add_team(&team("sensors")).await.unwrap();
    // Only mira may have its secret, since it acts as her.
    let rotated = admin.rotate_token("mira/laptop", &Default::default()).await;
    let problem = crate::support::refusal(rotated);
    assert_eq!(problem.status, 403);

    let grant = Grant {
        role: Role::Viewer,
        place: "firmware".into(),
    };
    admin.grant_role("mira", &grant).await.unwrap();
    let refused = crate::support::refusal(laptop.add_team(&team("radio")).await);
    assert_eq!(refused.status, 403);
    let body = json!({"name": "radio", "parent": "firmware"});
    assert_eq!(mira.post("/teams", body).await.0, StatusCode::FORBIDDEN);
    assert_eq!(mira.get("/status").await.0, StatusCode::OK);

    let change = |disabled| PersonChange {
        disabled: Some(disabled),
        ..PersonChange::default()
    };
    let disabled = admin.change_person("mira", &change(true)).await.unwrap();
    assert_eq!(disabled.state, "disabled");
    assert_eq!(mira.get("/status").await.0, StatusCode::UNAUTHORIZED);
    assert_eq!(crate::support::refusal(laptop.status().await).status, 401);
    let (status, _) = mira.sign_in("mira", PASSWORD).await;
    assert_eq!(status, StatusCode::UNAUTHORIZED);
    admin.change_person("mira", &change(false)).await.unwrap();
    // A refused password is refused again without a try for 5 s.
    let again = crate::support::until("mira may sign in", async || {
        let (status, _) = Visitor::new(&service).sign_in("mira", PASSWORD).await;
        (status == StatusCode::OK).then_some(())
    });
    again.await;
    laptop.status().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_factor_is_asked_for_and_each_code_holds_once() {
    let service = Service::start().await;
    let admin = &service.client;
    let mut mira = joined(&service, admin, &person("mira", Role::Viewer, "")).await;
    let wrong = json!({"password": "not the password"});
    let (status, problem) = mira.post("/account/second-factor", wrong).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(problem["field"], "password");
    let right = json!({"password": PASSWORD});
    let begun: NewSecondFactor = mira.make("/account/second-factor", right.clone()).await;
    assert!(begun.address.starts_with("otpauth://totp/"));
    // Until it is confirmed, nothing changes.
    let (status, _) = Visitor::new(&service).sign_in("mira", PASSWORD).await;
    assert_eq!(status, StatusCode::OK);
    let now = || service.clock.now();
    let confirm = json!({"code": code_at(&begun.secret, now())});
    let codes: RecoveryCodes = mira
        .make("/account/second-factor/confirm", confirm.clone())
        .await;
    assert_eq!(codes.codes.len(), 10);
    assert!(mira.account().await.person.has_second_factor);

    let mut other = Visitor::new(&service);
    let (status, problem) = other.sign_in("mira", PASSWORD).await;
    assert_eq!(status, StatusCode::UNAUTHORIZED);
    assert!(
        problem["type"]
            .as_str()
            .unwrap()
            .ends_with("second-factor-needed")
    );
    let with = |code: &str| json!({"name": "mira", "password": PASSWORD, "code": code});
    // The code that confirmed it was used up.
    let used = with(confirm["code"].as_str().unwrap());
    assert_eq!(
        other.post("/session", used).await.0,
        StatusCode::UNAUTHORIZED
    );
    service.clock.advance(Duration::from_secs(60));
    let fresh = with(&code_at(&begun.secret, now()));
    assert_eq!(other.post("/session", fresh).await.0, StatusCode::OK);
    let recovery = with(&codes.codes[0].to_uppercase());
    let (status, answer) = other.post("/session", recovery.clone()).await;
    assert_eq!(status, StatusCode::OK, "{answer}");
    let mut third = Visitor::new(&service);
    let (status, _) = third.post("/session", recovery).await;
    assert_eq!(status, StatusCode::UNAUTHORIZED, "it was used");
    assert_eq!(mira.account().await.recovery_codes, 9);

    // A person who has lost everything is let in by an administrator.
    let plain = admin.add_person_link("mira", &NewLink::default()).await;
    let link = secret_of(&plain.unwrap().link);
    let owner: LinkOwner = third.make("/session/link", json!({"link": link})).await;
    assert!(owner.needs_code);
    let lost = NewLink {
        removes_second_factor: true,
    };
    let made: MadeLink = admin.add_person_link("mira", &lost).await.unwrap();
    let (status, _) = third.post("/session/link", json!({"link": link})).await;
    assert_eq!(status, StatusCode::GONE, "a newer link replaces it");
    let body = json!({"link": secret_of(&made.link), "password": "ebb and flow again"});
    let _: SignedIn = third.make("/session/link/use", body).await;
    assert!(!third.account().await.person.has_second_factor);
    assert_eq!(mira.get("/account").await.0, StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_are_listed_and_ended_and_another_password_ends_the_others() {
    let service = Service::start().await;
    let mut here = joined(&service, &service.client, &person("mira", Role::Viewer, "")).await;
    let mut there = Visitor::new(&service);
    assert_eq!(there.sign_in("mira", PASSWORD).await.0, StatusCode::OK);
    let sessions = here.account().await.sessions;
    assert_eq!(sessions.len(), 2);
    let other = sessions.iter().find(|session| !session.is_this).unwrap();
    assert_eq!(other.user_agent, "test browser");
    assert_eq!(other.address.as_deref(), Some("127.0.0.1"));
    let path = format!("/account/sessions/{}", other.id);
    let ended = here.request(Method::DELETE, &path).send().await.unwrap();
    assert_eq!(ended.status(), StatusCode::NO_CONTENT);
    assert_eq!(there.get("/account").await.0, StatusCode::UNAUTHORIZED);

    assert_eq!(there.sign_in("mira", PASSWORD).await.0, StatusCode::OK);
    let new = "ebb and flow again";
    let change = |present: &str| json!({"present": present, "new": new});
    let (status, problem) = here.post("/account/password", change("wrong")).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(problem["field"], "present");
    let (status, _) = here.post("/account/password", change(PASSWORD)).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(there.get("/account").await.0, StatusCode::UNAUTHORIZED);
    assert_eq!(here.account().await.sessions.len(), 1);
    let (status, _) = there.sign_in("mira", PASSWORD).await;
    assert_eq!(status, StatusCode::UNAUTHORIZED);
    assert_eq!(there.sign_in("mira", new).await.0, StatusCode::OK);
    // A token has no account.
    let token = reqwest::Client::new()
        .get(format!("{}/api/v1/account", service.url))
        .bearer_auth(&service.token)
        .send()
        .await
        .unwrap();
    assert_eq!(token.status(), StatusCode::FORBIDDEN);
}

#[tokio::test(flavor = "multi_thread")]
async fn guessing_is_slowed_alike_for_names_that_exist_and_names_that_do_not() {
    let service = Service::start().await;
    joined(&service, &service.client, &person("mira", Role::Viewer, "")).await;
    for name in ["mira", "unknown"] {
        // Each failure beyond the fourth doubles the wait: however slow this machine is, one guess comes too early.
        let mut answers = Vec::new();
        for guess in 0..20 {
            let mut visitor = Visitor::new(&service);
            let password = format!("wrong guess {guess}");
            let (status, problem) = visitor.sign_in(name, &password).await;
            let text = problem["detail"].as_str().unwrap().to_owned();
            answers.push((status.as_u16(), text));
            if status == StatusCode::TOO_MANY_REQUESTS {
                let remedy = problem["remedy"].as_str().unwrap();
                assert!(remedy.starts_with("try again in "), "{remedy}");
                break;
            }
        }
        let wrong = (
            401,
            "the name, the password or the code is wrong".to_owned(),
        );
        let slow = (429, "many sign-ins under this name have failed".to_owned());
        assert_eq!(answers.pop(), Some(slow), "{name}");
        assert!(answers.len() >= 5, "{name}: {answers:?}");
        assert!(answers.iter().all(|one| *one == wrong), "{answers:?}");
    }
    // However often was guessed, the right password is accepted five minutes later.
    service.clock.advance(Duration::from_secs(301));
    let mut visitor = Visitor::new(&service);
    assert_eq!(visitor.sign_in("mira", PASSWORD).await.0, StatusCode::OK);
    let refused = service
        .database
        .texts("select distinct subject from audit where what = 'refused' order by 1")
        .await;
    assert_eq!(refused, ["sign-in as mira", "sign-in as unknown"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sign_in_takes_a_token_or_a_password_and_never_another_sites_request() {
    let service = Service::start().await;
    let mut visitor = Visitor::new(&service);
    for body in [
        json!({}),
        json!({"name": "admin"}),
        json!({"token": "x", "name": "admin", "password": "y"}),
    ] {
        let (status, _) = visitor.post("/session", body.clone()).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{body}");
    }
    let mut mira = joined(&service, &service.client, &person("mira", Role::Viewer, "")).await;
    let before = mira.cookie.clone();
    // A cookie that was there before is not the one of the new sign-in.
    assert_eq!(mira.sign_in("mira", PASSWORD).await.0, StatusCode::OK);
    assert_ne!(mira.cookie, before);
    let foreign = mira
        .http
        .post(format!("{}/account/password", mira.api))
        .header(header::COOKIE, &mira.cookie)
        .header("sec-fetch-site", "cross-site")
        .json(&json!({"present": PASSWORD, "new": "ebb and flow again"}));
    assert_eq!(
        foreign.send().await.unwrap().status(),
        StatusCode::FORBIDDEN
    );
    let metrics = json!({"name": "scraper", "role": "viewer", "place": "", "purpose": "metrics", "is_own": true});
    let made: MadeToken = mira.make("/tokens", metrics).await;
    assert_eq!(made.token.purpose, Some(Purpose::Metrics));
    assert_eq!(made.token.owner.as_deref(), Some("mira"));
}
