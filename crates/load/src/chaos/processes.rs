//! The processes of the test: PostgreSQL, replicas and runners. All are ended when the test ends.

use crate::Error;
use std::fs::File;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Where a cluster of PostgreSQL is made, started and stopped.
const CLUSTER: &str = "scripts/cluster";
/// How long the first replica has to write the first token.
const PATIENCE: Duration = Duration::from_secs(60);

fn wrong(what: &str, output: &std::process::Output) -> Error {
    let said = String::from_utf8_lossy(&output.stderr);
    Error::Chaos(format!("{what} failed: {}", said.trim()))
}

/// A cluster of PostgreSQL; stopped when dropped.
pub struct Database {
    folder: PathBuf,
    pub url: String,
}

impl Drop for Database {
    fn drop(&mut self) {
        let _ = Command::new(CLUSTER).arg("down").arg(&self.folder).status();
    }
}

impl Database {
    /// Makes a cluster in a folder and starts it.
    pub fn start(dir: &Path) -> Result<Database, Error> {
        let mut database = Database {
            folder: dir.join("postgres"),
            url: String::new(),
        };
        database.start_again()?;
        let url = std::fs::read_to_string(database.folder.join("url"))?;
        database.url = url.trim().to_owned();
        Ok(database)
    }

    /// Starts it, at the same address.
    pub fn start_again(&self) -> Result<(), Error> {
        let output = Command::new(CLUSTER).arg("up").arg(&self.folder).output()?;
        if output.status.success() {
            Ok(())
        } else {
            Err(wrong("scripts/cluster up", &output))
        }
    }

    /// Kills all of its processes.
    pub fn kill(&self) -> Result<(), Error> {
        let output = Command::new(CLUSTER)
            .arg("kill")
            .arg(&self.folder)
            .output()?;
        if output.status.success() {
            Ok(())
        } else {
            Err(wrong("scripts/cluster kill", &output))
        }
    }
}

/// A process that can be started again.
struct Restartable {
    child: Child,
    command: Command,
}

impl Restartable {
    fn start(mut command: Command) -> Result<Restartable, Error> {
        let child = command.spawn()?;
        Ok(Restartable { child, command })
    }

    fn kill(&mut self) -> Result<(), Error> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(())
    }

    fn start_again(&mut self) -> Result<(), Error> {
        if self.child.try_wait()?.is_some() {
            self.child = self.command.spawn()?;
        }
        Ok(())
    }

    fn signal(&self, name: &str) -> Result<(), Error> {
        let pid = self.child.id().to_string();
        Command::new("kill").args(["-s", name, &pid]).status()?;
        Ok(())
    }
}

impl Drop for Restartable {
    fn drop(&mut self) {
        let _ = self.kill();
    }
}

/// The replicas and the runners.
pub struct Processes {
    programs: PathBuf,
    dir: PathBuf,
    replicas: Vec<Restartable>,
    addresses: Vec<SocketAddr>,
    runners: Vec<Restartable>,
}

impl Processes {
    /// None yet.
    pub fn new(programs: PathBuf, dir: PathBuf) -> Processes {
        Processes {
            programs,
            dir,
            replicas: Vec::new(),
            addresses: Vec::new(),
            runners: Vec::new(),
        }
    }

    /// A command whose output goes to a file in the test's folder.
    fn command(&self, program: &str, log: &str) -> Result<Command, Error> {
        let log = File::options()
            .create(true)
            .append(true)
            .open(self.dir.join(log))?;
        let mut command = Command::new(self.programs.join(program));
        command
            .stdin(Stdio::null())
            .stdout(log.try_clone()?)
            .stderr(log);
        Ok(command)
    }

    /// Starts one more replica on this database. The first one founds the installation.
    pub fn add_replica(&mut self, database: &str) -> Result<(), Error> {
        let number = self.replicas.len();
        let port = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?
            .local_addr()?
            .port();
        let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let mut command = self.command("pennined", &format!("replica-{number}.log"))?;
        command
            .arg("serve")
            .env_clear()
            .env("PENNINED_DATABASE_URL", database)
            .env("PENNINED_DATA_DIR", self.dir.join("data"))
            .env("PENNINED_LISTEN", address.to_string());
        self.replicas.push(Restartable::start(command)?);
        self.addresses.push(address);
        if number == 0 {
            self.wait_for_token()?;
        }
        Ok(())
    }

    fn wait_for_token(&mut self) -> Result<(), Error> {
        let begun = Instant::now();
        while !self.dir.join("data/admin.token").exists() {
            if begun.elapsed() > PATIENCE {
                return Err(Error::Chaos("the first replica does not start".to_owned()));
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    /// The first administrator's token.
    pub async fn token(&self) -> Result<String, Error> {
        let token = tokio::fs::read_to_string(self.dir.join("data/admin.token")).await?;
        Ok(token.trim().to_owned())
    }

    /// Where the replicas listen.
    pub fn replica_addresses(&self) -> Vec<SocketAddr> {
        self.addresses.clone()
    }

    /// Joins one more runner, and starts it.
    pub fn add_runner(&mut self, server: &str, ticket: &str) -> Result<(), Error> {
        let number = self.runners.len();
        let home = self.dir.join(format!("runner-{number}"));
        let joined = Command::new(self.programs.join("pennine-runner"))
            .arg("join")
            .args(["--server", server, "--ticket", ticket, "--slots", "2"])
            .arg("--name")
            .arg(format!("fell-{number:02}"))
            .arg("--dir")
            .arg(&home)
            .output()?;
        if !joined.status.success() {
            return Err(wrong("pennine-runner join", &joined));
        }
        let mut command = self.command("pennine-runner", &format!("runner-{number}.log"))?;
        command.arg("work").arg("--dir").arg(home);
        self.runners.push(Restartable::start(command)?);
        Ok(())
    }

    fn replica(&mut self, number: usize) -> Result<&mut Restartable, Error> {
        let missing = || Error::Chaos(format!("there is no replica {number}"));
        self.replicas.get_mut(number).ok_or_else(missing)
    }

    fn runner(&mut self, number: usize) -> Result<&mut Restartable, Error> {
        let missing = || Error::Chaos(format!("there is no runner {number}"));
        self.runners.get_mut(number).ok_or_else(missing)
    }

    pub fn kill_replica(&mut self, number: usize) -> Result<(), Error> {
        self.replica(number)?.kill()
    }

    pub fn start_replica(&mut self, number: usize) -> Result<(), Error> {
        self.replica(number)?.start_again()
    }

    pub fn signal_replica(&mut self, number: usize, signal: &str) -> Result<(), Error> {
        self.replica(number)?.signal(signal)
    }

    pub fn kill_runner(&mut self, number: usize) -> Result<(), Error> {
        self.runner(number)?.kill()
    }

    pub fn start_runner(&mut self, number: usize) -> Result<(), Error> {
        self.runner(number)?.start_again()
    }

    pub fn signal_runner(&mut self, number: usize, signal: &str) -> Result<(), Error> {
        self.runner(number)?.signal(signal)
    }

    /// Starts what has ended meanwhile.
    pub fn all_run(&mut self) -> Result<(), Error> {
        let mut all = self.replicas.iter_mut().chain(&mut self.runners);
        all.try_for_each(Restartable::start_again)
    }
}
