//! A pool's page in a real browser: a burst is seen live, and a change is tried before it is made.

use crate::capacity::{add_pool, nothing_left, supply};
use crate::support::{Browser, Service, StandinCloud, until};
use pennine_core::time::Micros;
use pennine_wire::SupplyChange;
use std::time::Duration;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_burst_is_seen_live_from_nothing_to_the_ceiling_and_back() {
    // Each state lasts for longer than the page takes to ask again by itself.
    let cloud = StandinCloud::start(|plan| plan.boot_s = (10.0, 10.1)).await;
    let service = Service::start().await;
    service.furnish().await;
    cloud.join(&service, "chandler").await;
    let wanted = SupplyChange {
        facts: Some(
            [(
                "os".to_owned(),
                serde_json::from_value("linux".into()).unwrap(),
            )]
            .into(),
        ),
        dwell_us: Some(Micros::from(Duration::from_secs(12))),
        ..supply("chandler", 1)
    };
    add_pool(&service, "slipway", wanted).await;
    let browser = Browser::signed_in(&service).await;
    browser.open(&service, "/pools/slipway?minutes=10").await;
    browser
        .text_when("main", |text| {
            text.contains("Nothing waits for slipway. It has no machines.")
        })
        .await;
    for _ in 0..4 {
        service.submit("slipway", "sleep 4").await;
    }
    browser
        .text_when("main", |text| {
            text.contains("4 jobs wait that slipway can run") && text.contains("booting")
        })
        .await;
    // What would it be with more?
    browser.click("Change policy").await;
    browser.fill("input[name=ceiling]", "3").await;
    browser.click("Preview decisions").await;
    browser
        .text_when("[data-testid=foreseen]", |text| {
            text.contains("Decision: ordered 2") && text.contains("ceiling 3")
        })
        .await;
    browser.click("Change policy").await;
    browser.no_dialog().await;
    browser
        .text_when("main", |text| {
            text.contains("ordered 2") && text.contains("slipway-3")
        })
        .await;
    browser
        .text_when("main", |text| {
            text.contains("slots are busy") || text.contains("slots are free")
        })
        .await;
    nothing_left(&service).await;
    browser
        .text_when("main", |text| {
            text.contains("Nothing waits for slipway. It has no machines.")
                && text.contains("and not needed")
                && text.contains("No machines now")
        })
        .await;
    until("the marks are drawn", || async {
        let script = "return document.querySelectorAll('[data-testid=decision-mark]').length";
        let counted = browser.page.execute(script, vec![]).await.ok()?;
        (counted.convert::<u32>().ok()? >= 3).then_some(())
    })
    .await;
    browser.close().await;
    cloud.end().await;
}
