//! Fetching a revision of a repository with the machine's own git.

use pennine_core::source::Repository;
use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// How long one step of git may take. The job's own time limit goes on meanwhile.
const PATIENCE: Duration = Duration::from_secs(1800);

/// What git says at most.
const MOST_SAID: u64 = 4000;

/// Settings that a repository or a machine's owner cannot change: no hooks, no redirect to another address, no program as transport, no
/// question at a terminal, and an end where nothing comes for a minute.
const SETTINGS: [&str; 8] = [
    "core.hooksPath=/dev/null",
    "core.fsmonitor=false",
    "http.followRedirects=false",
    "http.lowSpeedLimit=1",
    "http.lowSpeedTime=60",
    "protocol.ext.allow=never",
    "init.defaultBranch=main",
    "advice.detachedHead=false",
];

/// Git, in a folder, with none of the settings of the machine, of a user or of the environment.
fn git(folder: &Path) -> Command {
    let mut git = Command::new("git");
    for (name, _) in std::env::vars_os() {
        if name.to_string_lossy().starts_with("GIT_") {
            git.env_remove(name);
        }
    }
    git.current_dir(folder)
        .env("GIT_CONFIG_NOSYSTEM", "1")
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env("GIT_TERMINAL_PROMPT", "0")
        .env("GIT_SSH_COMMAND", "ssh -oBatchMode=yes")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped());
    for setting in SETTINGS {
        git.args(["-c", setting]);
    }
    git
}

/// Runs one step. Returns what git said where it fails.
fn step(mut git: Command) -> Result<(), String> {
    let mut child = git.spawn().map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => {
            "cannot be fetched: git is not on this machine; a requirement of \"has git\" chooses one that has it".to_owned()
        }
        _ => format!("cannot be fetched: git cannot be started: {error}"),
    })?;
    let errors = child.stderr.take();
    let reader = std::thread::spawn(move || {
        let mut said = String::new();
        if let Some(errors) = errors {
            let _ = errors.take(MOST_SAID).read_to_string(&mut said);
        }
        said
    });
    let begun = Instant::now();
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status,
            Ok(None) if begun.elapsed() < PATIENCE => std::thread::sleep(Duration::from_millis(5)),
            Ok(None) => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(format!(
                    "cannot be fetched: git did not end within {} min",
                    PATIENCE.as_secs() / 60
                ));
            }
            Err(error) => return Err(format!("cannot be fetched: {error}")),
        }
    };
    if status.success() {
        return Ok(());
    }
    let said = reader.join().unwrap_or_default();
    let said: Vec<&str> = said
        .lines()
        .map(str::trim)
        .filter(|line| !line.is_empty())
        .collect();
    Err(format!("cannot be fetched: {}", said.join("; ")))
}

/// Fetches the exact revision, without its history, into an empty folder. Returns what was fetched.
pub(super) fn fetch(wanted: &Repository, folder: &Path) -> Result<String, String> {
    wanted
        .check()
        .map_err(|error| format!("cannot be fetched: {error}"))?;
    let Repository { url, revision } = wanted;
    let run = |arguments: &[&str]| {
        let mut git = git(folder);
        git.args(arguments);
        step(git)
    };
    run(&["init", "--quiet", "."])?;
    run(&[
        "fetch",
        "--quiet",
        "--no-tags",
        "--depth=1",
        "--",
        url,
        revision,
    ])?;
    run(&["checkout", "--quiet", "--detach", revision])?;
    let short = revision.get(..12).unwrap_or(revision);
    Ok(format!("{short} of {url}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn git_in(folder: &Path, arguments: &[&str]) -> String {
        let output = Command::new("git")
            .current_dir(folder)
            .args([
                "-c",
                "user.name=Mira Tveit",
                "-c",
                "user.email=mira@skerry.example",
                "-c",
                "init.defaultBranch=main",
            ])
            .args(arguments)
            .output()
            .unwrap();
        assert!(
            output.status.success(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    /// A repository with two revisions, and its address.
    fn repository(folder: &Path) -> (String, String, String) {
        git_in(folder, &["init", "--quiet", "."]);
        fs::write(folder.join("buoy.c"), "first").unwrap();
        git_in(folder, &["add", "."]);
        git_in(folder, &["commit", "--quiet", "-m", "first"]);
        let first = git_in(folder, &["rev-parse", "HEAD"]);
        fs::write(folder.join("buoy.c"), "second").unwrap();
        git_in(folder, &["commit", "--quiet", "-am", "second"]);
        let second = git_in(folder, &["rev-parse", "HEAD"]);
        (format!("file://{}", folder.display()), first, second)
    }

    #[test]
    fn the_exact_revision_is_checked_out_and_nothing_planted_runs() {
        let (source, target) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let (url, first, _) = repository(source.path());
        let wanted = Repository {
            url,
            revision: first,
        };
        fetch(&wanted, target.path()).unwrap();
        assert_eq!(
            fs::read_to_string(target.path().join("buoy.c")).unwrap(),
            "first"
        );
    }

    #[test]
    fn a_revision_that_is_gone_or_a_repository_that_is_not_there_is_an_error_in_words() {
        let (source, target) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let (url, ..) = repository(source.path());
        let gone = Repository {
            url: url.clone(),
            revision: "1".repeat(40),
        };
        let error = fetch(&gone, target.path()).expect_err("it is gone");
        assert!(
            error.starts_with("cannot be fetched: ") && error.len() > 30,
            "{error}"
        );
        let nowhere = Repository {
            url: format!("{url}/nowhere"),
            revision: "1".repeat(40),
        };
        let error = fetch(&nowhere, target.path()).expect_err("it is not there");
        assert!(error.contains("nowhere"), "{error}");
        let flag = Repository {
            url: "--upload-pack=touch".into(),
            revision: "1".repeat(40),
        };
        assert!(fetch(&flag, target.path()).is_err());
    }
}
