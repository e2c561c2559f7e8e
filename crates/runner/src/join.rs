//! Joining a pool, and what can go wrong with a runner, told so that a person knows what to do.

use crate::attempt::usual_path;
use crate::doctor;
use crate::facts;
use crate::home::{Home, Identity};
use crate::share::HostLimit;
use crate::system::keeper::Keepers;
use pennine_client::{ClientError, Route, RunnerClient};
use pennine_core::fact::Facts;
use pennine_core::finding::{Finding, Verdict};
use pennine_core::time::spoken;
use pennine_wire::runner_protocol::{Enrol, Hello, OLDEST_PROTOCOL, PROTOCOL};
use std::io::{BufRead, IsTerminal, Read, Write};
use std::path::PathBuf;

/// Why the runner cannot go on.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// Something about the folder.
    #[error("{} cannot be used: {}", .0.display(), .1)]
    Folder(PathBuf, String),
    /// Another process works there.
    #[error("another pennine-runner works in {} already", .0.display())]
    InUse(PathBuf),
    /// What is to be logged is not understood.
    #[error(
        "PENNINE_RUNNER_LOG={0} is no level, nor levels by module (info, or info,pennine_runner=debug): {1}"
    )]
    Level(String, String),
    /// `work` before `join`.
    #[error("this machine has not joined yet (no runner.json in {}).\n  Get a command with: pennine ticket add --pool POOL", .0.display())]
    NotJoined(PathBuf),
    /// `join` after `join`.
    #[error(
        "this folder belongs to the runner {0} already; join another with --dir DIR, or take work with: pennine-runner work"
    )]
    JoinedAlready(String),
    /// The clocks differ.
    #[error(
        "this machine's clock is {0} from the service's; set it (timedatectl set-ntp true) and join again"
    )]
    Clock(String),
    /// The protocols do not meet.
    #[error("{0}")]
    Protocol(String),
    /// The service at the address is another than the one that was joined.
    #[error(
        "{0} is another installation than the one this runner joined; point the runner back, or join anew in another folder"
    )]
    OtherInstallation(String),
    /// The service refused, or could not be reached.
    #[error("{}", said(.0))]
    Client(#[from] ClientError),
    /// The machine is not fit to join.
    #[error("this machine is not fit to join:{}", .0.iter().map(finding_line).collect::<String>())]
    Unfit(Vec<Finding>),
    /// The doctor found something.
    #[error("not everything is as it should be")]
    Unwell,
    /// Something was not given, and nobody is there to be asked.
    #[error("{0} is missing: give {1}")]
    Missing(&'static str, &'static str),
    /// This program cannot do something that it must.
    #[error("{0}")]
    Machine(String),
}

impl Error {
    /// Whether it may be over in a while: the service is not there, or not ready.
    pub fn may_pass(&self) -> bool {
        match self {
            Error::Client(ClientError::NoConnection { .. }) => true,
            Error::Client(ClientError::Refused(problem)) => problem.status >= 500,
            _ => false,
        }
    }

    /// 2 for wrong usage, 3 when the service refuses, 4 when there is no connection, 1 for the rest.
    pub fn exit_status(&self) -> u8 {
        match self {
            Error::Client(ClientError::NoConnection { .. } | ClientError::Strange { .. }) => 4,
            Error::Client(ClientError::Refused(_))
            | Error::Protocol(_)
            | Error::OtherInstallation(_) => 3,
            Error::Level(..)
            | Error::NotJoined(_)
            | Error::JoinedAlready(_)
            | Error::Missing(..)
            | Error::Client(ClientError::Setup(_)) => 2,
            Error::Folder(..)
            | Error::InUse(_)
            | Error::Clock(_)
            | Error::Unfit(_)
            | Error::Unwell
            | Error::Machine(_) => 1,
        }
    }
}

fn finding_line(finding: &Finding) -> String {
    let mend = finding.mend.iter().map(|mend| format!("; {mend}"));
    format!(
        "\n  {}: {}{}",
        finding.check,
        finding.said,
        mend.collect::<String>()
    )
}

