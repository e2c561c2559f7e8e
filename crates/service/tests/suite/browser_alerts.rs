//! Alerts and targets in a real browser.

use crate::support::{Browser, Service, until};
use pennine_core::time::Micros;
use pennine_wire::ThresholdsChange;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_alert_is_shown_on_every_page_until_it_is_acknowledged() {
    let service = Service::start().await;
    let soon = ThresholdsChange {
        no_match_us: Some(Micros(0)),
        ..ThresholdsChange::default()
    };
    service.client.change_thresholds(&soon).await.unwrap();
    service.furnish().await;
    let browser = Browser::signed_in(&service).await;
    browser
        .page
        .goto(&format!("{}/yard", service.url))
        .await
        .unwrap();
    browser.find("main").await;
    let job = service.submit("amr64", "true").await;
    // It comes by itself, and leads to the job.
    let message = browser
        .text_when("[data-testid=banner]", |text| text.contains("amr64"))
        .await;
    assert!(
        message.contains("1 job of firmware/buoy waits"),
        "{message}"
    );
    let link = browser.find("[data-testid=banner] a").await;
    let leads = link.attr("href").await.unwrap().unwrap_or_default();
    assert!(leads.ends_with(&format!("/jobs/{job}")), "{leads}");
    browser.click("Acknowledge").await;
    until("the banner is gone", || async {
        let found = browser.page.find(By::Css("[data-testid=banner]")).await;
        found.is_err().then_some(())
    })
    .await;
    // On Now it stays, with who looks at it.
    browser.open(&service, "").await;
    browser
        .text_when("[data-alert=no-match]", |text| {
            text.contains("acknowledged by") && text.contains(&format!("pennine why {job}"))
        })
        .await;
    // A promise is made and taken back.
    browser
        .page
        .goto(&format!("{}/trends", service.url))
        .await
        .unwrap();
    browser.click("Add target").await;
    browser.fill("input[name=name]", "buoy-prompt").await;
    browser.click("Add target").await;
    let row = browser
        .text_when("main", |text| {
            text.contains("95 % of jobs wait at most 2 min (over 7 days)")
        })
        .await;
    assert!(row.contains("buoy-prompt") && row.contains("few"), "{row}");
    let made = service.client.targets().await.unwrap().items;
    assert_eq!((made.len(), &*made[0].name), (1, "buoy-prompt"));
    browser.click("Remove …").await;
    browser.click("Remove target").await;
    browser
        .text_when("main", |text| text.contains("No targets yet"))
        .await;
    browser.close().await;
}
