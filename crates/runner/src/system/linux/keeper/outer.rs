//! The runner's side: keepers made ahead of time, and the grip on a command that one of them started.

use super::{CommandEnd, ExitKind, KeeperMessage, KeeperSettings, Mechanism, Order};
use crate::system::isolation::folder::{JobFolder, JobSite};
use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use pennine_core::job_policy::JobPolicy;
use std::cell::Cell;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::io;
use std::os::fd::AsFd;
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::Stdio;
use std::rc::Rc;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::UnixStream;
use tokio::net::unix::pipe::Receiver;
use tokio::process::{Child, Command};

/// Keepers at rest at most: a burst of jobs on a runner with many slots makes the others when they come.
const SPARES: usize = 2;

/// Why a command did not start.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The command itself: it does not exist, or may not be run, or its folder is gone.
    #[error("{0}")]
    Command(io::Error),
    /// No keeper could be made.
    #[error("its processes cannot be contained: {0}")]
    Keeper(io::Error),
    /// What is to surround it cannot be made on this machine.
    #[error("it cannot be isolated: {0}")]
    Unfit(String),
}

/// Makes keepers and gives them orders.
pub struct KeeperLauncher {
    program: PathBuf,
    mechanism: Mechanism,
    /// Where jobs run; a keeper without it only keeps processes together.
    site: Option<Rc<JobSite>>,
    /// How the jobs to come are kept.
    policy: Cell<JobPolicy>,
    spares: RefCell<Vec<Keeper>>,
}

/// A and B, waiting for an order.
struct Keeper {
    first: Child,
    control: BufReader<UnixStream>,
    output: Receiver,
    folder: Option<JobFolder>,
    policy: JobPolicy,
}

/// A command that runs.
pub struct Running {
    pub grip: ProcessGroup,
    pub output: Receiver,
    /// Where it runs.
    pub folder: Option<JobFolder>,
}

/// What is needed to end a command: the group that it and its keepers are in, which has the first keeper's number.
#[derive(Clone, Copy)]
pub struct ProcessGroup {
    first: Option<Pid>,
    mechanism: Mechanism,
}

/// The most that is read of what bubblewrap says.
const SAID: u64 = 4 << 10;

impl KeeperLauncher {
    /// Keepers that are this program, kept apart as well as this machine allows, which is found by trying.
    pub async fn here() -> KeeperLauncher {
        KeeperLauncher::of("/proc/self/exe".into()).await
    }

    /// Keepers that are another copy of this program.
    pub async fn of(program: PathBuf) -> KeeperLauncher {
        let first = if nix::unistd::geteuid().is_root() {
            Mechanism::Namespace
        } else {
            Mechanism::UserNamespace
        };
        let keepers = KeeperLauncher::with(program, first);
        if keepers.try_policy(JobPolicy::default()).await.is_ok() {
            keepers
        } else {
            KeeperLauncher::with(keepers.program, Mechanism::Group)
        }
    }

    /// Keepers of a given kind.
    pub fn with(program: PathBuf, mechanism: Mechanism) -> KeeperLauncher {
        KeeperLauncher {
            program,
            mechanism,
            site: None,
            policy: Cell::default(),
            spares: RefCell::default(),
        }
    }

    /// The same keepers for jobs that run at a site.
    pub fn at(self, site: Rc<JobSite>) -> KeeperLauncher {
        KeeperLauncher {
            site: Some(site),
            ..self
        }
    }

    /// How commands are kept together.
    pub fn mechanism(&self) -> Mechanism {
        self.mechanism
    }

    /// Finds out whether a command can be kept so.
    ///
    /// Errors: why it cannot, for people.
    pub async fn try_policy(&self, policy: JobPolicy) -> Result<(), String> {
        let order = |folder: Option<&JobFolder>| Order {
            program: "true".into(),
            arguments: Vec::new(),
            folder: folder.map_or_else(|| "/".into(), JobFolder::workspace),
            variables: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
            ..Order::default()
        };
        let (running, ending) = self
            .start(policy, &order)
            .await
            .map_err(|error| error.to_string())?;
        let end = ending.await;
        if let Some(folder) = running.folder {
            folder.release().await;
        }
        match end {
            Some(end) if end.status == ExitKind::Exited(0) => Ok(()),
            _ => Err("a command ends before it begins".to_owned()),
        }
    }

