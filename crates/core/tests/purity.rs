//! The core stays free of I/O, clocks, randomness, async, SQL and HTTP.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use std::process::Command;

const ALLOWED: [&str; 11] = [
    "fixedbitset",
    "jiff",
    "rustc-hash",
    "serde",
    "serde_json",
    "slab",
    "strsim",
    "thiserror",
    "toml",
    "utoipa",
    "uuid",
];

#[test]
fn the_core_depends_on_nothing_that_could_do_io() {
    let manifest = concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml");
    let out = Command::new(env!("CARGO"))
        .args([
            "metadata",
            "--no-deps",
            "--offline",
            "--format-version",
            "1",
            "--manifest-path",
            manifest,
        ])
        .output()
        .expect("cargo metadata runs");
    assert!(
        out.status.success(),
        "{}",
        String::from_utf8_lossy(&out.stderr)
    );
    let metadata: serde_json::Value =
        serde_json::from_slice(&out.stdout).expect("metadata is JSON");
    let packages = metadata["packages"].as_array().expect("packages");
    let core = packages
        .iter()
        .find(|p| p["name"] == "pennine-core")
        .expect("the core is in the workspace");
    for dependency in core["dependencies"].as_array().expect("dependencies") {
        if dependency["kind"].is_null() {
            let name = dependency["name"].as_str().expect("a name");
            assert!(ALLOWED.contains(&name), "the core may not depend on {name}");
        }
    }
}

#[test]
fn the_core_names_no_clock_no_file_and_no_socket() {
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/src");
    let mut folders = vec![std::path::PathBuf::from(source)];
    let mut files = 0;
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder)
            .expect("the source is there")
            .flatten()
        {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            files += 1;
            let text = std::fs::read_to_string(&path).expect("a source file is text");
            for banned in [
                "std::fs",
                "std::net",
                "std::process",
                "SystemTime",
                "Instant",
                "::now()",
                "async fn",
                "println!",
            ] {
                assert!(!text.contains(banned), "{} names {banned}", path.display());
            }
        }
    }
    assert!(files > 10, "the source was looked at");
}
