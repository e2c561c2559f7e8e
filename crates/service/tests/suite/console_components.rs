//! The console's component tests, started by Cargo's test runner.

use std::path::Path;
use std::process::Command;

/// Fewer tests than this mean that some were not found.
const AT_LEAST: u64 = 70;

#[test]
fn the_consoles_components_pass_their_tests() {
    let console = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console");
    assert!(
        console.join("node_modules/.bin/vitest").exists(),
        "the console's packages are not installed: run scripts/console"
    );
    let report = tempfile::NamedTempFile::new().expect("a file for the report");
    let output = Command::new("node_modules/.bin/vitest")
        .args(["run", "--reporter=default", "--reporter=json"])
        .arg(format!("--outputFile.json={}", report.path().display()))
        .env("NO_COLOR", "1")
        .current_dir(&console)
        .output()
        .expect("vitest runs");
    let message = String::from_utf8_lossy(&output.stdout).into_owned()
        + String::from_utf8_lossy(&output.stderr).as_ref();
    assert!(output.status.success(), "{message}");
    let report = std::fs::read(report.path()).expect("a report");
    let report: serde_json::Value = serde_json::from_slice(&report).expect("a JSON report");
    let count = |name: &str| report[name].as_u64().unwrap_or_default();
    assert_eq!(report["success"], true, "{message}");
    assert_eq!(
        (count("numFailedTests"), count("numPendingTests")),
        (0, 0),
        "{message}"
    );
    assert!(
        count("numPassedTests") >= AT_LEAST,
        "only {} of at least {AT_LEAST} tests ran: {message}",
        count("numPassedTests")
    );
}