/// A client's error with what to do about it.
pub fn said(error: &ClientError) -> String {
    let mend = match error {
        ClientError::NoConnection { cause, .. } if cause.contains("refused") => {
            "Is the service running, and is the port right?"
        }
        ClientError::NoConnection { cause, .. }
            if cause.contains("dns") || cause.contains("lookup") =>
        {
            "The name cannot be resolved: check --server and this machine's DNS."
        }
        ClientError::NoConnection { cause, .. } if cause.contains("ertificate") => {
            "The certificate is not trusted here: give its authority with --ca FILE."
        }
        ClientError::NoConnection { .. } => {
            "Check the address, and that this machine may connect outward to it."
        }
        ClientError::Strange { .. } => "Check --server: something else seems to listen there.",
        ClientError::Refused(problem) => {
            return match &problem.mend {
                Some(mend) => format!("the service refused: {}\n  {mend}", problem.detail),
                None => format!("the service refused: {}", problem.detail),
            };
        }
        ClientError::Setup(_) => return error.to_string(),
    };
    format!("{error}\n  {mend}")
}

/// What was asked for.
#[derive(Clone, Debug)]
pub struct DesiredState {
    pub server: String,
    pub ticket: String,
    pub name: Option<String>,
    pub slots: u32,
    pub labels: Vec<String>,
    /// The folder of a limit that the runners of this host share, and how many jobs that is.
    pub shares: Option<(PathBuf, u32)>,
}

/// Checks that the service there speaks a protocol that this program speaks.
pub fn check_protocol(hello: &Hello) -> Result<(), Error> {
    if hello.oldest_protocol > PROTOCOL {
        return Err(Error::Protocol(format!(
            "the service (version {}) no longer takes this runner's protocol {PROTOCOL}; update pennine-runner",
            hello.version
        )));
    }
    if hello.protocol < OLDEST_PROTOCOL {
        return Err(Error::Protocol(format!(
            "the service (version {}) is too old for this runner; update the service",
            hello.version
        )));
    }
    Ok(())
}

/// Names tried for runners of one host when none is given.
const SAME_HOST: u32 = 20;

/// Whether the name is another runner's.
fn taken(error: &ClientError) -> bool {
    let problem = error.problem();
    problem.is_some_and(|problem| {
        problem.word() == "exists-already" && problem.field.as_deref() == Some("name")
    })
}

/// What may be left out on the command line: it is asked for where somebody stands at a terminal.
#[derive(Clone, Debug)]
pub struct Asked {
    pub server: Option<String>,
    pub ticket: Option<String>,
    pub name: Option<String>,
    pub slots: Option<u32>,
    pub labels: Vec<String>,
    pub shares: Option<(PathBuf, u32)>,
}

/// Asks one question at the terminal. What is there already, or given with the question, is the answer to an empty line.
fn ask(question: &str, usual: &str) -> Result<String, Error> {
    let broken = |e: std::io::Error| Error::Machine(format!("the terminal cannot be read: {e}"));
    let shown = if usual.is_empty() {
        String::new()
    } else {
        format!(" [{usual}]")
    };
    print!("{question}{shown}: ");
    std::io::stdout().flush().map_err(broken)?;
    let mut line = String::new();
    std::io::stdin()
        .lock()
        .take(10_000)
        .read_line(&mut line)
        .map_err(broken)?;
    let line = line.trim();
    Ok(if line.is_empty() {
        usual.to_owned()
    } else {
        line.to_owned()
    })
}

impl Asked {
    /// Everything that joining needs.
    pub fn complete(self) -> Result<DesiredState, Error> {
        let whole = self.server.is_some() && self.ticket.is_some();
        if !whole && !std::io::stdin().is_terminal() {
            let (what, how) = match self.server {
                None => ("the service's address", "--server URL, or PENNINE_URL"),
                Some(_) => (
                    "the ticket",
                    "--ticket TICKET; pennine ticket add --pool POOL makes one",
                ),
            };
            return Err(Error::Missing(what, how));
        }
        let required = |given: Option<String>, question: &str, what, how| match given {
            Some(given) => Ok(given),
            None => Some(ask(question, "")?)
                .filter(|said| !said.is_empty())
                .ok_or(Error::Missing(what, how)),
        };
        let server = required(
            self.server,
            "The service's address (http://...)",
            "the service's address",
            "--server URL",
        )?;
        let ticket = required(
            self.ticket,
            "The ticket (pennine ticket add --pool POOL makes one)",
            "the ticket",
            "--ticket TICKET",
        )?;
        let mut wish = DesiredState {
            server,
            ticket,
            name: self.name,
            slots: self.slots.unwrap_or(1),
            labels: self.labels,
            shares: self.shares,
        };
        if !whole {
            if wish.name.is_none() {
                let host = nix::unistd::gethostname().unwrap_or_default();
                let name = ask("Its name", &plain_name(&host.to_string_lossy()))?;
                wish.name = Some(name);
            }
            if self.slots.is_none() {
                let slots = ask("How many jobs at once", "1")?;
                wish.slots = slots
                    .parse()
                    .map_err(|_| Error::Machine(format!("{slots:?} is no number of jobs")))?;
            }
            if wish.labels.is_empty() {
                let labels = ask("Labels, with spaces between (none)", "")?;
                wish.labels = labels.split_whitespace().map(str::to_owned).collect();
            }
        }
        Ok(wish)
    }
}

