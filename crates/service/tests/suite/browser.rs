//! The console in a real browser.

use crate::support::{Browser, Runner, Service, until};
use pennine_core::lifecycle::job::Outcome;
use pennine_wire::NewRun;
use std::process::{Command, Stdio};
use thirtyfour::prelude::*;

/// What the browser's console complained of.
async fn complaints(browser: &Browser) -> Vec<String> {
    let script = "return window.__complaints ?? []";
    let found = browser.page.execute(script, vec![]).await.unwrap();
    found.convert().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_machine_is_added_turns_available_and_runs_a_job_whose_log_arrives() {
    let service = Service::start().await;
    service.furnish().await;
    let browser = Browser::signed_in(&service).await;
    let watch = "window.__complaints = []; addEventListener('error', (e) => __complaints.push(String(e.message))); \
                 addEventListener('unhandledrejection', (e) => __complaints.push(String(e.reason)))";
    browser.page.execute(watch, vec![]).await.unwrap();
    let answer = browser
        .text_when("[data-testid=answer]", |text| !text.is_empty())
        .await;
    assert!(
        answer.starts_with("Nothing waits. No machines have joined yet"),
        "{answer}"
    );

    // Add a machine: the page shows the command, we run it as it stands.
    browser.find("a[href='/yard']").await.click().await.unwrap();
    browser.click("Add a machine").await;
    browser.click("Create ticket").await;
    let command = browser
        .text_when("[data-testid=join-command-short]", |text| {
            text.contains("--ticket")
        })
        .await;
    let home = tempfile::tempdir().unwrap();
    let words: Vec<&str> = command.split(' ').collect();
    assert_eq!(
        (words[0], words[1]),
        ("pennine-runner", "join"),
        "{command}"
    );
    let mut runner = Command::new(crate::support::program(words[0]))
        .args(&words[1..])
        .args(["--name", "fell-01"])
        .env("PENNINE_RUNNER_DIR", home.path())
        .env("PENNINE_RUNNER_LOG", "warn")
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let joined = browser
        .text_when("[data-testid=machine-joined]", |text| {
            text.contains("accepts jobs")
        })
        .await;
    assert!(
        joined.contains("available") && joined.contains("fell-01"),
        "{joined}"
    );

    browser.click("Done").await;
    browser.no_dialog().await;

    // Submit a job and watch its log arrive.
    browser.find("a[href='/runs']").await.click().await.unwrap();
    browser.click("Submit a job").await;
    browser.fill("input[name=where]", "linux and").await;
    browser
        .fill(
            "textarea[name=command]",
            "echo hello from the console; sleep 2; echo and good bye",
        )
        .await;
    browser.click("Submit job").await;
    let refused = browser
        .text_when("[role=alert]", |text| !text.is_empty())
        .await;
    assert!(refused.contains("column 10"), "{refused}");
    browser
        .find("input[name=where]")
        .await
        .send_keys(" has bash")
        .await
        .unwrap();
    browser.click("Submit job").await;
    browser
        .text_when("[data-testid=log]", |text| {
            text.contains("hello from the console")
        })
        .await;
    browser
        .text_when("[data-testid=log-state]", |text| {
            text.contains("live") || text.contains("complete")
        })
        .await;
    browser
        .text_when("[data-testid=log]", |text| {
            text.contains("and good bye") && text.contains("exit code 0")
        })
        .await;
    let facts = browser
        .text_when("[data-testid=job-facts]", |text| text.contains("success"))
        .await;
    assert!(facts.contains("linux and has bash"), "{facts}");
    browser.find("[data-testid=time-bar] [role=img]").await;

    // The keyboard leads back.
    browser.find("body").await.send_keys("gn").await.unwrap();
    let answer = browser
        .text_when("[data-testid=answer]", |text| text.contains("1 of 1 slot"))
        .await;
    assert_eq!(answer, "Nothing waits. 1 of 1 slot is free.");
    assert_eq!(complaints(&browser).await, Vec::<String>::new());
    browser.close().await;
    runner.kill().unwrap();
    runner.wait().unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn waiting_jobs_stand_in_the_queue_by_reason_and_leave_it_live() {
    let service = Service::start().await;
    service.furnish().await;
    let browser = Browser::signed_in(&service).await;
    browser
        .find("a[href='/queue']")
        .await
        .click()
        .await
        .unwrap();
    let name = service.submit("bench", "true").await;
    let group = browser
        .text_when("[data-reason=no-match]", |text| text.contains("bench"))
        .await;
    assert!(group.contains(&name) && group.contains("To do:"), "{group}");
    service.add_pool("tank", &["bench"]).await;
    let _runner = Runner::working(&service, "tank", "wave-bench", 1).await;
    assert_eq!(
        service.done(&name).await.line.result,
        Some(Outcome::Success)
    );
    until("the group is gone", || async {
        browser
            .page
            .find(By::Css("[data-reason=no-match]"))
            .await
            .is_err()
            .then_some(())
    })
    .await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_log_of_50_mb_stays_smooth() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service
        .submit(
            "",
            "seq -f 'line %.0f of a log that is rather long, as logs of builds are' 900000",
        )
        .await;
    service.done(&name).await;
    let log = service.client.job(&name).await.unwrap().attempts[0]
        .log_bytes
        .0;
    assert!(log > 50 << 20, "{log} bytes");
    let browser = Browser::signed_in(&service).await;
    browser
        .page
        .goto(&format!("{}/jobs/{name}", service.url))
        .await
        .unwrap();
    browser
        .text_when("[data-testid=log]", |text| {
            text.contains("line 900000 of a log")
        })
        .await;
    browser.click("Go to start").await;
    browser
        .text_when("[data-testid=log]", |text| text.contains("line 1 of a log"))
        .await;
    // Scroll through it and measure the frames meanwhile.
    let script = "const done = arguments[arguments.length - 1]; const box = document.querySelector('[data-testid=log]');
        const frames = []; let last = performance.now(); let n = 0;
        const step = (now) => { frames.push(now - last); last = now; n += 1;
          box.scrollTop += n % 40 === 0 ? 400000 : 180;
          if (n < 240) requestAnimationFrame(step); else {
            frames.sort((a, b) => a - b);
            done([frames[Math.floor(frames.length * 0.95)], performance.memory.usedJSHeapSize / 1048576]);
          } };
        requestAnimationFrame(step);";
    let measured = browser.page.execute_async(script, vec![]).await.unwrap();
    let (p95, heap): (f64, f64) = measured.convert().unwrap();
    // The goals (50 ms, 150 MB) are measured on a quiet machine in docs/benchmarks.md; a test must survive a busy one.
    eprintln!("frame p95 {p95:.1} ms, heap {heap:.0} MiB");
    assert!(heap < 150.0, "the heap holds {heap} MiB");
    browser
        .text_when("[data-testid=log]", |text| text.contains("of a log"))
        .await;
    browser.click("Go to end").await;
    browser
        .text_when("[data-testid=log]", |text| {
            text.contains("line 900000 of a log")
        })
        .await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_remedy_pressed_on_the_queue_page_starts_the_job() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service
        .client
        .set_desired_state(
            "fell-01",
            pennine_core::lifecycle::runner::DesiredState::Pause,
        )
        .await
        .unwrap();
    let paused = service.submit("linux", "true").await;
    let misspelt = service.submit("lniux", "true").await;
    let browser = Browser::signed_in(&service).await;
    browser
        .find("a[href='/queue']")
        .await
        .click()
        .await
        .unwrap();
    browser
        .text_when("[data-reason=paused]", |text| {
            text.contains("Resume fell-01")
        })
        .await;
    // Matching runners something is tried on the same page.
    browser.fill("input[name=try]", "lniux").await;
    browser
        .text_when("[data-testid=trial]", |text| {
            text.contains("did you mean “linux”?")
        })
        .await;
    browser.click("Resume fell-01").await;
    let done = service.done(&paused).await;
    assert_eq!(done.line.result, Some(Outcome::Success));
    // A dangerous one asks first, with what it leads to.
    browser.click("Cancel 1 job …").await;
    browser
        .text_when("[role=alertdialog]", |text| {
            text.contains("will be cancelled")
        })
        .await;
    browser.click("Cancel 1 job").await;
    let done = service.done(&misspelt).await;
    assert_eq!(done.line.result, Some(Outcome::Cancellation));
    browser
        .text_when("main", |text| text.contains("Nothing waits"))
        .await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_run_is_followed_to_its_end_and_a_held_job_is_released_on_its_page() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = r#"
        [jobs.build]
        commands = ["echo built"]
        vary = { cc = ["gcc", "clang"] }
        [jobs.release]
        commands = ["echo released"]
        after = ["build"]
        hold = "person"
        [jobs.rig]
        commands = ["exit 3"]
        after = ["release"]
        on_failure = "continue"
    "#;
    let new = NewRun {
        project: "buoy".into(),
        sheet: sheet.into(),
        branch: Some("spring".into()),
        ..NewRun::default()
    };
    let run = service.client.submit_run(&new).await.unwrap().run.line.name;
    let browser = Browser::signed_in(&service).await;
    browser.find("a[href='/runs']").await.click().await.unwrap();
    let listed = browser
        .text_when("main", |text| text.contains("spring"))
        .await;
    assert!(listed.contains("build, release, rig"), "{listed}");
    browser.follow(&run).await;
    browser
        .text_when("main", |text| {
            text.contains("waits for a person to release “release”")
        })
        .await;
    let facts = browser
        .text_when("[data-testid=run-facts]", |text| text.contains("held"))
        .await;
    assert!(
        facts.contains("firmware/buoy") && facts.contains("branch spring"),
        "{facts}"
    );
    browser.find("[role=region] svg[role=img]").await;
    browser.click("Release").await;
    let end = browser
        .text_when("main", |text| text.contains("is done with failure"))
        .await;
    assert!(end.contains("1 failed, 3 succeeded"), "{end}");
    assert!(end.contains("exit code 3"), "{end}");
    browser.click("Retry unsuccessful jobs").await;
    let again = service.client.run(&run).await.unwrap();
    assert_eq!(again.graph.len(), 4);
    browser.close().await;
}
