//! The service: in the test's process, with a clock that can be moved, or as a process that can be killed.

use super::{Database, PATIENCE, program, until};
use pennine_client::{Client, QueueFilter, Route, RunnerFilter};
use pennine_core::access::Role;
use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::time::Moment;
use pennine_store::connect::PoolSizes;
use pennine_wire::{
    Job, NewJob, NewPool, NewProject, NewTeam, NewTicket, NewToken, Queue, WaitExplanation,
};
use pennined::clock::Clock;
use pennined::config::Config;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tempfile::TempDir;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// An installation under test: database, data folder, and one replica that serves.
pub struct Service {
    pub url: String,
    pub client: Client,
    pub token: String,
    pub clock: Clock,
    pub database: Database,
    pub data: TempDir,
    pub config: Config,
    replica: Option<Replica>,
}

/// One replica in this process.
pub struct Replica {
    pub url: String,
    stop: CancellationToken,
    task: tokio::task::JoinHandle<anyhow::Result<()>>,
}

/// The settings of a replica on a database and a data folder.
pub fn config(database: &str, data: &Path, listen: SocketAddr) -> Config {
    let mut config = Config::load(None).expect("the default configuration");
    config.database_url = database.to_owned();
    config.data_dir = data.to_owned();
    config.listen = listen;
    config.database_connections = PoolSizes {
        people: 4,
        analysis: 2,
        runners: 4,
        tasks: 3,
    };
    config.limits.job_log_bytes = 64 << 20;
    config.alerts.every_seconds = 1;
    config.outgoing.allow = vec!["127.0.0.0/8".into()];
    config
}

/// Returns this machine's time: what a service begins with that has partitions for its day.
pub fn wall_clock() -> Moment {
    Moment::default()
        + SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .expect("after 1970")
}

impl Replica {
    /// Starts a replica with these settings, on a port of its own unless they name one.
    pub async fn start(config: Config, clock: Clock) -> Replica {
        let listener = TcpListener::bind(config.listen).await.expect("a port");
        let url = config.public_url(listener.local_addr().expect("an address"));
        pennine_client::choose_cryptography();
        let stop = CancellationToken::new();
        let stopped = stop.clone();
        let task = tokio::spawn(async move {
            pennined::boot::serve(
                config,
                listener,
                Some(clock),
                Box::pin(stopped.cancelled_owned()),
            )
            .await
        });
        Replica { url, stop, task }
    }

    fn address(&self) -> SocketAddr {
        self.url
            .trim_start_matches("http://")
            .trim_start_matches("https://")
            .parse()
            .expect("an address")
    }

    /// Stops it, as SIGTERM would.
    pub async fn stop(self) {
        self.stop.cancel();
        self.task
            .await
            .expect("the service does not panic")
            .expect("the service stops in order");
    }
}

/// Waits until the service at this address is ready.
pub async fn ready(url: &str) {
    pennine_client::choose_cryptography();
    // The certificate is checked by the test's own client.
    let http = reqwest::Client::builder()
        .tls_danger_accept_invalid_certs(true)
        .build()
        .expect("a client");
    until("the service is ready", || async {
        let answer = http.get(format!("{url}/readyz")).send().await.ok()?;
        answer.status().is_success().then_some(())
    })
    .await;
}

pub fn token_in(data: &Path) -> String {
    std::fs::read_to_string(data.join("admin.token"))
        .expect("the admin's token")
        .trim()
        .to_owned()
}

impl Service {
    /// A fresh installation, serving.
    pub async fn start() -> Service {
        Service::with(|_| {}).await
    }

    /// The same, with other settings.
    pub async fn with(change: impl FnOnce(&mut Config)) -> Service {
        Service::in_database(Database::fresh().await, change).await
    }

    /// The same, in a database that was prepared for it.
    pub async fn in_database(database: Database, change: impl FnOnce(&mut Config)) -> Service {
        Service::reached_by(&Route::default(), database, change).await
    }

