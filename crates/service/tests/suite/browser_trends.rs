//! Trends in a real browser: from a peak to the very jobs behind it.

use crate::history;
use crate::support::{Browser, Service, until};
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_peak_leads_to_the_very_jobs_behind_it() {
    let service = Service::start().await;
    service.furnish().await;
    let written = history::write(&service);
    assert!(written.status.success(), "{written:?}");
    let browser = Browser::signed_in(&service).await;
    browser.open(&service, "/trends?window=7d").await;
    browser
        .text_when("main", |text| {
            text.contains("median wait") && text.contains("all-busy")
        })
        .await;
    // The highest bar: the night in which the pool was paused.
    let bars = "#root [data-testid=waiting-chart] .recharts-bar-rectangle path";
    until("the bars are drawn", || async {
        let found = browser.page.find_all(By::Css(bars)).await.ok()?;
        (!found.is_empty()).then_some(())
    })
    .await;
    let script = "
        const bars = [...document.querySelectorAll('[data-testid=waiting-chart] .recharts-bar-rectangle path')];
        const high = bars.reduce((a, b) => b.getBoundingClientRect().height > a.getBoundingClientRect().height ? b : a);
        const box = high.getBoundingClientRect();
        return [box.x + box.width / 2, box.y + box.height / 2];";
    let place: (f64, f64) = browser
        .page
        .execute(script, vec![])
        .await
        .unwrap()
        .convert()
        .unwrap();
    let chart = browser
        .page
        .find(By::Css("[data-testid=waiting-chart]"))
        .await
        .unwrap();
    let actions = browser.page.action_chain();
    actions
        .move_to(place.0 as i64, place.1 as i64)
        .click()
        .perform()
        .await
        .unwrap();
    drop(chart);
    let behind = browser
        .text_when("[data-testid=behind]", |text| {
            text.contains("Jobs waiting between") && text.contains("build and test")
        })
        .await;
    assert!(behind.contains("paused"), "{behind}");
    // The same jobs as the service names, each a link to its page.
    let link = browser
        .page
        .find(By::Css("[data-testid=behind] td a"))
        .await
        .unwrap();
    let name = link.text().await.unwrap();
    let job = service.client.job(&name).await.unwrap();
    assert!(
        job.attempts[0]
            .wait
            .iter()
            .any(|span| span.reason.word() == "paused"),
        "{job:?}"
    );
    link.click().await.unwrap();
    browser
        .text_when("main", |text| {
            text.contains(&name) && text.contains("build and test")
        })
        .await;
    browser.close().await;
}
