//! Tokens, sign-ins, keys of repeated requests, and the lead.

use crate::{NOW, Record};
use pennine_core::access::{Grant, Role};
use pennine_core::id::{PersonId, ReplicaId};
use pennine_core::time::Moment;
use pennine_store::idempotency::KeyReservation;
use pennine_store::person::{NewPerson, Person};
use pennine_store::sign_in::{NewSignIn, SignInOwner, SignInOwnerId};
use pennine_store::token::{self, NewToken, Renewal};
use pennine_store::{Connection, Error, idempotency, leadership, person, place, sign_in};
use std::time::Duration;
use uuid::Uuid;

const HOUR: Duration = Duration::from_secs(3600);

async fn inserted(connection: &mut Connection, name: &str, secret: &[u8]) -> NewToken {
    let root = place::root(connection).await.unwrap();
    let new = NewToken {
        id: Uuid::now_v7(),
        name: name.to_owned(),
        secret_hash: secret.to_vec(),
        role: Role::Submitter,
        place: root.id.0,
        purpose: None,
        at: NOW,
        by: "admin".to_owned(),
        expires_at: Some(NOW + HOUR),
        owner: None,
    };
    token::insert(connection, new.clone()).await.unwrap();
    new
}

#[tokio::test]
async fn a_token_is_known_by_its_secret_until_it_expires_or_is_revoked() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let before = token::any(&mut connection).await.unwrap();
    assert!(!before, "a fresh record has no token");
    let token = inserted(&mut connection, "deploy", b"secret").await;
    let again = NewToken {
        id: Uuid::now_v7(),
        secret_hash: b"third".to_vec(),
        ..token.clone()
    };
    let taken = token::insert(&mut connection, again.clone()).await;
    assert!(matches!(taken, Err(Error::Duplicate(_))), "{taken:?}");
    let known = async |connection: &mut _, secret: &[u8], now| {
        let found = token::by_secret(connection, secret, now).await.unwrap();
        found.map(|token| token.id)
    };
    assert_eq!(known(&mut connection, b"secret", NOW).await, Some(token.id));
    assert_eq!(known(&mut connection, b"secret", NOW + HOUR).await, None);
    assert_eq!(known(&mut connection, b"wrong", NOW).await, None);
    let is_revoked = token::revoke(&mut connection, token.id, "admin", NOW).await;
    assert!(is_revoked.unwrap());
    assert_eq!(known(&mut connection, b"secret", NOW).await, None);
    let again = token::insert(&mut connection, again).await;
    assert!(again.is_ok(), "the name of a revoked token is free");
}

#[tokio::test]
async fn a_rotated_token_is_known_by_both_secrets_for_a_while() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let token = inserted(&mut connection, "deploy", b"first").await;
    let minute = Duration::from_secs(60);
    let mut at = NOW;
    for secret in [b"second".as_slice(), b"third"] {
        let renewal = Renewal {
            at,
            hash: secret,
            previous_until: at + minute,
            expires_at: Some(NOW + HOUR),
        };
        assert!(
            token::rotate(&mut connection, token.id, renewal)
                .await
                .unwrap()
        );
        at = at + minute / 2;
    }
    let known = async |connection: &mut _, secret: &[u8], now| {
        let found = token::by_secret(connection, secret, now).await.unwrap();
        found.is_some()
    };
    assert!(
        !known(&mut connection, b"first", NOW).await,
        "two rotations ago"
    );
    assert!(known(&mut connection, b"second", NOW + minute).await);
    assert!(!known(&mut connection, b"second", NOW + minute * 2).await);
    assert!(known(&mut connection, b"third", NOW + minute * 2).await);
}

