//! The runner's side: keepers made ahead of time, and the grip on a command that one of them started.

use super::{CommandEnd, ExitKind, Isolation, KeeperMessage, Order};
use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::io;
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::Stdio;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
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
}

/// Makes keepers and gives them orders.
pub struct KeeperLauncher {
    program: PathBuf,
    isolation: Isolation,
    spares: RefCell<Vec<Keeper>>,
}

/// A and B, waiting for an order.
struct Keeper {
    first: Child,
    control: BufReader<UnixStream>,
    output: Receiver,
}

/// A command that runs.
pub struct Running {
    pub grip: ProcessGroup,
    pub output: Receiver,
}

/// What is needed to end a command: the group that it and its keepers are in, which has the first keeper's number.
#[derive(Clone, Copy)]
pub struct ProcessGroup {
    first: Option<Pid>,
    isolation: Isolation,
}

impl KeeperLauncher {
    /// Keepers that are this program, kept apart as well as this machine allows, which is found by trying.
    pub async fn here() -> KeeperLauncher {
        KeeperLauncher::of("/proc/self/exe".into()).await
    }

    /// Keepers that are another copy of this program.
    pub async fn of(program: PathBuf) -> KeeperLauncher {
        let first = if nix::unistd::geteuid().is_root() {
            Isolation::Namespace
        } else {
            Isolation::UserNamespace
        };
        let keepers = KeeperLauncher::with(program, first);
        if keepers.works().await {
            keepers
        } else {
            KeeperLauncher::with(keepers.program, Isolation::Group)
        }
    }

    /// Keepers of a given kind.
    pub fn with(program: PathBuf, isolation: Isolation) -> KeeperLauncher {
        KeeperLauncher {
            program,
            isolation,
            spares: RefCell::default(),
        }
    }

    /// How commands are kept together.
    pub fn isolation(&self) -> Isolation {
        self.isolation
    }

    async fn works(&self) -> bool {
        let order = Order {
            program: "true".into(),
            arguments: Vec::new(),
            folder: "/".into(),
            variables: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
        };
        match self.start(&order).await {
            Ok((_, ending)) => ending
                .await
                .is_some_and(|end| end.status == ExitKind::Exited(0)),
            Err(_) => false,
        }
    }

    /// Makes keepers for the next orders, so that they need not wait for one. `free` is how many could come at once.
    pub fn prepare(&self, free: usize) {
        let mut spares = self.spares.borrow_mut();
        while spares.len() < free.min(SPARES) {
            match self.make() {
                Ok(keeper) => spares.push(keeper),
                // The next order tries again, and says so if it cannot.
                Err(error) => {
                    tracing::warn!(%error, "no keeper process could be started in advance");
                    return;
                }
            }
        }
    }

    fn make(&self) -> io::Result<Keeper> {
        let (ours, theirs) = std::os::unix::net::UnixStream::pair()?;
        ours.set_nonblocking(true)?;
        let (read, write) = io::pipe()?;
        let write = OwnedFd::from(write);
        let errors = write.try_clone()?;
        let first = Command::new(&self.program)
            .args(["keep", self.isolation.word()])
            .arg(std::process::id().to_string())
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
        })
    }

    /// Starts a command. Returns when its exec has returned, with the command and what tells its end: nothing when
    /// the keeper itself was killed.
    pub async fn start(
        &self,
        order: &Order,
    ) -> Result<(Running, impl Future<Output = Option<CommandEnd>> + use<>), StartError> {
        let mut line = serde_json::to_vec(order).map_err(|e| StartError::Command(e.into()))?;
        line.push(b'\n');
        loop {
            let spare = self.spares.borrow_mut().pop();
            let fresh = spare.is_none();
            let mut keeper = match spare {
                Some(spare) => spare,
                None => self.make().map_err(StartError::Keeper)?,
            };
            let told = async {
                keeper.control.write_all(&line).await?;
                hear(&mut keeper.control).await
            };
            let gone = match told.await {
                Ok(Some(KeeperMessage::Started)) => {
                    let Keeper {
                        mut first,
                        mut control,
                        output,
                    } = keeper;
                    let grip = ProcessGroup {
                        first: first
                            .id()
                            .and_then(|id| i32::try_from(id).ok())
                            .map(Pid::from_raw),
                        isolation: self.isolation,
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
                    return Ok((Running { grip, output }, ending));
                }
                Ok(Some(KeeperMessage::Refused(number))) => {
                    let _ = keeper.first.wait().await;
                    return Err(StartError::Command(io::Error::from_raw_os_error(number)));
                }
                Ok(_) => io::Error::other("the keeper ended"),
                Err(error) => error,
            };
            // A spare may have been killed while it rested. A fresh one that ends at once will do so again.
            if fresh {
                return Err(StartError::Keeper(gone));
            }
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

    /// Asks the command to end.
    pub fn ask(self) {
        if let Some(group) = self.first {
            let _ = killpg(group, Signal::SIGTERM);
        }
    }

    /// Ends everything at once.
    pub fn kill(self) {
        let Some(first) = self.first else { return };
        let _ = match self.isolation {
            // The second keeper ends what the command detached, and has to live for it.
            Isolation::Group => kill(first, Signal::SIGKILL),
            Isolation::Namespace | Isolation::UserNamespace => killpg(first, Signal::SIGKILL),
        };
    }
}
