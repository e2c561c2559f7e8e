//! Joining a pool.

use crate::abilities::Abilities;
use crate::doctor;
use crate::environment::usual_path;
use crate::error::{Error, check_protocol, finding_line};
use crate::facts;
use crate::home::{Home, Identity};
use crate::machine_settings;
use crate::share::HostLimit;
use pennine_client::{ClientError, Route, RunnerClient};
use pennine_core::fact::Facts;
use pennine_core::finding::Verdict;
use pennine_core::job_policy::JobPolicy;
use pennine_core::time::spoken;
use pennine_wire::runner_protocol::{Enrol, PROTOCOL};
use std::io::{BufRead, IsTerminal, Read, Write};
use std::path::PathBuf;

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
    /// Whether jobs are to run as root, where the runner is root.
    pub jobs_as_root: bool,
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

/// The arguments that are prompted for at a terminal if they are missing.
#[derive(Clone, Debug)]
pub struct JoinArguments {
    pub server: Option<String>,
    pub ticket: Option<String>,
    pub name: Option<String>,
    pub slots: Option<u32>,
    pub labels: Vec<String>,
    pub shares: Option<(PathBuf, u32)>,
    pub jobs_as_root: bool,
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

impl JoinArguments {
    /// Everything that joining needs.
    pub fn complete(self) -> Result<DesiredState, Error> {
        let whole = self.server.is_some() && self.ticket.is_some();
        if !whole && !std::io::stdin().is_terminal() {
            let (what, how) = match self.server {
                None => ("the service's address", "--server URL, or PENNINE_URL"),
                Some(_) => (
                    "the ticket",
                    "--ticket TICKET; get one with pennine ticket add --pool POOL",
                ),
            };
            return Err(Error::Missing(what, how));
        }
        let required = |given: Option<String>, question: &str, what, how| match given {
            Some(given) => Ok(given),
            None => Some(ask(question, "")?)
                .filter(|message| !message.is_empty())
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
            "The ticket (from pennine ticket add --pool POOL)",
            "the ticket",
            "--ticket TICKET",
        )?;
        let mut desired_state = DesiredState {
            server,
            ticket,
            name: self.name,
            slots: self.slots.unwrap_or(1),
            labels: self.labels,
            shares: self.shares,
            jobs_as_root: self.jobs_as_root,
        };
        if !whole {
            if desired_state.name.is_none() {
                let host = nix::unistd::gethostname().unwrap_or_default();
                let name = ask("Its name", &plain_name(&host.to_string_lossy()))?;
                desired_state.name = Some(name);
            }
            if self.slots.is_none() {
                let slots = ask("Slots (jobs at once)", "1")?;
                desired_state.slots = slots
                    .parse()
                    .map_err(|_| Error::Machine(format!("{slots:?} is not a number of slots")))?;
            }
            if desired_state.labels.is_empty() {
                let labels = ask("Labels, separated by spaces (none)", "")?;
                desired_state.labels = labels.split_whitespace().map(str::to_owned).collect();
            }
        }
        Ok(desired_state)
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

/// What the jobs of the pool get on this machine, or why they cannot run here.
fn describe_policy(pool: &str, policy: &JobPolicy, abilities: &Abilities) -> Vec<String> {
    let level = policy.isolation;
    match abilities.gives(level) {
        Ok(()) => {
            let limits = abilities.limits(policy);
            let lines = [
                format!("Jobs here: {}", abilities.describe(level, policy.network)),
                limits,
            ];
            lines.into_iter().filter(|line| !line.is_empty()).collect()
        }
        Err(why) => vec![
            format!(
                "Mind: this machine runs no jobs of {pool}: they need the isolation level {level}, and {why}."
            ),
            "See pennine-runner doctor for the remedy; the runner begins once it is carried out and restarted."
                .to_owned(),
        ],
    }
}

/// Joins this machine to a pool.
///
/// Returns what was found of the machine.
pub async fn join(
    home: &Home,
    desired_state: DesiredState,
    route: &Route,
) -> Result<(Facts, Abilities), Error> {
    if let Some(identity) = home.identity()? {
        return Err(Error::JoinedAlready(identity.name));
    }
    if let Some((folder, jobs)) = &desired_state.shares {
        HostLimit::new(folder.clone(), *jobs)
            .map_err(|e| Error::Folder(folder.clone(), e.to_string()))?;
    }
    if desired_state.jobs_as_root {
        machine_settings::allow_root(home.path())?;
    }
    println!("Contacting {} ...", desired_state.server);
    let client = RunnerClient::new(&desired_state.server, "", route)?;
    let hello = client.hello().await?;
    check_protocol(&hello)?;
    let (off, _) = doctor::clock_gap(&hello);
    if off > doctor::CLOCK_WRONG {
        return Err(Error::Clock(spoken(off)));
    }
    let abilities = doctor::abilities_of(home).await?;
    let (unfit, warnings): (Vec<_>, Vec<_>) = doctor::of_machine(home, &abilities)
        .into_iter()
        .filter(|finding| finding.verdict > Verdict::Passed)
        .partition(|finding| finding.verdict == Verdict::Failed);
    if !unfit.is_empty() {
        return Err(Error::Unfit(unfit));
    }
    for finding in &warnings {
        println!("  Mind:{}", finding_line(finding).trim_start_matches("\n "));
    }
    println!(
        "Found Pennine {}. Detecting this machine's facts ...",
        hello.version
    );
    let facts = facts::gather(home.path(), &usual_path(), &abilities).await;
    let given = desired_state.name.is_some();
    let first = desired_state.name.unwrap_or_else(|| {
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
        ticket: desired_state.ticket,
        name: first.clone(),
        slots: desired_state.slots,
        labels: desired_state.labels.clone(),
        facts,
        version: env!("CARGO_PKG_VERSION").to_owned(),
    };
    // Several runners on one host: the default name of the second is host-2.
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
        server: desired_state.server,
        installation: enrolled.installation,
        runner: enrolled.runner,
        short: enrolled.short,
        name: enrolled.name,
        pool: enrolled.pool,
        slots: desired_state.slots,
        labels: desired_state.labels,
        credential: enrolled.credential,
        policy: enrolled.policy,
        shares: desired_state.shares,
        single_use: enrolled.single_use,
    };
    home.set_identity(&identity)?;
    if let Some(pem) = route.authorities() {
        home.set_authorities(pem)?;
    }
    println!(
        "Joined {} as {} ({}) in the pool {}.",
        enrolled.installation_name, identity.name, identity.short, identity.pool
    );
    for line in describe_policy(&identity.pool, &identity.policy, &abilities) {
        println!("  {line}");
    }
    println!(
        "  Start it with: pennine-runner work --dir {}",
        home.path().display()
    );
    Ok((enrol.facts, abilities))
}