/// A sign-in with a cookie, for an hour.
fn session(cookie: &'static [u8], owner: SignInOwnerId) -> NewSignIn<'static> {
    NewSignIn {
        id: Uuid::now_v7(),
        secret_hash: cookie,
        owner,
        at: NOW,
        until: NOW + HOUR,
        address: Some("192.0.2.7".to_owned()),
        user_agent: "a browser",
    }
}

async fn person_named(connection: &mut Connection, name: &str) -> Person {
    let new = NewPerson {
        id: PersonId(Uuid::now_v7()),
        name: name.to_owned(),
        full_name: String::new(),
        at: NOW,
        by: "admin".to_owned(),
    };
    person::insert(connection, new).await.unwrap();
    person::find(connection, name).await.unwrap().unwrap()
}

/// Whose a cookie is.
async fn signed(connection: &mut Connection, cookie: &[u8], now: Moment) -> Option<String> {
    let found = sign_in::by_cookie(connection, cookie, now).await.unwrap();
    found.map(|(signed, _)| match signed {
        SignInOwner::Token(token) => format!("token {}", token.name),
        SignInOwner::Person(person) => format!("person {}", person.name),
    })
}

#[tokio::test]
async fn a_sign_in_ends_with_its_time_when_it_is_signed_out_and_with_what_it_is_with() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let token = inserted(&mut connection, "deploy", b"secret").await;
    let mira = person_named(&mut connection, "mira").await;
    let (by_token, by_person) = (
        SignInOwnerId::Token(token.id),
        SignInOwnerId::Person(mira.id.0),
    );
    for (cookie, owner) in [
        (b"one".as_slice(), by_token),
        (b"two", by_token),
        (b"three", by_person),
        (b"four", by_person),
    ] {
        let new = session(cookie, owner);
        sign_in::insert(&mut connection, new).await.unwrap();
    }
    let deploy = Some("token deploy".to_owned());
    assert_eq!(signed(&mut connection, b"one", NOW).await, deploy);
    assert_eq!(signed(&mut connection, b"one", NOW + HOUR).await, None);
    assert!(sign_in::end(&mut connection, b"one").await.unwrap());
    assert_eq!(signed(&mut connection, b"one", NOW).await, None);
    assert_eq!(signed(&mut connection, b"two", NOW).await, deploy);
    let name = Some("person mira".to_owned());
    assert_eq!(signed(&mut connection, b"three", NOW).await, name);
    let all = sign_in::of_person(&mut connection, mira.id.0, NOW)
        .await
        .unwrap();
    assert_eq!(all.len(), 2);
    let kept = all.first().map(|session| session.id);
    let ended = sign_in::end_others(&mut connection, mira.id.0, kept).await;
    assert_eq!(ended.unwrap(), 1);
    token::revoke(&mut connection, token.id, "admin", NOW)
        .await
        .unwrap();
    assert_eq!(signed(&mut connection, b"two", NOW).await, None);
    let disabled = Some((NOW, "admin"));
    person::set_disabled(&mut connection, mira.id.0, disabled)
        .await
        .unwrap();
    let left = sign_in::of_person(&mut connection, mira.id.0, NOW)
        .await
        .unwrap();
    assert!(left.is_empty(), "they ended with the account");
}

#[tokio::test]
async fn failures_count_by_name_and_address_and_are_forgotten_after_a_success() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let mira = person_named(&mut connection, "mira").await;
    let (home, away) = ("192.0.2.7", "198.51.100.9");
    let fail = async |connection: &mut _, network, at| {
        sign_in::note_failure(connection, "mira", network, at)
            .await
            .unwrap();
    };
    sign_in::note_success(&mut connection, mira.id.0, "mira", home, NOW)
        .await
        .unwrap();
    for _ in 0..25 {
        fail(&mut connection, away, NOW).await;
    }
    fail(&mut connection, home, NOW).await;
    let history = async |connection: &mut _, network, at| {
        sign_in::history(connection, "mira", network, at)
            .await
            .unwrap()
    };
    let at_home = history(&mut connection, home, NOW).await;
    assert!(at_home.is_known && at_home.wait(NOW).is_zero());
    assert_eq!((at_home.own.count, at_home.all.count), (1, 26));
    let elsewhere = history(&mut connection, "203.0.113.1", NOW).await;
    assert!(!elsewhere.is_known && !elsewhere.wait(NOW).is_zero());
    let guessed = sign_in::guessed(&mut connection, 20, NOW).await.unwrap();
    let guessed: Vec<_> = guessed
        .iter()
        .map(|one| (one.name.as_str(), one.failures, one.addresses))
        .collect();
    assert_eq!(guessed, [("mira", 26, 2)]);
    // An hour later they no longer count.
    let later = NOW + HOUR * 2;
    assert!(
        history(&mut connection, "203.0.113.1", later)
            .await
            .wait(later)
            .is_zero()
    );
    assert!(
        sign_in::guessed(&mut connection, 20, later)
            .await
            .unwrap()
            .is_empty()
    );
    fail(&mut connection, away, later).await;
    assert_eq!(history(&mut connection, away, later).await.own.count, 1);
    sign_in::note_success(&mut connection, mira.id.0, "mira", away, later)
        .await
        .unwrap();
    let known = history(&mut connection, away, later).await;
    assert!(known.is_known && known.own.count == 0);
}

