//! The stand-in cloud passes the supplier conformance suite, and fails on request.

// A test that cannot go on fails.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use pennine_standins::cloud::{self, Plan};
use pennine_standins::program::program;
use pennine_suppliers::cloud::Cloud;
use pennine_suppliers::conformance::{self, some_order};
use pennine_suppliers::outgoing::AddressPolicy;
use pennine_suppliers::{Fault, SuppliedState, Supplier};
use std::collections::BTreeMap;
use std::time::Duration;
use tempfile::TempDir;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

struct Stand {
    url: String,
    folder: TempDir,
    stop: CancellationToken,
    served: tokio::task::JoinHandle<anyhow::Result<()>>,
}

/// A cloud whose machines run this script.
async fn stand(script: &str, change: impl FnOnce(&mut Plan)) -> Stand {
    let folder = tempfile::tempdir().unwrap();
    let text = format!("#!/bin/sh\n{script}\n");
    let program = program(folder.path(), "runner", &text).unwrap();
    let mut plan = Plan::new(folder.path().join("machines"), program);
    change(&mut plan);
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let stop = CancellationToken::new();
    let served = tokio::spawn(cloud::serve(listener, plan, stop.clone().cancelled_owned()));
    Stand {
        url,
        folder,
        stop,
        served,
    }
}

/// The cloud of the test is on this host.
fn loopback() -> AddressPolicy {
    AddressPolicy::allowing(&["127.0.0.0/8".to_owned()]).unwrap()
}

impl Stand {
    fn supplier(&self, installation: Uuid) -> Cloud {
        let settings = [
            ("url".to_owned(), self.url.clone()),
            ("key".to_owned(), "open".to_owned()),
        ];
        Cloud::new(installation, &BTreeMap::from(settings), &loopback()).unwrap()
    }

    async fn end(self) {
        self.stop.cancel();
        self.served.await.unwrap().unwrap();
        let left = std::fs::read_dir(self.folder.path().join("machines")).unwrap();
        let left: Vec<_> = left
            .flatten()
            .filter(|entry| entry.path().is_dir())
            .collect();
        assert!(left.is_empty(), "{left:?}");
    }
}

const ONE: Uuid = Uuid::from_u128(1);

#[tokio::test]
async fn the_standin_cloud_passes_the_supplier_conformance_suite() {
    let stand = stand("exec sleep 60", |plan| plan.key = "open".into()).await;
    let (own, other) = (stand.supplier(ONE), stand.supplier(Uuid::from_u128(2)));
    conformance::hold(&own, &other, |number| some_order(ONE, number))
        .await
        .unwrap();
    stand.end().await;
}

#[tokio::test]
async fn a_machine_boots_runs_and_stops_with_its_runner_and_has_console_output() {
    let stand = stand("echo here is $PENNINE_URL; sleep 0.2", |plan| {
        plan.boot_s = (0.3, 0.3);
    })
    .await;
    let supplier = stand.supplier(ONE);
    let order = some_order(ONE, 1);
    let placed = supplier.order(&order).await.unwrap();
    assert!(["north", "south", "isle"].contains(&placed.zone.as_str()));
    let first = conformance::stage(&supplier, order.machine).await;
    assert_eq!(first, Some(SuppliedState::Starting));
    let seen = tokio::time::timeout(Duration::from_secs(20), async {
        while conformance::stage(&supplier, order.machine).await != Some(SuppliedState::Stopped) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    });
    seen.await.unwrap();
    let console = supplier.console(order.machine).await.unwrap();
    assert!(console.contains("powered on"), "{console}");
    assert!(console.contains("here is http://127.0.0.1:9"), "{console}");
    stand.end().await;
}

#[tokio::test]
async fn refusals_are_distinguished() {
    let stand = stand("exec sleep 60", |plan| {
        plan.quota = 1;
        plan.faults.out_of_stock = vec!["large".into()];
    })
    .await;
    let supplier = stand.supplier(ONE);
    let mut large = some_order(ONE, 1);
    large.size = "large".into();
    let fault = supplier.order(&large).await.unwrap_err();
    assert_eq!(
        fault,
        Fault::Refused("machines of the size large are out of stock".into())
    );
    supplier.order(&some_order(ONE, 2)).await.unwrap();
    let fault = supplier.order(&some_order(ONE, 3)).await.unwrap_err();
    assert!(
        matches!(fault, Fault::Quota { quota: Some(1), .. }),
        "{fault:?}"
    );
    assert_eq!(supplier.offer().await.unwrap().quota, Some(1));
    stand.end().await;
}

#[tokio::test]
async fn an_order_without_an_answer_is_unclear_and_makes_one_machine() {
    let stand = stand("exec sleep 60", |plan| plan.faults.answers_lost = 1.0).await;
    let supplier = stand.supplier(ONE);
    let order = some_order(ONE, 1);
    for _ in 0..2 {
        let fault = supplier.order(&order).await.unwrap_err();
        assert!(matches!(fault, Fault::Unclear(_)), "{fault:?}");
    }
    let found = supplier.list().await.unwrap();
    assert_eq!(found.len(), 1);
    stand.end().await;
}
