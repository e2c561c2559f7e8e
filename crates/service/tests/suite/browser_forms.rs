//! Each form of the console is filled, corrected and sent with the keyboard alone.

use crate::capacity::{add_pool, supply};
use crate::support::{Browser, DIALOG, Runner, Service, StandinCloud, until};
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::size::ByteSize;
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

/// Waits until the focus is on what says this.
async fn has_text(browser: &Browser, text: &str) {
    until(&format!("the focus is on {text}"), || async {
        let focused = browser.page.active_element().await.ok()?;
        (focused.text().await.ok()? == text).then_some(())
    })
    .await;
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
    let browser = Browser::start().await;
    browser.open(&service, "").await;

    // Sign in: nothing, a wrong token, the right one.
    has_focus(&browser, "name").await;
    enter(&browser).await;
    assert_eq!(error_at(&browser, "name").await, "Enter your name.");
    browser.tab_to("Sign in with a token").await;
    enter(&browser).await;
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
    has_text(&browser, "Add a pool").await;
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
async fn a_runners_forms_need_no_pointer() {
    let service = Service::start().await;
    service.furnish().await;
    let (_runner, job) = Runner::occupied(&service).await;
    let browser = Browser::signed_in(&service).await;
    browser.open(&service, "/runners/wave-bench").await;
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

    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_target_and_the_questions_before_a_removal_need_no_pointer() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "wave-bench", 1).await;
    service
        .runner_when("wave-bench", RunnerState::Available)
        .await;
    let browser = Browser::signed_in(&service).await;
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

    // Removing it asks first: the focus is on the way out, and Escape is another.
    let remove = "Remove the target prompt";
    browser.tab_to(remove).await;
    for leave in [Key::Enter, Key::Escape] {
        enter(&browser).await;
        browser.find("[role=alertdialog]").await;
        has_text(&browser, "Cancel").await;
        browser.keys(leave + "").await;
        browser.no_dialog().await;
    }
    assert_eq!(service.client.targets().await.unwrap().items.len(), 1);
    enter(&browser).await;
    browser.tab_to("Remove target").await;
    enter(&browser).await;
    browser.no_dialog().await;
    until("the target is removed", || async {
        let targets = service.client.targets().await.ok()?;
        targets.items.is_empty().then_some(())
    })
    .await;

    // So does retiring a runner.
    browser.open(&service, "/runners/wave-bench").await;
    browser.find("main h1").await;
    browser.tab_to("Retire …").await;
    enter(&browser).await;
    browser.find("[role=alertdialog]").await;
    browser.tab_to("Retire wave-bench").await;
    enter(&browser).await;
    service.runner_when("r-1", RunnerState::Retired).await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pools_policy_is_tried_corrected_and_changed_without_a_pointer() {
    let cloud = StandinCloud::start(|_| ()).await;
    let service = Service::start().await;
    service.furnish().await;
    cloud.join(&service, "chandler").await;
    add_pool(&service, "slipway", supply("chandler", 1)).await;
    let browser = Browser::signed_in(&service).await;
    browser.open(&service, "/pools/slipway").await;
    browser.find("main h1").await;
    browser.tab_to("Change policy").await;
    enter(&browser).await;
    has_focus(&browser, "floor").await;
    browser.tab_to("ceiling").await;
    replace(&browser, "several").await;
    enter(&browser).await;
    assert!(error_at(&browser, "ceiling").await.contains("whole number"));
    has_focus(&browser, "ceiling").await;
    replace(&browser, "4").await;
    browser.tab_to("kind").await;
    browser.keys("single").await;
    // The rare part is folded; the space bar opens it.
    browser
        .tab_to("Image, size, price, weekly times, settings and facts")
        .await;
    browser.keys(" ").await;
    browser.tab_to("during").await;
    browser.keys("mon-fri 08:00-18:00 floor=2").await;
    browser.tab_to("Preview decisions").await;
    enter(&browser).await;
    browser
        .text_when("[data-testid=foreseen]", |text| !text.is_empty())
        .await;
    browser.tab_to("floor").await;
    enter(&browser).await;
    browser.no_dialog().await;
    let supplied = until("the policy is changed", || async {
        let supply = service.client.pool("slipway").await.ok()?.supply?;
        (supply.ceiling == 4).then_some(supply)
    })
    .await;
    assert!(supplied.single_use, "{supplied:?}");
    assert_eq!(supplied.week.times[0].floor, Some(2));
    browser.close().await;
    cloud.end().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_isolation_of_a_pools_jobs_is_changed_without_a_pointer() {
    let service = Service::start().await;
    service.furnish().await;
    let browser = Browser::signed_in(&service).await;
    browser.open(&service, "/pools/staithe").await;
    browser.find("main h1").await;
    browser.tab_to("Change isolation and limits").await;
    enter(&browser).await;
    has_focus(&browser, "isolation").await;
    browser.keys("sandbox").await;
    browser.tab_to("job_memory").await;
    browser.keys("much").await;
    enter(&browser).await;
    assert!(error_at(&browser, "job_memory").await.contains("size"));
    has_focus(&browser, "job_memory").await;
    replace(&browser, "2GiB").await;
    enter(&browser).await;
    browser.no_dialog().await;
    let jobs = until("the policy is changed", || async {
        let jobs = service.client.pool("staithe").await.ok()?.jobs;
        (jobs.isolation == IsolationLevel::Sandbox).then_some(jobs)
    })
    .await;
    assert_eq!(jobs.limits.memory, Some(ByteSize(2 << 30)));
    browser
        .text_when("main", |text| text.contains("2GiB of memory"))
        .await;
    browser.close().await;
}