#[tokio::test]
async fn an_own_token_carries_the_roles_of_its_owner_and_ends_with_the_account() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let mira = person_named(&mut connection, "mira").await;
    let root = place::root(&mut connection).await.unwrap().id.0;
    let id = mira.id.0;
    person::grant(&mut connection, id, root, Role::Viewer, NOW, "admin")
        .await
        .unwrap();
    person::grant(&mut connection, id, root, Role::Operator, NOW, "admin")
        .await
        .unwrap();
    let new = NewToken {
        id: Uuid::now_v7(),
        name: "mira/laptop".to_owned(),
        secret_hash: b"own".to_vec(),
        owner: Some(id),
        ..inserted(&mut connection, "deploy", b"secret").await
    };
    token::insert(&mut connection, new).await.unwrap();
    let found = token::by_secret(&mut connection, b"own", NOW)
        .await
        .unwrap()
        .unwrap();
    assert_eq!(found.owner.as_deref(), Some("mira"));
    assert_eq!(
        found.owner_granted.grants(),
        [Grant::at_root(Role::Operator)]
    );
    assert!(person::revoke(&mut connection, id, root).await.unwrap());
    let found = token::by_secret(&mut connection, b"own", NOW)
        .await
        .unwrap()
        .unwrap();
    assert!(found.owner_granted.grants().is_empty());
    person::set_disabled(&mut connection, id, Some((NOW, "admin")))
        .await
        .unwrap();
    let found = token::by_secret(&mut connection, b"own", NOW)
        .await
        .unwrap();
    assert!(found.is_none());
    let other = token::by_secret(&mut connection, b"secret", NOW)
        .await
        .unwrap();
    assert!(other.is_some_and(|token| token.owner.is_none()));
}

#[tokio::test]
async fn a_code_a_recovery_code_and_a_link_are_used_once() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let mira = person_named(&mut connection, "mira").await.id.0;
    person::begin_second_factor(&mut connection, mira, "locked")
        .await
        .unwrap();
    let codes = [b"one".to_vec(), b"two".to_vec()];
    person::confirm_second_factor(&mut connection, mira, &codes, NOW)
        .await
        .unwrap();
    let person = person::find(&mut connection, "mira")
        .await
        .unwrap()
        .unwrap();
    assert!(person.has_second_factor() && person.recovery_codes == 2);
    for (step, accepted) in [(7, true), (7, false), (6, false), (8, true)] {
        let used = person::use_step(&mut connection, mira, step).await.unwrap();
        assert_eq!(used, accepted, "step {step}");
    }
    for accepted in [true, false] {
        let used = person::use_recovery_code(&mut connection, mira, b"one").await;
        assert_eq!(used.unwrap(), accepted);
    }
    for link in [b"first".as_slice(), b"second"] {
        sign_in::add_link(&mut connection, mira, link, NOW, NOW + HOUR, false)
            .await
            .unwrap();
    }
    let first = sign_in::link(&mut connection, b"first", NOW).await.unwrap();
    assert!(first.is_none(), "a newer link replaces it");
    let late = sign_in::link(&mut connection, b"second", NOW + HOUR)
        .await
        .unwrap();
    assert!(late.is_none(), "it has expired");
    assert!(
        sign_in::link(&mut connection, b"second", NOW)
            .await
            .unwrap()
            .is_some()
    );
    for accepted in [true, false] {
        let used = sign_in::use_link(&mut connection, b"second").await.unwrap();
        assert_eq!(used, accepted);
    }
    person::remove_second_factor(&mut connection, mira)
        .await
        .unwrap();
    let person = person::find(&mut connection, "mira")
        .await
        .unwrap()
        .unwrap();
    assert!(!person.has_second_factor() && person.recovery_codes == 0);
    let swept = sign_in::sweep(&mut connection, NOW + HOUR).await.unwrap();
    assert_eq!(swept, 0, "no sign-in is left");
}

