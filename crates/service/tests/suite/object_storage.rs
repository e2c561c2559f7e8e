//! Logs in a bucket of an S3-compatible store: from the start, and taken over from a folder while the service runs.

use crate::faults::{furnish, join, submit, when};
use crate::runner_faults::nix_is_root;
use crate::support::{Database, ServiceProcess, free_port, program, token_in, until};
use hyper_util::rt::{TokioExecutor, TokioIo};
use pennine_client::{Client, Route};
use pennine_core::lifecycle::attempt::AttemptState;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::Micros;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

const BUCKET: &str = "pennine-logs";

/// An S3-compatible store on loopback with an empty bucket; ended when dropped.
struct Bucket {
    folder: TempDir,
    endpoint: String,
    server: JoinHandle<()>,
}

impl Drop for Bucket {
    fn drop(&mut self) {
        self.server.abort();
    }
}

impl Bucket {
    async fn empty() -> Bucket {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join(BUCKET)).unwrap();
        let files = s3s_fs::FileSystem::new(folder.path()).unwrap();
        let mut builder = S3ServiceBuilder::new(files);
        builder.set_auth(SimpleAuth::from_single("skerry", "a secret"));
        let service = builder.build();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let endpoint = format!("http://{}", listener.local_addr().unwrap());
        let server = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let service = service.clone();
                tokio::spawn(async move {
                    let _ = hyper_util::server::conn::auto::Builder::new(TokioExecutor::new())
                        .serve_connection(TokioIo::new(stream), service)
                        .await;
                });
            }
        });
        Bucket {
            folder,
            endpoint,
            server,
        }
    }

    /// The settings of a service that keeps its logs here.
    fn settings(&self, secret: &str) -> Vec<(&'static str, String)> {
        let credentials = self.folder.path().join("credentials");
        std::fs::write(&credentials, format!("skerry\n{secret}\n")).unwrap();
        vec![
            ("PENNINED_OBJECTS__BUCKET", BUCKET.to_owned()),
            ("PENNINED_OBJECTS__PREFIX", "pennine/one".to_owned()),
            ("PENNINED_OBJECTS__ENDPOINT", self.endpoint.clone()),
            ("PENNINED_OBJECTS__REGION", "skerry-1".to_owned()),
            (
                "PENNINED_OBJECTS__CREDENTIALS_FILE",
                credentials.display().to_string(),
            ),
        ]
    }

    fn objects(&self) -> usize {
        files_below(&self.folder.path().join(BUCKET).join("pennine/one/logs"))
    }
}

/// Counts objects, without those still being written: a folder gives these a name with `#` until they are whole.
fn files_below(folder: &Path) -> usize {
    let Ok(entries) = std::fs::read_dir(folder) else {
        return 0;
    };
    let paths = entries.map(|entry| entry.unwrap().path());
    paths
        .map(|path| match path.is_dir() {
            true => files_below(&path),
            false => usize::from(!path.to_string_lossy().contains('#')),
        })
        .sum()
}

/// Submits a job whose log fills objects, and waits for its end.
async fn long_log(client: &Client, word: &str) -> String {
    let script = format!("yes {word} | head -c 3000000");
    let name = submit(client, &script).await;
    let job = when(client, &name, |job| job.line.result.is_some()).await;
    assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
    name
}

