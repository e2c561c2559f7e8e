//! No page of the console breaks a rule of WCAG 2 A or AA that axe-core can check, in either theme; and the pages that an
//! engineer on call opens fit a telephone.

use crate::support::{Browser, Runner, Service};
use pennine_core::lifecycle::runner::RunnerState;
use pennine_wire::NewRun;
use serde::Deserialize;

/// What `axe.run` finds: each rule that is broken, with the elements that break it.
#[derive(Debug, Deserialize)]
struct Violation {
    id: String,
    help: String,
    nodes: Vec<Node>,
}

#[derive(Debug, Deserialize)]
struct Node {
    html: String,
    #[serde(rename = "failureSummary", default)]
    summary: String,
}

fn axe() -> String {
    let path = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../console/node_modules/axe-core/axe.min.js"
    );
    std::fs::read_to_string(path).expect("axe-core is installed: scripts/console installs it")
}

/// Checks the page as it is, and adds what is wrong to the list.
async fn check(browser: &Browser, axe: &str, page: &str, wrong: &mut Vec<String>) {
    browser
        .page
        .execute(axe, vec![])
        .await
        .expect("axe-core runs");
    let script = "const done = arguments[arguments.length - 1]; \
        axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']}) \
           .then((found) => done(found.violations), (error) => done(String(error)))";
    let found = browser
        .page
        .execute_async(script, vec![])
        .await
        .expect("axe-core answers");
    let found: Vec<Violation> = found.convert().expect("a list of violations");
    for one in found {
        let nodes = one.nodes.iter().take(3);
        let nodes: Vec<String> = nodes
            .map(|node| {
                format!(
                    "{:.200}\n      {}",
                    node.html,
                    node.summary.replace('\n', " ")
                )
            })
            .collect();
        wrong.push(format!(
            "{page}: {} ({}), {} places:\n    {}",
            one.id,
            one.help,
            one.nodes.len(),
            nodes.join("\n    ")
        ));
    }
}

/// A yard with a runner, a job that waits, one that has run, an alert, and a target.
async fn furnished() -> (Service, Runner, Vec<String>) {
    let service = Service::start().await;
    service.furnish().await;
    let runner = Runner::working(&service, "staithe", "fell-01", 2).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let ran = service.submit("", "echo built").await;
    service.done(&ran).await;
    let failed = service.submit("", "exit 3").await;
    service.done(&failed).await;
    let waits = service.submit("plotter", "true").await;
    let sheet = "[jobs.build]\ncommands = ['true']\n[jobs.release]\ncommands = ['true']\nafter = ['build']\nhold = 'person'\n";
    let new = NewRun {
        project: "buoy".into(),
        sheet: sheet.into(),
        ..NewRun::default()
    };
    let run = service.client.submit_run(&new).await.unwrap().run.line.name;
    let pages = vec![
        "/".into(),
        "/queue".into(),
        "/yard".into(),
        "/runs".into(),
        format!("/runs/{run}"),
        "/jobs".into(),
        "/trends".into(),
        "/alerts".into(),
        "/pools/staithe".into(),
        "/runners/fell-01".into(),
        "/settings/tokens".into(),
        "/settings/people".into(),
        "/settings/audit".into(),
        "/settings/variables".into(),
        "/settings/secrets".into(),
        "/settings/teams".into(),
        "/settings/seats".into(),
        "/settings/suppliers".into(),
        "/settings/alerts".into(),
        format!("/jobs/{ran}"),
        format!("/jobs/{waits}"),
    ];
    (service, runner, pages)
}

/// Opens a page and waits until it shows more than that it waits for something.
async fn open(browser: &Browser, service: &Service, path: &str) {
    let address = format!("{}{path}", service.url);
    browser.page.goto(&address).await.unwrap();
    browser.find("main h1").await;
    browser
        .text_when("main", |text| !text.contains("Waiting for"))
        .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_page_and_dialog_keeps_the_rules_of_accessibility_in_both_themes() {
    let (service, _runner, pages) = furnished().await;
    let axe = axe();
    let mut wrong = Vec::new();
    let browser = Browser::start().await;
    browser.open(&service, "").await;
    browser.find("input[name=password]").await;
    check(&browser, &axe, "sign in", &mut wrong).await;
    browser.sign_in(&service).await;
    for theme in ["light", "dark"] {
        let choose = format!("localStorage.setItem('pennine-theme', '{theme}')");
        browser.page.execute(&choose, vec![]).await.unwrap();
        for path in &pages {
            open(&browser, &service, path).await;
            check(&browser, &axe, &format!("{path}, {theme}"), &mut wrong).await;
        }
        for (path, button) in [
            ("/yard", "Add a pool"),
            ("/yard", "Add a machine"),
            ("/pools/staithe", "Change isolation and limits"),
            ("/runs", "Submit a job"),
            ("/trends", "Add target"),
            ("/runners/fell-01", "Set override"),
            ("/runners/fell-01", "Schedule maintenance"),
            ("/runners/fell-01", "Retire …"),
            ("/", "Keys"),
            ("/settings/tokens", "Add token"),
            ("/settings/people", "Add person"),
            ("/settings/variables", "Set variable"),
            ("/settings/secrets", "Set secret"),
            ("/settings/people", "Change admin"),
            ("/settings/teams", "Change firmware"),
            ("/settings/suppliers", "Add supplier"),
        ] {
            open(&browser, &service, path).await;
            browser.click(button).await;
            browser.find(crate::support::DIALOG).await;
            let name = format!("{path}, dialog {button:?}, {theme}");
            check(&browser, &axe, &name, &mut wrong).await;
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_page_fits_a_telephone() {
    let (service, _runner, pages) = furnished().await;
    let browser = Browser::signed_in(&service).await;
    browser.resize(420, 780).await;
    let script = "const width = document.documentElement.scrollWidth; \
        const wide = [...document.querySelectorAll('header *, main > *, main h1, main button')] \
          .filter((one) => one.getBoundingClientRect().right > innerWidth + 1 && !one.closest('table')) \
          .slice(0, 3).map((one) => one.outerHTML.slice(0, 160)); \
        return {width, wide}";
    #[derive(Debug, Deserialize)]
    struct Seen {
        width: u32,
        wide: Vec<String>,
    }
    for path in &pages {
        open(&browser, &service, path).await;
        let seen = browser.page.execute(script, vec![]).await.unwrap();
        let seen: Seen = seen.convert().unwrap();
        assert!(
            seen.width <= 420 && seen.wide.is_empty(),
            "{path} is {} px wide: {:?}",
            seen.width,
            seen.wide
        );
    }
    browser.close().await;
}