#[tokio::test]
async fn a_key_is_reserved_once_and_keeps_the_answer_until_it_is_forgotten() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let token = inserted(&mut connection, "deploy", b"secret").await;
    let (subject, other) = (Uuid::now_v7(), Uuid::now_v7());
    let begin = async |connection: &mut _, subject, at| {
        let key = (token.id, "key-1");
        idempotency::begin(connection, key, b"hash", subject, at, at - HOUR)
            .await
            .unwrap()
    };
    let own = begin(&mut connection, subject, NOW).await;
    assert!(matches!(own, KeyReservation::Own(id) if id == subject));
    let KeyReservation::Known(waiting) = begin(&mut connection, other, NOW).await else {
        panic!("it is reserved");
    };
    assert_eq!(
        (waiting.body_hash.as_slice(), waiting.status),
        (&b"hash"[..], None)
    );
    // Taken over from a request that never ended: the id stays.
    let taken_over = begin(&mut connection, other, NOW + HOUR * 2).await;
    assert!(matches!(taken_over, KeyReservation::Own(id) if id == subject));
    idempotency::finish(&mut connection, token.id, "key-1", 201, Some(b"made"))
        .await
        .unwrap();
    let KeyReservation::Known(kept) = begin(&mut connection, other, NOW + HOUR * 4).await else {
        panic!("it is kept");
    };
    assert_eq!(
        (kept.status, kept.answer.as_deref()),
        (Some(201), Some(&b"made"[..]))
    );
    idempotency::forget(&mut connection, token.id, "key-1")
        .await
        .unwrap();
    let again = begin(&mut connection, other, NOW).await;
    assert!(
        matches!(again, KeyReservation::Own(id) if id == other),
        "it is free again"
    );
}

#[tokio::test]
async fn a_key_that_is_given_free_just_while_another_request_looks_is_reserved_anew() {
    let record = Record::fresh().await;
    let token = inserted(&mut *record.connection().await, "deploy", b"secret").await;
    let requests = async || {
        let mut connection = record.connection().await;
        for _ in 0..300 {
            let key = (token.id, "key-1");
            let begun = idempotency::begin(
                &mut connection,
                key,
                b"hash",
                Uuid::now_v7(),
                NOW,
                NOW - HOUR,
            );
            if matches!(begun.await.unwrap(), KeyReservation::Own(_)) {
                idempotency::forget(&mut connection, token.id, "key-1")
                    .await
                    .unwrap();
            }
        }
    };
    tokio::join!(requests(), requests(), requests());
}

#[tokio::test]
async fn only_the_holder_of_an_epoch_keeps_the_lead() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let (one, two) = (ReplicaId(Uuid::now_v7()), ReplicaId(Uuid::now_v7()));
    let first = leadership::acquire(&mut connection, one, "http://one")
        .await
        .unwrap()
        .expect("no replica leads");
    assert!(leadership::is_epoch(&mut connection, first).await.unwrap());
    let taken = leadership::acquire(&mut connection, two, "http://two").await;
    assert_eq!(taken.unwrap(), None);
    assert!(
        leadership::renew(&mut connection, one, first)
            .await
            .unwrap()
    );
    assert!(
        !leadership::renew(&mut connection, two, first)
            .await
            .unwrap()
    );
    leadership::release(&mut connection, one, first)
        .await
        .unwrap();
    let second = leadership::acquire(&mut connection, two, "http://two")
        .await
        .unwrap()
        .expect("it was given up");
    assert!(second > first);
    assert!(!leadership::is_epoch(&mut connection, first).await.unwrap());
    let leader = leadership::current(&mut connection).await.unwrap();
    assert!(leader.live);
    assert_eq!(leader.address, "http://two");
}
