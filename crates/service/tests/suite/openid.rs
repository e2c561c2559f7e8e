//! Signing in through an OpenID provider.

use crate::support::{Browser, Service, refusal};
use pennine_core::access::Role;
use pennine_standins::provider::{Provider, ProviderFault, ProviderPerson};
use pennine_wire::{GroupGrantRemoval, NewGroupGrant, NewPerson, PersonChange, SignedIn};
use reqwest::header::{COOKIE, LOCATION, SET_COOKIE};
use reqwest::redirect::Policy;
use reqwest::{Client, Response};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio_util::sync::{CancellationToken, DropGuard};

/// A provider with three people, and a service that knows it.
struct Bench {
    service: Service,
    provider: Provider,
    http: Client,
    _secret: tempfile::NamedTempFile,
    _stop: DropGuard,
}

fn person(name: &str, full_name: &str, groups: &[&str]) -> ProviderPerson {
    ProviderPerson {
        name: name.to_owned(),
        full_name: full_name.to_owned(),
        groups: groups.iter().map(|group| (*group).to_owned()).collect(),
    }
}

impl Bench {
    async fn start(adds_accounts: bool) -> Bench {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let issuer = format!("http://{}", listener.local_addr().unwrap());
        let people = vec![
            person("mira", "Mira Tveit", &["firmware-developers"]),
            person("ola", "Ola Brekke", &["shore-operators", "everybody"]),
            person("admin", "Not The Administrator", &[]),
        ];
        let provider = Provider::new(&issuer, people, "rising tide").unwrap();
        let stop = CancellationToken::new();
        tokio::spawn(
            provider
                .clone()
                .serve(listener, stop.clone().cancelled_owned()),
        );
        let secret = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(secret.path(), "rising tide\n").unwrap();
        let file = secret.path().to_owned();
        let service = Service::with(|config| {
            config.openid.issuer = issuer;
            config.openid.name = "Skerry".to_owned();
            config.openid.client_id = "pennine".to_owned();
            config.openid.client_secret_file = file;
            config.openid.adds_accounts = adds_accounts;
        })
        .await;
        service.furnish().await;
        let http = Client::builder().redirect(Policy::none()).build().unwrap();
        Bench {
            service,
            provider,
            http,
            _secret: secret,
            _stop: stop.drop_guard(),
        }
    }

    async fn get(&self, url: &str, cookie: &str) -> Response {
        let request = self.http.get(url).header(COOKIE, cookie);
        request.send().await.unwrap()
    }

    /// Begins a sign-in. Returns where the browser is sent, and its cookie.
    async fn begin(&self) -> (String, String) {
        let begun = self
            .get(&format!("{}/sign-in/openid", self.service.url), "")
            .await;
        assert_eq!(begun.status(), 303);
        (
            location(&begun),
            cookie(&begun, "pennine_openid").expect("a cookie"),
        )
    }

    /// Goes through the provider as a person. Returns where the browser is sent back to.
    async fn choose(&self, url: &str, name: &str) -> String {
        location(&self.get(&format!("{url}&person={name}"), "").await)
    }

    /// Signs in as a person. Returns where the browser ends, and its cookie for the console.
    async fn sign_in(&self, name: &str) -> (String, Option<String>) {
        let (url, pending) = self.begin().await;
        let back = self.choose(&url, name).await;
        let answer = self.get(&back, &pending).await;
        (location(&answer), cookie(&answer, "pennine_session"))
    }

    async fn who(&self, session: &str) -> SignedIn {
        let url = format!("{}/api/v1/session", self.service.url);
        self.get(&url, session).await.json().await.unwrap()
    }

    /// Why a sign-in fails.
    async fn refused(&self, name: &str) -> String {
        let (end, session) = self.sign_in(name).await;
        assert_eq!(session, None, "{end}");
        end.strip_prefix("/?sign_in=").unwrap_or(&end).to_owned()
    }
}

fn location(answer: &Response) -> String {
    let to = answer.headers().get(LOCATION);
    let to = to.unwrap_or_else(|| panic!("no redirection: {answer:?}"));
    to.to_str().unwrap().to_owned()
}