    /// Sets how the jobs to come are kept. Keepers that were made for something else are ended.
    pub fn set_policy(&self, policy: JobPolicy) {
        if self.policy.replace(policy) != policy {
            self.stop_spares();
        }
    }

    /// Sets the folders in which programs are searched first, which jobs to come see.
    pub fn set_paths(&self, paths: &[String]) {
        let Some(site) = &self.site else { return };
        let paths: Vec<PathBuf> = paths.iter().map(PathBuf::from).collect();
        if *site.paths.borrow() != paths {
            site.paths.replace(paths);
            self.stop_spares();
        }
    }

    fn stop_spares(&self) {
        let spares = std::mem::take(&mut *self.spares.borrow_mut());
        for keeper in spares {
            tokio::task::spawn_local(keeper.stop());
        }
    }

    /// Makes keepers for the next orders, so that they need not wait for one. `free` is how many could come at once.
    pub fn prepare(&self, free: usize) {
        let mut spares = self.spares.borrow_mut();
        while spares.len() < free.min(SPARES) {
            match self.make(self.policy.get()) {
                Ok(keeper) => spares.push(keeper),
                // The next order tries again, and says so if it cannot.
                Err(error) => {
                    tracing::warn!(%error, "no keeper process could be started in advance");
                    return;
                }
            }
        }
    }

    fn make(&self, policy: JobPolicy) -> Result<Keeper, StartError> {
        let (folder, enclosure) = match &self.site {
            Some(site) => {
                let made = site.surroundings(policy, self.mechanism);
                let (folder, enclosure) = made.map_err(StartError::Unfit)?;
                (Some(folder), enclosure)
            }
            None => (None, None),
        };
        let settings = KeeperSettings {
            runner: i32::try_from(std::process::id()).unwrap_or_default(),
            mechanism: self.mechanism,
            groups: folder
                .as_ref()
                .map(JobFolder::membership_files)
                .unwrap_or_default(),
            user: folder.as_ref().and_then(JobFolder::user),
            most_processes: policy.limits.processes,
            enclosure,
        };
        self.spawn(&settings, folder, policy)
            .map_err(StartError::Keeper)
    }

    fn spawn(
        &self,
        settings: &KeeperSettings,
        folder: Option<JobFolder>,
        policy: JobPolicy,
    ) -> io::Result<Keeper> {
        let (ours, theirs) = std::os::unix::net::UnixStream::pair()?;
        ours.set_nonblocking(true)?;
        let (read, write) = io::pipe()?;
        let write = OwnedFd::from(write);
        if let Some(user) = settings.user {
            // So that the job can open its standard output by name as well.
            nix::unistd::fchown(write.as_fd(), Some(user.uid.into()), Some(user.uid.into()))?;
        }
        let errors = write.try_clone()?;
        let first = Command::new(&self.program)
            .arg("keep")
            .arg(serde_json::to_string(settings)?)
            .env_clear()
            .current_dir("/")
            .stdin(Stdio::from(OwnedFd::from(theirs)))
            .stdout(Stdio::from(write))
            .stderr(Stdio::from(errors))
            .spawn()?;
        Ok(Keeper {
            first,
            control: BufReader::new(UnixStream::from_std(ours)?),
            output: Receiver::from_owned_fd(OwnedFd::from(read))?,
            folder,
            policy,
        })
    }

    /// A keeper for a policy: one at rest if there is one.
    fn take(&self, policy: JobPolicy) -> Result<(Keeper, bool), StartError> {
        let mut spares = self.spares.borrow_mut();
        let fits = spares.iter().rposition(|spare| spare.policy == policy);
        match fits {
            Some(at) => Ok((spares.swap_remove(at), false)),
            None => Ok((self.make(policy)?, true)),
        }
    }

