//! The arrows between the service's modules, and between the crates, point one way.
//!
//! The lists of exceptions only shrink: a file that no longer needs its exception fails the test until it is taken out.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// The layers, the lowest first. A module may use what lies below its layer, and its own group.
const LAYERS: &[&[&[&str]]] = &[
    &[&[
        "access",
        "app",
        "audit_seals",
        "background",
        "clock",
        "cloud_events",
        "config",
        "encryption",
        "passwords",
        "second_factor",
        "error",
        "failed_attempts",
        "feed",
        "identity_keys",
        "key_file",
        "log_store",
        "log_volumes",
        "objects",
        "openid",
        "outside_secrets",
        "poll_waiters",
        "poll_wakeups",
        "presence",
        "programs",
        "recurring_tasks",
        "runner_cache",
        "secret",
        "settings_version",
        "supplier_calls",
        "upload_budget",
        "validation",
        "webhook_client",
        "visible_yard",
        "yard",
        "yard_cache",
    ]],
    &[&["views"]],
    &[&["operations"]],
    // Beside each other: none of these uses another.
    &[
        &["http"],
        &["leader"],
        &["alerting"],
        &["audit_sealing"],
        &["bulk_actions"],
        &["delivery"],
        &["rollup_updates"],
        &["housekeeping", "retention"],
        &["key_watch"],
    ],
    &[&["installation"]],
    &[&["boot"], &["commands"]],
    &[&["lib", "main"]],
];

/// Uses against the arrows that are still there, as `file uses module`.
const EXCEPTIONS: &[&str] = &[];

/// Files of `http` that still reach into the store.
const HTTP_AND_STORE: &[&str] = &[];

/// The folder of all crates.
pub fn crates_folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// The Rust files below a folder.
pub fn sources(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).expect("a folder");
    let paths = entries.map(|entry| entry.expect("an entry").path());
    let mut found = Vec::new();
    for path in paths {
        if path.is_dir() {
            found.extend(sources(&path));
        } else if path.extension().is_some_and(|kind| kind == "rs") {
            found.push(path);
        }
    }
    found.sort();
    found
}

/// The code of a file without comments and without its tests.
fn code(path: &Path) -> String {
    let text = std::fs::read_to_string(path).expect("a text");
    let text = text.split("#[cfg(test)]").next().unwrap_or_default();
    let lines = text
        .lines()
        .map(|line| line.split("//").next().unwrap_or_default());
    lines.collect::<Vec<_>>().join("\n")
}

/// The modules of this crate that the code names, by the first part of their path.
fn modules_named(code: &str) -> BTreeSet<String> {
    let word = |text: &str| -> String {
        let letters = text
            .chars()
            .take_while(|c| c.is_alphanumeric() || *c == '_');
        letters.collect()
    };
    let mut named = BTreeSet::new();
    for rest in code.split("crate::").skip(1) {
        match rest.strip_prefix('{') {
            None => {
                named.insert(word(rest));
            }
            Some(list) => {
                let list = list.split("};").next().unwrap_or_default();
                // Only the first level: what stands inside further braces belongs to the module before them.
                let mut depth = 0;
                let mut item = String::new();
                for c in list.chars().chain([',']) {
                    match c {
                        '{' => depth += 1,
                        '}' => depth -= 1,
                        ',' if depth == 0 => {
                            named.insert(word(item.trim()));
                            item.clear();
                        }
                        _ => item.push(c),
                    }
                }
            }
        }
    }
    named.remove("");
    named
}

/// The layer and the group of a module.
fn layer(module: &str) -> Option<(usize, usize)> {
    LAYERS.iter().enumerate().find_map(|(height, groups)| {
        let group = groups.iter().position(|group| group.contains(&module))?;
        Some((height, group))
    })
}

#[test]
fn modules_of_the_service_use_only_what_lies_below_them() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut wrong = BTreeSet::new();
    let mut unknown = BTreeSet::new();
    for path in sources(&root) {
        let file = path
            .strip_prefix(&root)
            .expect("below")
            .display()
            .to_string();
        let own = file.split('/').next().unwrap_or_default();
        let own = own.trim_end_matches(".rs");
        let Some(from) = layer(own) else {
            unknown.insert(own.to_owned());
            continue;
        };
        for module in modules_named(&code(&path)) {
            match layer(&module) {
                None => {
                    unknown.insert(format!("{module} (named in {file})"));
                }
                Some(to) if to == from || to.0 < from.0 => {}
                Some(_) => {
                    wrong.insert(format!("{file} uses {module}"));
                }
            }
        }
    }
    assert!(
        unknown.is_empty(),
        "modules without a layer (add them to LAYERS): {unknown:?}"
    );
    let excepted: BTreeSet<String> = EXCEPTIONS.iter().map(|one| (*one).to_owned()).collect();
    let new: Vec<_> = wrong.difference(&excepted).collect();
    assert!(new.is_empty(), "these arrows point the wrong way: {new:#?}");
    let unneeded: Vec<_> = excepted.difference(&wrong).collect();
    assert!(
        unneeded.is_empty(),
        "take these out of EXCEPTIONS: {unneeded:#?}"
    );
}

#[test]
fn routes_know_no_sql() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/http");
    let mut found = BTreeSet::new();
    for path in sources(&root) {
        if code(&path).contains("pennine_store") {
            found.insert(
                path.strip_prefix(&root)
                    .expect("below")
                    .display()
                    .to_string(),
            );
        }
    }
    let excepted: BTreeSet<String> = HTTP_AND_STORE.iter().map(|one| (*one).to_owned()).collect();
    let new: Vec<_> = found.difference(&excepted).collect();
    assert!(
        new.is_empty(),
        "these routes reach into the store: {new:#?}"
    );
    let unneeded: Vec<_> = excepted.difference(&found).collect();
    assert!(
        unneeded.is_empty(),
        "take these out of HTTP_AND_STORE: {unneeded:#?}"
    );
}

#[test]
fn crates_depend_only_on_those_below_them() {
    // What each crate may use of the others; dev-dependencies are free.
    let allowed: BTreeMap<&str, &[&str]> = BTreeMap::from([
        ("core", &[] as &[&str]),
        ("wire", &["core"]),
        ("store", &["core"]),
        ("suppliers", &["core"]),
        ("client", &["core", "wire"]),
        ("cli", &["core", "wire", "client"]),
        ("runner", &["core", "wire", "client"]),
        ("load", &["core", "wire", "client"]),
        ("history", &["core", "store"]),
        ("standins", &["core", "suppliers"]),
        ("testing", &["store"]),
        // Tests of parsers, wherever they are; nothing uses it.
        ("fuzz", &["core", "wire", "runner", "suppliers"]),
        ("service", &["core", "wire", "store", "suppliers"]),
    ]);
    for entry in std::fs::read_dir(crates_folder()).expect("the crates") {
        let folder = entry.expect("an entry").path();
        let name = folder
            .file_name()
            .and_then(|name| name.to_str())
            .expect("a name")
            .to_owned();
        let Ok(text) = std::fs::read_to_string(folder.join("Cargo.toml")) else {
            continue;
        };
        let allowed = allowed
            .get(name.as_str())
            .unwrap_or_else(|| panic!("say what the crate {name} may use"));
        let own = text.split("[dependencies]").nth(1).unwrap_or_default();
        let own = own.split("\n[").next().unwrap_or_default();
        for used in own.lines().filter_map(|line| line.strip_prefix("pennine-")) {
            let used = used.split(['.', ' ']).next().unwrap_or_default();
            assert!(
                allowed.contains(&used),
                "{name} uses {used}: the arrow points the wrong way"
            );
        }
    }
}
