//! Tokens, sign-ins, keys of repeated requests, and the lead.

use crate::{NOW, Record};
use pennine_core::access::Role;
use pennine_core::id::ReplicaId;
use pennine_store::idempotency::KeyReservation;
use pennine_store::token::{self, NewToken, Renewal};
use pennine_store::{Connection, Error, idempotency, leadership, place};
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

#[tokio::test]
async fn a_sign_in_ends_with_its_time_and_when_it_is_signed_out() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let token = inserted(&mut connection, "deploy", b"secret").await;
    for cookie in [b"one", b"two"] {
        token::sign_in(&mut connection, cookie, token.id, NOW, NOW + HOUR)
            .await
            .unwrap();
    }
    let who = async |connection: &mut _, cookie: &[u8], now| {
        let found = token::by_cookie(connection, cookie, now).await.unwrap();
        found.map(|(token, until)| (token.id, until))
    };
    let signed_in = Some((token.id, NOW + HOUR));
    assert_eq!(who(&mut connection, b"one", NOW).await, signed_in);
    assert_eq!(who(&mut connection, b"one", NOW + HOUR).await, None);
    token::sign_out(&mut connection, b"one").await.unwrap();
    assert_eq!(who(&mut connection, b"one", NOW).await, None);
    assert_eq!(who(&mut connection, b"two", NOW).await, signed_in);
    let swept = token::sweep(&mut connection, NOW + HOUR * 2).await.unwrap();
    assert_eq!(swept, 1);
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