/// A host's name as a runner's.
fn plain_name(host: &str) -> String {
    let fits = |c: &char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    let name: String = host.chars().filter(fits).collect();
    if name.is_empty() {
        "runner".to_owned()
    } else {
        name
    }
}

/// Joins this machine to a pool.
///
/// What was found of it comes back.
pub async fn join(home: &Home, wish: DesiredState, route: &Route) -> Result<Facts, Error> {
    if let Some(identity) = home.identity()? {
        return Err(Error::JoinedAlready(identity.name));
    }
    if let Some((folder, jobs)) = &wish.shares {
        HostLimit::new(folder.clone(), *jobs)
            .map_err(|e| Error::Folder(folder.clone(), e.to_string()))?;
    }
    println!("Asking {} who is there ...", wish.server);
    let client = RunnerClient::new(&wish.server, "", route)?;
    let hello = client.hello().await?;
    check_protocol(&hello)?;
    let (off, _) = doctor::clock_gap(&hello);
    if off > doctor::CLOCK_WRONG {
        return Err(Error::Clock(spoken(off)));
    }
    let (unfit, doubtful): (Vec<_>, Vec<_>) =
        doctor::of_machine(home, Keepers::here().await.isolation())
            .into_iter()
            .filter(|finding| finding.verdict > Verdict::Good)
            .partition(|finding| finding.verdict == Verdict::Bad);
    if !unfit.is_empty() {
        return Err(Error::Unfit(unfit));
    }
    for finding in &doubtful {
        println!("  Mind:{}", finding_line(finding).trim_start_matches("\n "));
    }
    println!(
        "It is Pennine {}. Looking at this machine ...",
        hello.version
    );
    let facts = facts::gather(home.path(), &usual_path()).await;
    let given = wish.name.is_some();
    let first = wish.name.unwrap_or_else(|| {
        let host = facts
            .get("host")
            .map(ToString::to_string)
            .unwrap_or_default();
        plain_name(&host)
    });
    let tools: Vec<String> = facts
        .iter()
        .map(|(name, value)| format!("{name} {value}"))
        .collect();
    println!("  {}", tools.join(", "));
    let mut enrol = Enrol {
        protocol: PROTOCOL,
        ticket: wish.ticket,
        name: first.clone(),
        slots: wish.slots,
        labels: wish.labels.clone(),
        facts,
        version: env!("CARGO_PKG_VERSION").to_owned(),
    };
    // Several runners on one host: the second is host-2 when nobody said otherwise.
    let mut others = 2..=SAME_HOST;
    let enrolled = loop {
        match client.enrol(&enrol).await {
            Err(error) if !given && taken(&error) => match others.next() {
                Some(number) => enrol.name = format!("{first}-{number}"),
                None => return Err(error.into()),
            },
            other => break other?,
        }
    };
    let identity = Identity {
        server: wish.server,
        installation: enrolled.installation,
        runner: enrolled.runner,
        short: enrolled.short,
        name: enrolled.name,
        pool: enrolled.pool,
        slots: wish.slots,
        labels: wish.labels,
        credential: enrolled.credential,
        shares: wish.shares,
        single_use: enrolled.single_use,
    };
    home.set_identity(&identity)?;
    println!(
        "Joined {} as {} ({}) in the pool {}.",
        enrolled.installation_name, identity.name, identity.short, identity.pool
    );
    println!(
        "  Take work with: pennine-runner work --dir {}",
        home.path().display()
    );
    Ok(enrol.facts)
}
