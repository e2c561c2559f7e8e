//! Tokens, sign-ins, keys of repeated requests, and the lead.

use crate::{NOW, Record};
use pennine_core::id::ReplicaId;
use pennine_store::token::{self, Token};
use pennine_store::{Db, idempotency, leadership};
use std::time::Duration;
use uuid::Uuid;

const HOUR: Duration = Duration::from_secs(3600);

fn new(secret: &[u8]) -> Token {
    Token {
        id: Uuid::now_v7(),
        name: "deploy".to_owned(),
        secret_hash: secret.to_vec(),
        role: "submitter".to_owned(),
        created_at: Db(NOW),
        expires_at: Some(Db(NOW + HOUR)),
        revoked_at: None,
    }
}

#[tokio::test]
async fn a_token_is_known_by_its_secret_until_it_expires_or_is_revoked() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let before = token::any(&mut connection).await.unwrap();
    assert!(!before, "a fresh record has no token");
    let token = new(b"secret");
    token::insert(&mut connection, &token).await.unwrap();
    let revoked = Token {
        revoked_at: Some(Db(NOW)),
        ..new(b"another")
    };
    token::insert(&mut connection, &revoked).await.unwrap();
    let known = async |connection: &mut _, secret: &[u8], now| {
        let found = token::by_secret(connection, secret, now).await.unwrap();
        found.map(|token| token.id)
    };
    assert_eq!(known(&mut connection, b"secret", NOW).await, Some(token.id));
    assert_eq!(known(&mut connection, b"secret", NOW + HOUR).await, None);
    assert_eq!(known(&mut connection, b"wrong", NOW).await, None);
    assert_eq!(known(&mut connection, b"another", NOW).await, None);
}

#[tokio::test]
async fn a_sign_in_ends_with_its_time_and_when_it_is_signed_out() {
    let record = Record::fresh().await;
    let mut connection = record.connection().await;
    let token = new(b"secret");
    token::insert(&mut connection, &token).await.unwrap();
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
    let token = new(b"secret");
    token::insert(&mut connection, &token).await.unwrap();
    let begin = async |connection: &mut _| {
        idempotency::begin(connection, token.id, "key-1", b"hash", NOW)
            .await
            .unwrap()
    };
    assert!(begin(&mut connection).await.is_none());
    let waiting = begin(&mut connection).await.expect("it is reserved");
    assert_eq!(
        (waiting.body_hash.as_slice(), waiting.status),
        (&b"hash"[..], None)
    );
    idempotency::finish(&mut connection, token.id, "key-1", 201, b"made")
        .await
        .unwrap();
    let kept = begin(&mut connection).await.expect("it is kept");
    assert_eq!(
        (kept.status, kept.answer.as_deref()),
        (Some(201), Some(&b"made"[..]))
    );
    idempotency::forget(&mut connection, token.id, "key-1")
        .await
        .unwrap();
    assert!(begin(&mut connection).await.is_none(), "it is free again");
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