/// A cookie of this name that is set and not empty, as a browser sends it.
fn cookie(answer: &Response, name: &str) -> Option<String> {
    let set = answer.headers().get_all(SET_COOKIE).iter();
    let pairs = set.map(|value| {
        value
            .to_str()
            .unwrap()
            .split(';')
            .next()
            .unwrap()
            .to_owned()
    });
    let mut own = pairs.filter(|pair| pair.starts_with(&format!("{name}=")));
    own.rfind(|pair| !pair.ends_with('='))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn people_sign_in_through_the_provider_with_the_roles_of_their_groups() {
    let bench = Bench::start(true).await;
    let people = &bench.service.client;
    let grant = |group: &str, role, place: &str| NewGroupGrant {
        group: group.to_owned(),
        role,
        place: place.to_owned(),
    };
    let firmware = grant("firmware-developers", Role::Submitter, "firmware");
    people.grant_to_group(&firmware).await.unwrap();
    people
        .grant_to_group(&grant("everybody", Role::Viewer, ""))
        .await
        .unwrap();
    let (end, session) = bench.sign_in("mira").await;
    assert_eq!(end, "/");
    let session = session.expect("a session");
    let who = bench.who(&session).await;
    assert_eq!(
        (who.name.as_str(), who.full_name.as_str(), who.is_person),
        ("mira", "Mira Tveit", true)
    );
    let grants: Vec<_> = who
        .grants
        .iter()
        .map(|one| (one.role, one.place.as_str()))
        .collect();
    assert_eq!(grants, [(Role::Submitter, "firmware")]);
    let mira = people.person("mira").await.unwrap();
    assert_eq!(
        (mira.state.as_str(), mira.groups.as_slice()),
        ("active", ["firmware-developers".to_owned()].as_slice())
    );
    assert_eq!((mira.grants.len(), mira.group_grants.len()), (0, 1));
    // What a group may do is in force at once; which groups a person has, from the next sign-in on.
    let removal = GroupGrantRemoval {
        group: "firmware-developers".into(),
        place: "firmware".into(),
    };
    people.revoke_from_group(&removal).await.unwrap();
    assert_eq!(
        refusal(people.revoke_from_group(&removal).await).word(),
        "no-such-grant"
    );
    assert!(bench.who(&session).await.grants.is_empty());
    bench.provider.set_groups("mira", &["everybody"]);
    let (_, session) = bench.sign_in("mira").await;
    let who = bench.who(&session.unwrap()).await;
    assert_eq!(who.grants[0].role, Role::Viewer);
    // The same account, not another one.
    assert_eq!(people.people().await.unwrap().items.len(), 2);
    let actions = "select concat(what, ' ', who, ' ', subject) from audit where what like 'person.%' or what like 'session.begin' order by id";
    let actions = bench.service.database.texts(actions).await;
    for expected in [
        "person.add pennined mira",
        "person.groups pennined mira",
        "session.begin mira mira",
    ] {
        assert!(
            actions.iter().any(|one| one == expected),
            "{expected}: {actions:?}"
        );
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_provider_says_wrongly_is_not_believed() {
    let bench = Bench::start(true).await;
    for fault in [
        ProviderFault::OtherAudience,
        ProviderFault::OtherIssuer,
        ProviderFault::OtherNonce,
        ProviderFault::Expired,
        ProviderFault::OtherKey,
        ProviderFault::Unsigned,
    ] {
        bench.provider.set_fault(Some(fault));
        assert_eq!(bench.refused("mira").await, "provider-refused", "{fault:?}");
    }
    bench.provider.set_fault(Some(ProviderFault::Broken));
    assert_eq!(bench.refused("mira").await, "provider-away");
    bench.provider.set_fault(None);
    assert_eq!(bench.service.client.people().await.unwrap().items.len(), 1);
    let (end, session) = bench.sign_in("mira").await;
    assert_eq!((end.as_str(), session.is_some()), ("/", true));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sign_in_is_completed_once_in_the_browser_that_began_it_and_in_time() {
    let bench = Bench::start(true).await;
    let (url, pending) = bench.begin().await;
    assert!(
        url.contains("code_challenge_method=S256") && url.contains("nonce="),
        "{url}"
    );
    let back = bench.choose(&url, "mira").await;
    // Another browser, one without the cookie, and a state that was changed.
    let (_, other) = bench.begin().await;
    for (back, cookie) in [
        (back.clone(), other.as_str()),
        (back.clone(), ""),
        (back.replace("state=", "state=x"), pending.as_str()),
    ] {
        let answer = bench.get(&back, cookie).await;
        assert_eq!(location(&answer), "/?sign_in=sign-in-expired");
    }
    let answer = bench.get(&back, &pending).await;
    assert_eq!(location(&answer), "/");
    let set: Vec<_> = answer
        .headers()
        .get_all(SET_COOKIE)
        .iter()
        .map(|one| one.to_str().unwrap())
        .collect();
    let session = set
        .iter()
        .find(|one| one.starts_with("pennine_session="))
        .unwrap();
    assert!(
        session.contains("HttpOnly") && session.contains("SameSite=Strict"),
        "{session}"
    );
    // The code was used.
    let answer = bench.get(&back, &pending).await;
    assert_eq!(location(&answer), "/?sign_in=provider-away");
    let (url, pending) = bench.begin().await;
    let back = bench.choose(&url, "mira").await;
    bench.service.clock.advance(Duration::from_secs(601));
    assert_eq!(
        location(&bench.get(&back, &pending).await),
        "/?sign_in=sign-in-expired"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_account_is_never_taken_over_by_its_name_and_a_disabled_one_stays_so() {
    let bench = Bench::start(true).await;
    let people = &bench.service.client;
    assert_eq!(bench.refused("admin").await, "name-taken");
    // An administrator says who is who.
    let subject = |subject: &str| PersonChange {
        subject: Some(subject.to_owned()),
        ..PersonChange::default()
    };
    let ola = NewPerson {
        name: "brekke".into(),
        full_name: String::new(),
        role: Role::Operator,
        place: "firmware".into(),
    };
    people.add_person(&ola).await.unwrap();
    people
        .change_person("brekke", &subject("person-ola"))
        .await
        .unwrap();
    let refused = refusal(people.change_person("admin", &subject("person-ola")).await);
    assert_eq!(refused.field.as_deref(), Some("subject"), "{refused:?}");
    let (_, session) = bench.sign_in("ola").await;
    let who = bench.who(&session.expect("a session")).await;
    assert_eq!(
        (who.name.as_str(), who.grants[0].role),
        ("brekke", Role::Operator)
    );
    let disabled = PersonChange {
        disabled: Some(true),
        ..PersonChange::default()
    };
    people.change_person("brekke", &disabled).await.unwrap();
    assert_eq!(bench.refused("ola").await, "account-disabled");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_accounts_for_newcomers_only_known_people_sign_in_and_the_page_offers_the_provider()
{
    let bench = Bench::start(false).await;
    assert_eq!(bench.refused("mira").await, "no-account");
    let url = format!("{}/api/v1/session/options", bench.service.url);
    let options: serde_json::Value = bench.get(&url, "").await.json().await.unwrap();
    assert_eq!(options["provider"], "Skerry");
    let without = Service::start().await;
    let url = format!("{}/api/v1/session/options", without.url);
    let options: serde_json::Value = bench.get(&url, "").await.json().await.unwrap();
    assert!(options.get("provider").is_none(), "{options}");
    let answer = bench
        .get(&format!("{}/sign-in/openid", without.url), "")
        .await;
    assert_eq!(location(&answer), "/?sign_in=unknown-page");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_person_signs_in_at_the_console_through_the_provider() {
    let bench = Bench::start(true).await;
    let grant = NewGroupGrant {
        group: "firmware-developers".into(),
        role: Role::Submitter,
        place: "firmware".into(),
    };
    bench.service.client.grant_to_group(&grant).await.unwrap();
    let browser = Browser::start().await;
    browser.open(&bench.service, "/").await;
    browser.follow("Sign in with Skerry").await;
    // The provider's page, which asks who it is.
    browser.follow("Mira Tveit").await;
    browser.find("[data-testid=answer]").await;
    browser.open(&bench.service, "/settings/account").await;
    browser
        .text_when("main", |text| {
            text.contains("Mira Tveit") && text.contains("firmware-developers")
        })
        .await;

    // A sign-in that fails leads back to the form with its cause.
    let other = Browser::start().await;
    bench.provider.set_fault(Some(ProviderFault::Broken));
    other.open(&bench.service, "/").await;
    other.follow("Sign in with Skerry").await;
    other.follow("Ola Brekke").await;
    other
        .text_when("[role=alert]", |text| text.contains("provider"))
        .await;
    other.find("input[name=password]").await;
    browser.close().await;
    other.close().await;
}
