//! Each form of the console is filled, corrected and sent with the keyboard alone.

use crate::support::{Browser, DIALOG, Runner, Service, until};
use pennine_core::lifecycle::runner::RunnerState;
use thirtyfour::prelude::*;

/// What is wrong, as the form says at the field.
async fn error_at(browser: &Browser, field: &str) -> String {
    let error = format!("[data-field={field}] [role=alert]");
    browser.text_when(&error, |text| !text.is_empty()).await
}

/// Replaces the text of the field that has the focus.
async fn replace(browser: &Browser, text: &str) {
    browser.control('a').await;
    browser.keys(text).await;
}

async fn enter(browser: &Browser) {
    browser.keys(Key::Enter + "").await;
}

async fn has_focus(browser: &Browser, name: &str) {
    until(&format!("{name} has the focus"), || async {
        let focused = browser.page.active_element().await.ok()?;
        let on = focused.attr("name").await.ok()??;
        (on == name).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn signing_in_and_adding_a_pool_a_machine_and_a_job_need_no_pointer() {
    let service = Service::start().await;
    service.furnish().await;
    let browser = Browser::open().await;
    browser.page.goto(&service.url).await.unwrap();

    // Sign in: nothing, a wrong token, the right one.
    has_focus(&browser, "token").await;
    enter(&browser).await;
    assert_eq!(error_at(&browser, "token").await, "Paste a token.");
    browser.keys("wrong").await;
    enter(&browser).await;
    browser
        .text_when("[role=alert]", |text| text.contains("token"))
        .await;
    browser.tab_to("token").await;
    replace(&browser, &service.token).await;
    enter(&browser).await;
    browser.find("[data-testid=answer]").await;

    // A pool: Escape leaves the form, and an error is corrected at its field.
    browser.keys("gy").await;
    browser.tab_to("Add a pool").await;
    enter(&browser).await;
    has_focus(&browser, "name").await;
    browser.keys(Key::Escape + "").await;
    browser.no_dialog().await;
    until("the focus is back where it was", || async {
        let focused = browser
            .page
            .active_element()
            .await
            .ok()?
            .text()
            .await
            .ok()?;
        (focused == "Add a pool").then_some(())
    })
    .await;
    enter(&browser).await;
    has_focus(&browser, "name").await;
    browser.keys("wave tank").await;
    enter(&browser).await;
    assert!(error_at(&browser, "name").await.contains("letters, digits"));
    replace(&browser, "wave-tank").await;
    browser.tab_to("labels").await;
    browser.keys("bench").await;
    enter(&browser).await;
    browser.no_dialog().await;
    let pool = until("the pool is there", || async {
        service.client.pool("wave-tank").await.ok()
    })
    .await;
    assert_eq!(pool.labels, ["bench"]);

    // A machine: opening the form and leaving it makes no ticket.
    browser.tab_to("Add a machine to wave-tank").await;
    enter(&browser).await;
    has_focus(&browser, "uses").await;
    browser.keys(Key::Escape + "").await;
    browser.no_dialog().await;
    assert_eq!(service.client.tickets().await.unwrap().items.len(), 0);
    enter(&browser).await;
    has_focus(&browser, "uses").await;
    replace(&browser, "none").await;
    enter(&browser).await;
    assert!(error_at(&browser, "uses").await.contains("whole number"));
    replace(&browser, "2").await;
    browser.tab_to("lifetime").await;
    replace(&browser, "30m").await;
    enter(&browser).await;
    browser.find("[data-testid=join-command]").await;
    let tickets = service.client.tickets().await.unwrap().items;
    assert_eq!((tickets.len(), tickets[0].uses), (1, 2));
    browser.tab_to("Revoke ticket").await;
    enter(&browser).await;
    browser.no_dialog().await;

    // A job: what the service refuses is shown at its field, and the focus is there.
    browser.keys("gr").await;
    browser.tab_to("Submit a job").await;
    enter(&browser).await;
    browser.find(DIALOG).await;
    browser.tab_to("where").await;
    browser.keys("bench and").await;
    browser.tab_to("command").await;
    browser.keys("make check").await;
    browser.control(Key::Enter).await;
    assert!(error_at(&browser, "where").await.contains("column"));
    has_focus(&browser, "where").await;
    browser.keys(Key::End + "").await;
    browser.keys(" has gcc").await;
    enter(&browser).await;
    browser.no_dialog().await;
    let facts = browser
        .text_when("[data-testid=job-facts]", |text| text.contains("has gcc"))
        .await;
    assert!(facts.contains("bench and has gcc"), "{facts}");
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runners_forms_and_a_target_need_no_pointer() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "wave-bench", 1).await;
    service
        .runner_when("wave-bench", RunnerState::Available)
        .await;
    let job = service
        .submit("", "[ $PENNINE_ATTEMPT_NUMBER = 1 ] && sleep 1000; true")
        .await;
    service
        .job_when(&job, "executing", |job| job.line.started_at.is_some())
        .await;
    let browser = Browser::open().await;
    crate::browser::sign_in(&browser, &service).await;
    let page = format!("{}/runners/wave-bench", service.url);
    browser.page.goto(&page).await.unwrap();
    browser
        .text_when("main", |text| text.contains("Overrides"))
        .await;

    // An override: the kind is chosen with a letter.
    browser.tab_to("Set override").await;
    enter(&browser).await;
    browser.find(DIALOG).await;
    has_focus(&browser, "kind").await;
    browser.keys("Sl").await;
    browser.tab_to("value").await;
    browser.keys("many").await;
    enter(&browser).await;
    assert!(error_at(&browser, "value").await.contains("whole number"));
    replace(&browser, "2").await;
    enter(&browser).await;
    browser.no_dialog().await;
    until("the slots are set", || async {
        let runner = service.client.runner("wave-bench").await.ok()?;
        (runner.slots == 2).then_some(())
    })
    .await;

    // Maintenance.
    browser.tab_to("Schedule maintenance").await;
    enter(&browser).await;
    has_focus(&browser, "reason").await;
    enter(&browser).await;
    assert_eq!(error_at(&browser, "reason").await, "Enter a reason.");
    browser.keys("new water").await;
    browser.tab_to("length").await;
    replace(&browser, "soon").await;
    enter(&browser).await;
    assert!(
        error_at(&browser, "length")
            .await
            .contains("length of time")
    );
    replace(&browser, "2h").await;
    enter(&browser).await;
    browser.no_dialog().await;
    let planned = until("it is scheduled", || async {
        let all = service.client.maintenance().await.ok()?;
        all.items.into_iter().next()
    })
    .await;
    assert_eq!(planned.reason, "new water");

    // The runner is taken over from its job.
    browser.tab_to("Take over runner …").await;
    enter(&browser).await;
    has_focus(&browser, "reason").await;
    enter(&browser).await;
    assert!(
        error_at(&browser, "reason")
            .await
            .contains("Enter a reason")
    );
    browser.keys("it leaks").await;
    enter(&browser).await;
    browser.no_dialog().await;
    service
        .job_when(&job, "taken from it", |job| {
            let message = job.attempts[0].message.as_deref();
            message.is_some_and(|message| message.ends_with("it leaks"))
        })
        .await;

    // A target.
    browser.keys("gt").await;
    browser.tab_to("Add target").await;
    enter(&browser).await;
    has_focus(&browser, "name").await;
    browser.keys("prompt").await;
    browser.tab_to("share").await;
    replace(&browser, "200").await;
    enter(&browser).await;
    assert!(error_at(&browser, "share").await.contains("percentage"));
    replace(&browser, "90").await;
    enter(&browser).await;
    browser.no_dialog().await;
    browser
        .text_when("main", |text| text.contains("90 % of jobs"))
        .await;
    browser.close().await;
}
