//! The container engine holds to what every supplier holds to: with podman, where it is installed and may run containers.
//! Where it may not, this says so loudly and tests nothing.

// A test that cannot go on fails.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use pennine_standins::engine::Podman;
use pennine_standins::program::program;
use pennine_suppliers::conformance::{self, some_order};
use pennine_suppliers::engine::Engine;
use pennine_suppliers::{Fault, Order, SuppliedState, Supplier};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};
use uuid::Uuid;

const ONE: Uuid = Uuid::from_u128(1);

/// The engine as a supplier, whose machines run this script.
fn supplier(podman: &Podman, installation: Uuid, script: &str) -> Engine {
    let name = format!("runner-{}", script.len());
    let text = format!("#!/bin/sh\n{script}\n");
    let program = program(podman.folder(), &name, &text).unwrap();
    Engine::new(installation, Some(program), podman.settings()).unwrap()
}

fn order(number: u128) -> Order {
    some_order(ONE, number)
}

#[tokio::test]
async fn the_container_engine_passes_the_supplier_conformance_suite() {
    let Some(podman) = Podman::or_skip() else {
        return;
    };
    let own = supplier(&podman, ONE, "exec sleep 60");
    let other = supplier(&podman, Uuid::from_u128(2), "exec sleep 60");
    conformance::hold(&own, &other, order).await.unwrap();

    // What it printed is there until it is removed, and its end is seen.
    let brief = supplier(&podman, ONE, "echo the ticket is $PENNINE_TICKET");
    let first = order(21);
    brief.order(&first).await.unwrap();
    let begun = Instant::now();
    while conformance::stage(&brief, first.machine).await != Some(SuppliedState::Stopped) {
        assert!(begun.elapsed() < Duration::from_secs(60), "it ends");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let printed = brief.console(first.machine).await.unwrap();
    assert_eq!(printed.trim(), "the ticket is pen-ticket-none");
    brief.remove(first.machine).await.unwrap();

    // An image that is not there is the pool's trouble, not the engine's.
    let mut wrong = order(22);
    wrong.image = "localhost/no-such-image:latest".into();
    let fault = own.order(&wrong).await.unwrap_err();
    assert!(
        matches!(&fault, Fault::Refused(message) if message.contains("unknown image")),
        "{fault:?}"
    );
}

#[tokio::test]
async fn a_missing_engine_is_reported() {
    let settings = |socket: &str| BTreeMap::from([("socket".to_owned(), socket.to_owned())]);
    let error = Engine::new(ONE, None, settings("/nowhere/engine.sock"))
        .err()
        .unwrap();
    assert!(error.contains("/nowhere/engine.sock"), "{error}");
    assert!(Engine::new(ONE, None, BTreeMap::new()).is_err());
}