    /// The same, with a client that goes this way.
    pub async fn reached_by(
        route: &Route,
        database: Database,
        change: impl FnOnce(&mut Config),
    ) -> Service {
        let data = tempfile::tempdir().expect("a data folder");
        let mut config = config(
            &database.service_url,
            data.path(),
            ([127, 0, 0, 1], 0).into(),
        );
        change(&mut config);
        let clock = Clock::starting_at(wall_clock());
        let replica = Replica::start(config.clone(), clock.clone()).await;
        ready(&replica.url).await;
        // After a restart it has the same address.
        config.listen = replica.address();
        let token = token_in(data.path());
        let client = Client::new(&replica.url, &token, route).expect("a client");
        Service {
            url: replica.url.clone(),
            client,
            token,
            clock,
            database,
            data,
            config,
            replica: Some(replica),
        }
    }

    /// The host and port.
    pub fn address(&self) -> SocketAddr {
        self.config.listen
    }

    /// It stops serving.
    pub async fn goes_away(&mut self) {
        self.replica.take().expect("it is there").stop().await;
    }

    /// It serves again, where it was.
    pub async fn comes_back(&mut self) {
        self.replica = Some(Replica::start(self.config.clone(), self.clock.clone()).await);
        ready(&self.url).await;
    }

    /// Makes a team `firmware`, a project `firmware/buoy` and an open pool `staithe`.
    pub async fn furnish(&self) {
        self.client
            .add_team(&NewTeam {
                name: "firmware".into(),
                parent: None,
            })
            .await
            .expect("a team");
        let project = NewProject {
            name: "buoy".into(),
            team: "firmware".into(),
        };
        self.client.add_project(&project).await.expect("a project");
        self.add_pool("staithe", &[]).await;
    }

    /// Makes an open pool.
    pub async fn add_pool(&self, name: &str, labels: &[&str]) {
        let pool = NewPool {
            name: name.into(),
            description: String::new(),
            labels: labels.iter().map(|label| (*label).to_owned()).collect(),
            open: Some(true),
            owner: None,
            ..NewPool::default()
        };
        self.client.add_pool(&pool).await.expect("a pool");
    }

    /// The secret of a fresh ticket.
    pub async fn ticket(&self, pool: &str) -> String {
        self.client
            .add_ticket(pool, &NewTicket::default())
            .await
            .expect("a ticket")
            .secret
    }

    /// Submits a shell script and returns the job's name.
    pub async fn submit(&self, requirement: &str, script: &str) -> String {
        let new = NewJob {
            project: "buoy".into(),
            requirement: requirement.into(),
            command: ["sh", "-c", script].map(str::to_owned).to_vec(),
            ..NewJob::default()
        };
        self.client
            .submit(&new, None)
            .await
            .expect("the job is taken")
            .job
            .name
    }

    /// A client with a new token that has a role at a place.
    pub async fn with_role(&self, name: &str, role: Role, place: &str) -> Client {
        let new = NewToken {
            name: name.to_owned(),
            role,
            place: place.to_owned(),
            purpose: None,
            lifetime_us: None,
            is_own: false,
        };
        let made = self
            .client
            .add_token(&new)
            .await
            .expect("the token is made");
        Client::new(&self.url, &made.secret, &Route::default()).expect("a client")
    }

    /// A file that the jobs of all its runners see.
    pub fn shared(&self, name: &str) -> PathBuf {
        let data = self.data.path().file_name().expect("a name");
        super::meeting_place().join(format!("{}-{name}", data.display()))
    }

    /// Waits until a job is as wanted; says how it and the runners are when it never is.
    pub async fn job_when(&self, name: &str, what: &str, wanted: impl Fn(&Job) -> bool) -> Job {
        let begun = Instant::now();
        loop {
            let seen = self.client.job(name).await;
            match seen {
                Ok(job) if wanted(&job) => return job,
                seen if begun.elapsed() >= PATIENCE => {
                    let runners = self.client.runners(&RunnerFilter::default()).await;
                    panic!(
                        "waited {PATIENCE:?} in vain: {name}: {what}. The job: {seen:?}. The runners: {runners:?}"
                    );
                }
                _ => tokio::time::sleep(Duration::from_millis(25)).await,
            }
        }
    }

    /// Lets time pass in steps that are too short to be taken for a gap, each with a pause in which the leader mostly looks
    /// at the leases. Where it does not, they start again, and what the test waits for comes later.
    pub async fn time_passes(&self, length: Duration) {
        const STEP: Duration = Duration::from_secs(4);
        let mut left = length;
        while !left.is_zero() {
            let step = left.min(STEP);
            self.clock.advance(step);
            tokio::time::sleep(Duration::from_millis(1050)).await;
            left -= step;
        }
    }