    /// Starts a command, which is made for the folder that it is to run in. Returns when its exec has returned, with the
    /// command and what tells its end: nothing when the keeper itself was killed.
    pub async fn start(
        &self,
        policy: JobPolicy,
        order: &dyn Fn(Option<&JobFolder>) -> Order,
    ) -> Result<(Running, impl Future<Output = Option<CommandEnd>> + use<>), StartError> {
        loop {
            let (mut keeper, fresh) = self.take(policy)?;
            let order = order(keeper.folder.as_ref());
            let gone = match keeper.order(&order).await {
                Ok(KeeperMessage::Started) => {
                    let Keeper {
                        mut first,
                        mut control,
                        output,
                        folder,
                        ..
                    } = keeper;
                    let grip = ProcessGroup {
                        first: first
                            .id()
                            .and_then(|id| i32::try_from(id).ok())
                            .map(Pid::from_raw),
                        mechanism: self.mechanism,
                    };
                    let ending = async move {
                        let told = hear(&mut control).await;
                        // Everything of the attempt is gone when the first keeper is.
                        let _ = first.wait().await;
                        match told {
                            Ok(Some(KeeperMessage::Ended(end))) => Some(end),
                            _ => None,
                        }
                    };
                    let running = Running {
                        grip,
                        output,
                        folder,
                    };
                    return Ok((running, ending));
                }
                Ok(KeeperMessage::Refused(number)) => {
                    keeper.stop().await;
                    return Err(StartError::Command(io::Error::from_raw_os_error(number)));
                }
                Ok(KeeperMessage::Unfit(message)) => {
                    let said = keeper.early_output().await;
                    keeper.stop().await;
                    return Err(StartError::Unfit(match said.trim() {
                        "" => message,
                        said => format!("{message}: {said}"),
                    }));
                }
                Ok(_) => io::Error::other("the keeper ended"),
                Err(error) => error,
            };
            keeper.stop().await;
            // A spare may have been killed while it rested. A fresh one that ends at once will do so again.
            if fresh {
                return Err(StartError::Keeper(gone));
            }
        }
    }
}

impl Keeper {
    /// Sends an order and returns what became of it.
    async fn order(&mut self, order: &Order) -> io::Result<KeeperMessage> {
        let mut line = serde_json::to_vec(order)?;
        line.push(b'\n');
        // A keeper that cannot make its surroundings has sent the reason and ended.
        let sent = self.control.write_all(&line).await;
        loop {
            match hear(&mut self.control).await? {
                Some(KeeperMessage::Ready) => {
                    sent.as_ref().map_err(|e| io::Error::from(e.kind()))?;
                }
                Some(told) => return Ok(told),
                None => return Err(io::Error::other("the keeper ended")),
            }
        }
    }

    /// What was printed before any command ran.
    async fn early_output(&mut self) -> String {
        let mut said = Vec::new();
        let mut output = (&mut self.output).take(SAID);
        let _ = output.read_to_end(&mut said).await;
        String::from_utf8_lossy(&said).into_owned()
    }

    /// Ends it, with what it made.
    async fn stop(mut self) {
        // It ends by itself when the socket is closed.
        drop(self.control);
        drop(self.output);
        let _ = self.first.wait().await;
        if let Some(folder) = self.folder.take() {
            folder.release().await;
        }
    }
}

async fn hear(control: &mut BufReader<UnixStream>) -> io::Result<Option<KeeperMessage>> {
    let mut line = String::new();
    if control.read_line(&mut line).await? == 0 {
        return Ok(None);
    }
    serde_json::from_str(&line)
        .map(Some)
        .map_err(io::Error::from)
}

impl ProcessGroup {
    // That the processes have ended meanwhile is as good as any signal.

    /// The number of the first keeper, of which the command is a descendant.
    pub fn first(self) -> Option<i32> {
        self.first.map(Pid::as_raw)
    }

    /// Asks the command to end.
    pub fn ask(self) {
        if let Some(group) = self.first {
            let _ = killpg(group, Signal::SIGTERM);
        }
    }

    /// Ends everything at once.
    pub fn kill(self) {
        let Some(first) = self.first else { return };
        let _ = match self.mechanism {
            // The second keeper ends what the command detached, and has to live for it.
            Mechanism::Group => kill(first, Signal::SIGKILL),
            Mechanism::Namespace | Mechanism::UserNamespace => killpg(first, Signal::SIGKILL),
        };
    }
}