/// Reads a log whole, and finds nothing but its head and these words in it.
async fn is_whole(client: &Client, name: &str, word: &str) {
    let mut bytes = Vec::new();
    loop {
        let part = client
            .log(name, None, bytes.len() as u64, Micros(0))
            .await
            .unwrap();
        bytes.extend_from_slice(&part.bytes);
        if part.bytes.is_empty() {
            break;
        }
    }
    let text = String::from_utf8(bytes).unwrap();
    let lines = text.lines().filter(|line| *line == word).count();
    assert_eq!(lines, 3_000_000 / (word.len() + 1), "{name}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_bucket_takes_over_from_the_folder_while_the_service_runs() {
    let (database, bucket) = (Database::fresh().await, Bucket::empty().await);
    let (data, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let port = free_port();
    let service = ServiceProcess::start(&database.url, data.path(), port).await;
    let client = Client::new(&service.url, &token_in(data.path()), &Route::default()).unwrap();
    furnish(&client).await;
    let _runner = join(&client, &service.url, home.path()).await;
    let first = long_log(&client, "one").await;
    let folder = data.path().join("objects/logs");
    until("the first log is sealed", || async {
        (files_below(&folder) >= 3).then_some(())
    })
    .await;
    drop(service);

    let settings = bucket.settings("a secret");
    let service = ServiceProcess::start_with(&database.url, data.path(), port, &settings).await;
    let second = long_log(&client, "two").await;
    until("the second log is sealed", || async {
        (bucket.objects() >= 3).then_some(())
    })
    .await;
    is_whole(&client, &first, "one").await;
    is_whole(&client, &second, "two").await;

    let migrate = || {
        Command::new(program("pennined"))
            .arg("migrate-objects")
            .env_clear()
            .env("PENNINED_DATABASE_URL", &database.url)
            .env("PENNINED_DATA_DIR", data.path())
            .envs(settings.iter().map(|(key, value)| (*key, value)))
            .output()
            .unwrap()
    };
    let output = migrate();
    assert!(output.status.success(), "{output:?}");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(said.contains("to the bucket pennine-logs"), "{said}");
    assert_eq!(files_below(&folder), 0);
    is_whole(&client, &first, "one").await;
    // Again, it finds nothing to do.
    let said = String::from_utf8_lossy(&migrate().stdout).into_owned();
    assert!(said.starts_with("Moved 0 objects"), "{said}");

    // Another replica, on another host, shares nothing but the database, the bucket and the key file.
    let elsewhere = tempfile::tempdir().unwrap();
    for file in std::fs::read_dir(data.path()).unwrap() {
        let file = file.unwrap().path();
        if file.is_file() {
            std::fs::copy(&file, elsewhere.path().join(file.file_name().unwrap())).unwrap();
        }
    }
    let other =
        ServiceProcess::start_with(&database.url, elsewhere.path(), free_port(), &settings).await;
    let there = Client::new(&other.url, &token_in(data.path()), &Route::default()).unwrap();
    is_whole(&there, &first, "one").await;
    is_whole(&there, &second, "two").await;
    assert!(!elsewhere.path().join("objects").exists());
    drop((service, other));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn logs_wait_at_the_runner_while_their_folder_is_full_and_go_on_when_there_is_space() {
    let wrapper: &[&str] = if nix_is_root() {
        &["unshare", "--mount"]
    } else {
        &["unshare", "--map-root-user", "--mount"]
    };
    let able = Command::new(wrapper[0])
        .args(&wrapper[1..])
        .arg("true")
        .status();
    if !able.is_ok_and(|status| status.success()) {
        eprintln!(
            "SKIPPED: this user may not make a mount namespace here, so no small disk can be had"
        );
        return;
    }
    let database = Database::fresh().await;
    let (data, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mount = "mount -t tmpfs -o size=8m tmpfs \"$PENNINED_DATA_DIR\" && exec \"$0\" \"$@\"";
    let mut command = Command::new(wrapper[0]);
    command.args(&wrapper[1..]).args(["sh", "-c", mount]);
    command.arg(program("pennined"));
    let service =
        ServiceProcess::start_as(command, &database.url, data.path(), free_port(), &[]).await;
    // Its folder as the service sees it.
    let inside = format!("/proc/{}/root{}", service.pid(), data.path().display());
    let inside = Path::new(&inside);
    let client = Client::new(&service.url, &token_in(inside), &Route::default()).unwrap();
    furnish(&client).await;
    let _runner = join(&client, &service.url, home.path()).await;
    std::fs::write(inside.join("filler"), vec![0; 7 << 20]).unwrap();
    let name = submit(&client, "yes one | head -c 3000000").await;
    until("the job has run and its log does not fit", || async {
        let job = client.job(&name).await.ok()?;
        let attempt = job.attempts.first()?;
        (attempt.state == AttemptState::Finalizing).then_some(())
    })
    .await;
    let other = submit(&client, "true").await;
    assert!(client.job(&name).await.unwrap().line.result.is_none());
    std::fs::remove_file(inside.join("filler")).unwrap();
    for name in [&name, &other] {
        let job = when(&client, name, |job| job.line.result.is_some()).await;
        assert_eq!(job.line.result, Some(Outcome::Success), "{job:?}");
        assert_eq!(job.attempts.len(), 1, "{job:?}");
    }
    is_whole(&client, &name, "one").await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_bucket_that_cannot_be_used_is_refused_at_the_start_with_the_reason() {
    let (database, bucket) = (Database::fresh().await, Bucket::empty().await);
    let data = tempfile::tempdir().unwrap();
    let serve = |settings: &[(&str, String)], data: &Path| {
        let output = Command::new(program("pennined"))
            .arg("serve")
            .env_clear()
            .env("PENNINED_DATABASE_URL", &database.url)
            .env("PENNINED_DATA_DIR", data)
            .env("PENNINED_LISTEN", "127.0.0.1:0")
            .envs(settings.iter().map(|(key, value)| (*key, value)))
            .output()
            .unwrap();
        assert!(!output.status.success());
        String::from_utf8_lossy(&output.stderr).into_owned()
    };
    drop(ServiceProcess::start(&database.url, data.path(), free_port()).await);
    let said = serve(&bucket.settings("wrong"), data.path());
    assert!(
        said.contains("the bucket pennine-logs cannot be read"),
        "{said}"
    );
    // Without the folder that it would take over from, an empty bucket is refused.
    std::fs::remove_dir_all(data.path().join("objects")).unwrap();
    let said = serve(&bucket.settings("a secret"), data.path());
    assert!(said.contains("is not this installation's"), "{said}");
    let credentials = bucket.folder.path().join("credentials");
    let settings = bucket.settings("a secret");
    std::fs::write(&credentials, "skerry").unwrap();
    let said = serve(&settings, data.path());
    assert!(said.contains("has two lines"), "{said}");
}