    /// Waits until a job has a result.
    pub async fn done(&self, name: &str) -> Job {
        self.job_when(name, "done", |job| job.line.result.is_some())
            .await
    }

    /// Waits until a job waits for a reason.
    pub async fn why_when(&self, name: &str, reason: Reason) -> WaitExplanation {
        until(&format!("{name} waits for {reason}"), async || {
            let why = self.client.why(name).await.expect("why it waits");
            (why.reason == Some(reason)).then_some(why)
        })
        .await
    }

    /// Waits until the overview of the queue is so.
    pub async fn queue_when(&self, is_so: impl Fn(&Queue) -> bool) -> Queue {
        until("the queue shows it", async || {
            let queue = self.client.queue(&QueueFilter::default()).await;
            Some(queue.expect("the queue")).filter(|queue| is_so(queue))
        })
        .await
    }

    /// Waits until a runner is in a state.
    pub async fn runner_when(&self, name: &str, state: RunnerState) {
        until(&format!("runner {name} is {state}"), || async {
            self.client
                .runner(name)
                .await
                .ok()
                .filter(|runner| runner.state == state)
        })
        .await;
    }

    /// A job's whole log.
    pub async fn log(&self, name: &str) -> Vec<u8> {
        let mut bytes = Vec::new();
        loop {
            let wait = Duration::from_secs(5).into();
            let part = self
                .client
                .log(name, None, bytes.len() as u64, wait)
                .await
                .expect("the log is there");
            bytes.extend_from_slice(&part.bytes);
            if part.complete {
                return bytes;
            }
        }
    }
}

/// The service as a process of its own.
pub struct ServiceProcess {
    child: Child,
    pub url: String,
}

impl ServiceProcess {
    /// Starts `pennined` on a database, a data folder and a port.
    pub async fn start(database: &str, data: &Path, port: u16) -> ServiceProcess {
        ServiceProcess::start_with(database, data, port, &[]).await
    }

    /// The same, with further settings in its environment.
    pub async fn start_with(
        database: &str,
        data: &Path,
        port: u16,
        settings: &[(&str, String)],
    ) -> ServiceProcess {
        let command = Command::new(program("pennined"));
        ServiceProcess::start_as(command, database, data, port, settings).await
    }

    /// The same, by a command that becomes `pennined`.
    pub async fn start_as(
        mut command: Command,
        database: &str,
        data: &Path,
        port: u16,
        settings: &[(&str, String)],
    ) -> ServiceProcess {
        let path = std::env::var_os("PATH").unwrap_or_default();
        let child = command
            .arg("serve")
            .env_clear()
            .env("PATH", path)
            .env("PENNINED_DATABASE_URL", database)
            .env("PENNINED_DATA_DIR", data)
            .env("PENNINED_LISTEN", format!("127.0.0.1:{port}"))
            .env("PENNINED_LOG__LEVEL", "warn")
            .env("PENNINED_OUTGOING__ALLOW", r#"["127.0.0.0/8"]"#)
            .envs(settings.iter().map(|(key, value)| (*key, value)))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .spawn()
            .expect("pennined starts");
        let url = format!("http://127.0.0.1:{port}");
        let process = ServiceProcess { child, url };
        ready(&process.url).await;
        process
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Whether it still runs.
    pub fn is_running(&mut self) -> bool {
        self.child.try_wait().expect("it is ours").is_none()
    }

    /// Sends it a signal by name.
    pub fn signal(&self, name: &str) {
        let status = Command::new("kill")
            .args(["-s", name, &self.child.id().to_string()])
            .status()
            .expect("kill runs");
        assert!(status.success());
    }

    /// Kills it: SIGKILL.
    pub fn kill(&mut self) {
        self.child.kill().expect("it can be killed");
        self.child.wait().expect("it is gone");
    }
}

impl Drop for ServiceProcess {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A port that is free now.
pub fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind(("127.0.0.1", 0)).expect("a port");
    listener.local_addr().expect("an address").port()
}
