//! The console's Yard and a runner's page in a real browser.

use crate::support::{Browser, Runner, Service, until};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::Job;

/// Runners on the record that no machine stands behind, with a few attempts each.
async fn crowd(service: &Service, runners: i32) {
    let database = service.database.connect().await;
    database
        .execute(
            "insert into runner (id, pool_id, name, state, state_since, state_reason, slots, labels, facts, facts_version,
                                 program, created_at, reported)
             select gen_random_uuid(), pool.id, 'moor-' || lpad(n::text, 4, '0'), 'offline', now(), 'it was switched off', 2,
                    case when n % 100 = 0 then array['heath'] else '{}' end,
                    jsonb_build_object('os', 'linux', 'arch', 'x86-64', 'cores', 8, 'gcc', '12.' || n % 4), 1, '0.1.0', now(),
                    '{\"labels\": [], \"facts\": {}, \"slots\": 2}'
             from generate_series(1, $1) n, pool where pool.name = 'staithe'",
            &[&runners],
        )
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_yard_of_five_thousand_runners_is_scrolled_filtered_and_acted_upon() {
    let service = Service::start().await;
    service.furnish().await;
    let _first = Runner::working(&service, "staithe", "fell-01", 1).await;
    let _second = Runner::working(&service, "staithe", "fell-02", 1).await;
    for name in ["fell-01", "fell-02"] {
        service.runner_when(name, RunnerState::Available).await;
    }
    crowd(&service, 5_000).await;
    let browser = Browser::signed_in(&service).await;
    let begun = std::time::Instant::now();
    browser.open(&service, "/yard").await;
    browser
        .text_when("main", |text| text.contains("moor-0001"))
        .await;
    eprintln!("shown after {:?}", begun.elapsed());
    // Of any number of runners, only the visible rows are on the page.
    let count = async || {
        let script = "return document.querySelectorAll('[role=row]').length";
        let counted = browser.page.execute(script, vec![]).await.unwrap();
        counted.convert::<u32>().unwrap()
    };
    assert!(count().await < 120, "{} rows", count().await);
    let script = "const done = arguments[arguments.length - 1];
        const frames = []; let last = performance.now(); let n = 0;
        const step = (now) => { frames.push(now - last); last = now; n += 1;
          scrollBy(0, n % 40 === 0 ? 12000 : 160);
          if (n < 240) requestAnimationFrame(step); else {
            frames.sort((a, b) => a - b); done(frames[Math.floor(frames.length * 0.95)]);
          } };
        requestAnimationFrame(step);";
    let measured = browser.page.execute_async(script, vec![]).await.unwrap();
    // The goal (50 ms) is measured on a quiet machine in docs/benchmarks.md; a test must survive a busy one.
    eprintln!("frame p95 {:.1} ms", measured.convert::<f64>().unwrap());
    assert!(count().await < 120, "{} rows", count().await);

    // In the requirement language, or by name.
    browser.fill("[data-filter]", "heath and gcc < 12.1").await;
    let shown = browser
        .text_when("main", |text| {
            text.contains("moor-0400") && !text.contains("moor-0001")
        })
        .await;
    assert!(!shown.contains("fell-01"), "{shown}");
    browser.fill("[data-filter]", "gcc >=").await;
    browser
        .text_when("[role=alert]", |text| text.contains("column"))
        .await;
    browser.fill("[data-filter]", "fell-0").await;
    browser
        .text_when("main", |text| {
            text.contains("fell-02") && !text.contains("moor-0400")
        })
        .await;
    // Both at once.
    for name in ["fell-01", "fell-02"] {
        let chosen = format!("input[aria-label='Choose {name}']");
        browser.find(&chosen).await.click().await.unwrap();
    }
    browser.click("Pause 2 runners").await;
    browser
        .text_when("[data-testid=bulk]", |text| text.contains("2 of 2 done."))
        .await;
    for name in ["fell-01", "fell-02"] {
        service.runner_when(name, RunnerState::Paused).await;
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_runners_page_shows_its_jobs_and_changes_its_overrides() {
    let service = Service::start().await;
    service.furnish().await;
    let (_runner, first) = Runner::occupied(&service).await;
    let second = service.submit("", "true").await;
    let browser = Browser::signed_in(&service).await;
    browser.open(&service, "/runners/wave-bench").await;
    browser
        .text_when("main", |text| {
            text.contains(&first) && text.contains(&second)
        })
        .await;
    browser
        .text_when("[data-testid=doctor]", |text| {
            text.contains("1 of 1 slots are used")
        })
        .await;
    browser
        .find("canvas[role=img][aria-label^='1 job since']")
        .await;
    // What people set, set and taken back.
    browser.click("Set override").await;
    browser.fill("input[name=value]", "beside the tank").await;
    browser.click("Set override").await;
    browser.no_dialog().await;
    until("the description is set", || async {
        let runner = service.client.runner("wave-bench").await.ok()?;
        (runner.description == "beside the tank").then_some(())
    })
    .await;
    browser.click("Set override").await;
    browser
        .find("select[name=kind] option[value=label]")
        .await
        .click()
        .await
        .unwrap();
    browser.fill("input[name=value]", "cabled").await;
    browser.click("Set override").await;
    browser.no_dialog().await;
    let has = async || {
        let runner = service.client.runner("wave-bench").await.ok()?;
        Some(runner.labels == ["cabled"])
    };
    until("the label is set", || async { has().await?.then_some(()) }).await;
    browser.click("Reset").await;
    until("it is taken back", || async {
        (!has().await?).then_some(())
    })
    .await;
    // Maintenance, planned and called off.
    browser.click("Schedule maintenance").await;
    browser.fill("input[name=reason]", "new water").await;
    browser.click("Schedule maintenance").await;
    browser.no_dialog().await;
    browser.click("End maintenance").await;
    until("no maintenance is left", || async {
        let left = service.client.maintenance().await.ok()?;
        left.items.is_empty().then_some(())
    })
    .await;
    // Taken back from the job that has it.
    browser.click("Take over runner …").await;
    browser.fill("input[name=reason]", "it leaks").await;
    browser.click("Take over wave-bench").await;
    service.runner_when("wave-bench", RunnerState::Paused).await;
    let taken = |job: &Job| {
        let message = job.attempts[0].message.as_deref();
        message.is_some_and(|message| message.ends_with("it leaks"))
    };
    service.job_when(&first, "was taken from it", taken).await;
    browser.no_dialog().await;
    browser.click("Resume").await;
    for name in [&first, &second] {
        service.done(name).await;
    }
    // Retiring asks first, with the consequence.
    browser.click("Retire …").await;
    let asked = browser
        .text_when("[role=alertdialog]", |text| {
            text.contains("Its record stays")
        })
        .await;
    assert!(asked.contains("It has no jobs."), "{asked}");
    browser.click("Retire wave-bench").await;
    service.runner_when("r-1", RunnerState::Retired).await;
    browser.close().await;
}
