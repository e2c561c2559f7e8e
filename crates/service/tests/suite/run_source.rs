//! The files with which the jobs of a run begin: a folder's, or a revision of a repository.

use crate::command_line::pennine;
use crate::runs::{job, new_run};
use crate::support::{Runner, Service, free_port, refusal, until};
use pennine_client::RunListFilter;
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::size::ByteSize;
use pennine_core::source::Repository;
use pennine_wire::{JobPolicyChange, NewProject, NewRun, PoolChange, RunRetry};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use tempfile::TempDir;
use tokio::net::TcpStream;

/// A folder with a small project: a sheet, a program that its job runs, and what is ignored.
pub fn project(sheet: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    std::fs::create_dir_all(at("ci")).unwrap();
    std::fs::write(at("pennine.toml"), sheet).unwrap();
    std::fs::write(
        at("ci/greet.sh"),
        "echo \"good day from $(basename \"$PWD\")\"; ls\n",
    )
    .unwrap();
    std::fs::write(at("secret.txt"), "not to be sent").unwrap();
    std::fs::write(at(".gitignore"), "secret.txt\n").unwrap();
    folder
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_folders_files_are_what_its_jobs_begin_with_whatever_their_isolation() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let folder = project("[jobs.greet]\nscript = 'ci/greet.sh'\n");
    let dir = folder.path().display().to_string();
    let submit = ["run", "submit", &dir, "--project", "buoy", "--follow"];
    for level in [
        IsolationLevel::Process,
        IsolationLevel::Sandbox,
        IsolationLevel::None,
    ] {
        let change = PoolChange {
            jobs: Some(JobPolicyChange {
                isolation: Some(level),
                ..JobPolicyChange::default()
            }),
            ..PoolChange::default()
        };
        service
            .client
            .change_pool("staithe", &change)
            .await
            .unwrap();
        let output = pennine(&service, &submit).await;
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success(), "{level}: {said}");
        assert!(said.contains("Sent 3 files"), "{said}");
        assert!(said.contains("greet: success"), "{said}");
        let newest = service
            .client
            .runs(&RunListFilter::default())
            .await
            .unwrap();
        let run = service.client.run(&newest.items[0].name).await.unwrap();
        let log = service.log(&job(&run, "greet").job.name).await;
        let log = String::from_utf8_lossy(&log).into_owned();
        assert!(log.contains("pennine: source: 3 files"), "{log}");
        assert!(log.contains("good day from"), "{log}");
        assert!(
            log.contains("pennine.toml") && !log.contains("secret.txt"),
            "{log}"
        );
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn files_of_another_project_and_files_that_are_gone_are_refused() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let (name, team) = ("barometer".into(), "firmware".into());
    service
        .client
        .add_project(&NewProject { name, team })
        .await
        .unwrap();
    // What is sent is not looked at before a job unpacks it.
    let bytes = b"no archive at all".to_vec();
    let length = bytes.len() as u64;
    let sent = service
        .client
        .upload_source("buoy", bytes, length)
        .await
        .unwrap();
    assert_eq!(sent.bytes, ByteSize(length));
    let of = |project: &str| NewRun {
        project: project.into(),
        source: Some(sent.id),
        ..new_run("[jobs.build]\ncommands = ['true']\n")
    };
    let refused = refusal(service.client.submit_run(&of("barometer")).await);
    assert_eq!(
        (refused.status, refused.field.as_deref()),
        (422, Some("source"))
    );
    let name = service
        .client
        .submit_run(&of("buoy"))
        .await
        .unwrap()
        .run
        .line
        .name;
    let run = service.run_done(&name).await;
    let build = service
        .client
        .job(&job(&run, "build").job.name)
        .await
        .unwrap();
    assert_eq!(
        (build.line.result, build.exit_code),
        (Some(Outcome::Error), Some(121)),
        "{build:?}"
    );
    let message = build.message.unwrap_or_default();
    assert!(
        message.starts_with("the files of the run cannot be unpacked"),
        "{message}"
    );
    let log = service.log(&build.line.name).await;
    let log = String::from_utf8_lossy(&log).into_owned();
    assert!(
        log.contains("the files of the run cannot be unpacked"),
        "{log}"
    );

    // Kept for two weeks after the upload.
    let mut clock = Duration::ZERO;
    while clock < Duration::from_secs(15 * 86_400) {
        clock += Duration::from_secs(86_400);
        service.clock.advance(Duration::from_secs(86_400));
    }
    until("the files are removed", || async {
        let again = service.client.retry_run(&name, &RunRetry::default()).await;
        match again {
            Err(error) => (error.problem()?.word() == "source-removed").then_some(()),
            Ok(_) => {
                service.run_done(&name).await;
                None
            }
        }
    })
    .await;
    let objects = service.data.path().join("objects/sources");
    let left = std::fs::read_dir(objects).map_or(0, Iterator::count);
    assert_eq!(left, 0, "the object is gone, too");
}

/// Serves the repositories of a folder on loopback, until it is dropped.
struct GitDaemon {
    child: std::process::Child,
    port: u16,
}

impl Drop for GitDaemon {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl GitDaemon {
    async fn serving(folder: &Path) -> GitDaemon {
        let port = free_port();
        // The daemon itself: stopping `git daemon` would leave it behind.
        let programs = git_says(folder, &["--exec-path"]);
        let child = Command::new(Path::new(&programs).join("git-daemon"))
            .args(["--export-all", "--reuseaddr", "--listen=127.0.0.1"])
            .arg(format!("--port={port}"))
            .arg(format!("--base-path={}", folder.display()))
            .stderr(Stdio::null())
            .spawn()
            .expect("git");
        until("the daemon listens", || async {
            TcpStream::connect(("127.0.0.1", port)).await.ok()
        })
        .await;
        GitDaemon { child, port }
    }
}

fn git(folder: &Path) -> Command {
    let mut git = Command::new("git");
    git.current_dir(folder)
        .env("GIT_CONFIG_NOSYSTEM", "1")
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .args([
            "-c",
            "user.name=Mira Tveit",
            "-c",
            "user.email=mira@skerry.example",
        ])
        .args(["-c", "init.defaultBranch=main", "-c", "safe.directory=*"]);
    git
}

fn git_says(folder: &Path, arguments: &[&str]) -> String {
    let output = git(folder).args(arguments).output().expect("git");
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{arguments:?}: {said}");
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_revision_of_a_repository_is_what_its_jobs_begin_with() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let sheet = "[jobs.greet]\nwhere = 'has git'\ncommands = ['sh ci/greet.sh', 'git log --oneline', 'echo of $PENNINE_REVISION']\n";
    let folder = project(sheet);
    let root = folder.path();
    git_says(root, &["init", "--quiet", "."]);
    git_says(root, &["add", "."]);
    git_says(root, &["commit", "--quiet", "-m", "the first one"]);
    let first = git_says(root, &["rev-parse", "HEAD"]);
    std::fs::write(root.join("later.txt"), "later").unwrap();
    git_says(root, &["add", "."]);
    git_says(root, &["commit", "--quiet", "-m", "the second one"]);
    let daemon = GitDaemon::serving(root.parent().unwrap()).await;
    let name = root.file_name().unwrap().to_string_lossy();
    let url = format!("git://127.0.0.1:{}/{name}", daemon.port);

    let submit = [
        "run",
        "submit",
        "--repo",
        &url,
        "--at",
        "main",
        "--project",
        "buoy",
        "--follow",
    ];
    let output = pennine(&service, &submit).await;
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{said}");
    let newest = service
        .client
        .runs(&RunListFilter::default())
        .await
        .unwrap();
    let line = &newest.items[0];
    assert_eq!(line.branch.as_deref(), Some("main"));
    let run = service.client.run(&line.name).await.unwrap();
    assert_eq!(run.repository.as_deref(), Some(url.as_str()));
    let log = service.log(&job(&run, "greet").job.name).await;
    let log = String::from_utf8_lossy(&log).into_owned();
    assert!(
        log.contains("the second one") && log.contains("later.txt"),
        "{log}"
    );
    assert!(
        !log.contains("the first one"),
        "the history is not fetched: {log}"
    );

    // An earlier revision by its hash; one that is gone; addresses that git is not given.
    let at = |revision: &str, url: &str| NewRun {
        repository: Some(Repository {
            url: url.into(),
            revision: revision.into(),
        }),
        ..new_run(sheet)
    };
    let earlier = service.client.submit_run(&at(&first, &url)).await.unwrap();
    let run = service.run_done(&earlier.run.line.name).await;
    assert_eq!(run.line.result, Some(Outcome::Success));
    let log = service.log(&job(&run, "greet").job.name).await;
    let log = String::from_utf8_lossy(&log).into_owned();
    assert!(
        log.contains(&format!("of {first}")) && !log.contains("later.txt"),
        "{log}"
    );
    let gone = service
        .client
        .submit_run(&at(&"1".repeat(40), &url))
        .await
        .unwrap();
    let run = service.run_done(&gone.run.line.name).await;
    let log = service.log(&job(&run, "greet").job.name).await;
    let log = String::from_utf8_lossy(&log).into_owned();
    assert!(
        log.contains("the files of the run cannot be fetched: "),
        "{log}"
    );
    let ended = service
        .client
        .job(&job(&run, "greet").job.name)
        .await
        .unwrap();
    assert_eq!(ended.exit_code, Some(121));
    for (url, revision) in [
        ("ext::sh -c true", first.as_str()),
        (url.as_str(), "main"),
        ("https://a:b@forge.example/x", &first),
    ] {
        let refused = refusal(service.client.submit_run(&at(revision, url)).await);
        assert_eq!(
            (refused.status, refused.field.as_deref()),
            (422, Some("repository")),
            "{refused:?}"
        );
    }
}
