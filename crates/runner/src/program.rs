//! What can be typed, and what each verb does. In the library, so that all of it is compiled once.

use crate::attempt::{announcement, identity, source};
use crate::backoff::Backoff;
use crate::environment::usual_path;
use crate::error::Error;
use crate::home::Home;
use crate::join;
use crate::system::keeper;
use crate::systemd_unit as unit;
use crate::{doctor, facts, life, relay, work};
use clap::{Args, Parser, Subcommand};
use pennine_client::Route;
use pennine_core::identity::SigningAlgorithm;
use pennine_core::lifecycle::runner::DesiredState;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::{Duration, Instant};

/// How long `join --work` waits for an unreachable service.
const JOIN_PATIENCE: Duration = Duration::from_secs(600);

/// Pennine's runner: takes jobs from the service and runs them on this machine. It only ever connects outward.
#[derive(Parser)]
#[command(name = "pennine-runner", version, about)]
struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

#[derive(Subcommand)]
enum Verb {
    /// Join this machine to a pool with a ticket. At a terminal, missing values are prompted for.
    Join {
        /// The service's address.
        #[arg(long, value_name = "URL", env = "PENNINE_URL")]
        server: Option<String>,
        /// The ticket's secret.
        #[arg(
            long,
            value_name = "TICKET",
            env = "PENNINE_TICKET",
            hide_env_values = true
        )]
        ticket: Option<String>,
        /// The runner's name [default: the host's name]
        #[arg(long)]
        name: Option<String>,
        /// Its slots: how many jobs it runs at once [default: 1]
        #[arg(long, value_parser = clap::value_parser!(u32).range(1..=256))]
        slots: Option<u32>,
        /// A label that this machine has; may be given several times.
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
        /// Share a limit with other runners of this host: a folder that all of them can write.
        #[arg(long, value_name = "DIR", requires = "host_jobs")]
        host_dir: Option<PathBuf>,
        /// How many jobs may run on this host at once, over all its runners.
        #[arg(long, value_name = "N", requires = "host_dir", value_parser = clap::value_parser!(u32).range(1..=256))]
        host_jobs: Option<u32>,
        /// Run jobs as root, if the runner is root: they can change this machine.
        #[arg(long)]
        jobs_as_root: bool,
        /// Start the runner at once.
        #[arg(long)]
        work: bool,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Run jobs until stopped (SIGINT or SIGTERM).
    Work {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Show how the service sees this machine's runner.
    Status {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Pause this machine's runner: it finishes its jobs and accepts no new ones.
    Pause {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Resume it.
    Resume {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Drain it: it finishes its jobs and accepts no new ones.
    Drain {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Leave the pool permanently: the service revokes the credential and keeps the record. No secret is needed.
    Leave {
        /// End its jobs; they are retried elsewhere.
        #[arg(long)]
        force: bool,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Check this machine and its connection to the service, and show remedies.
    Doctor {
        /// The service's address, for a machine that has not joined yet.
        #[arg(long, value_name = "URL")]
        server: Option<String>,
        /// Print JSON instead of text.
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Install the runner as a systemd service, started at boot and restarted after a failure.
    #[command(subcommand)]
    Service(Service),
    /// Print this machine's facts.
    Facts {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Inside a job: print a signed identity token of the job, for a cloud or a secret store that trusts this installation.
    ///
    /// The program is at $PENNINE_RUNNER_PROGRAM. A token is valid for minutes: ask again when you need one.
    Identity {
        /// For whom it is: the name that the verifier expects.
        #[arg(long, value_name = "NAME")]
        audience: String,
        /// How it is signed: RS256 or ES256.
        #[arg(long, default_value = "RS256", value_parser = algorithm)]
        algorithm: SigningAlgorithm,
    },
    /// Inside a job: fetch the files of its run, then become its command; the runner starts this itself.
    #[command(hide = true)]
    Source(source::SourceArguments),
    /// Inside a job: announce one of its commands; the runner starts this itself.
    #[command(hide = true)]
    Command {
        /// Which one, from 1.
        #[arg(long)]
        number: u32,
        /// How many there are.
        #[arg(long)]
        of: u32,
        /// What is shown of it.
        #[arg(last = true)]
        text: Option<String>,
    },
    /// Contain the processes of one job; the runner starts this itself.
    #[command(hide = true)]
    Keep {
        /// What to keep, and how, as JSON.
        settings: String,
    },
    /// Carry connections to a Unix socket on to the service, for a machine without a network.
    #[command(hide = true)]
    Relay(RelayArguments),
    /// Become the command of one job inside its sandbox; the runner starts this itself.
    #[command(hide = true)]
    KeepCommand {
        /// The number of the socket on which the order comes.
        socket: i32,
    },
}

fn algorithm(word: &str) -> Result<SigningAlgorithm, String> {
    word.parse().map_err(|_| "give RS256 or ES256".to_owned())
}

#[derive(Args)]
struct RelayArguments {
    /// The socket.
    #[arg(long, value_name = "PATH")]
    socket: PathBuf,
    /// The service's addresses.
    #[arg(long, value_name = "URL")]
    server: String,
}

#[derive(Subcommand)]
enum Service {
    /// Write the unit, make its user, enable and start it.
    Install {
        /// The user of the runner and its jobs, added if missing; as root, each job gets a user of its own [default:
        /// pennine-runner]
        #[arg(long)]
        user: Option<String>,
        /// How long jobs have to finish when the service is stopped, in minutes.
        #[arg(long, default_value_t = 120, value_parser = clap::value_parser!(u64).range(1..=10_080))]
        drain_minutes: u64,
        /// Only print the unit.
        #[arg(long)]
        print: bool,
        #[command(flatten)]
        unit: UnitArguments,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Stop it once its jobs have finished, and remove it. The runner stays in its pool.
    Remove {
        #[command(flatten)]
        unit: UnitArguments,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Show its status.
    Status {
        #[command(flatten)]
        unit: UnitArguments,
        #[command(flatten)]
        place: PlaceArguments,
    },
}

#[derive(Args)]
struct UnitArguments {
    /// The unit's name [default: pennine-runner-NAME, with the runner's name]
    #[arg(long)]
    name: Option<String>,
    /// The root of the system's files, to install into an image.
    #[arg(long, value_name = "DIR", default_value = "/")]
    root: PathBuf,
}

fn service(verb: Service) -> Result<(), Error> {
    match verb {
        Service::Install {
            user,
            drain_minutes,
            print,
            unit: UnitArguments { name, root },
            place,
        } => {
            let desired_state = unit::DesiredState {
                name,
                user,
                drain_minutes,
                print,
            };
            unit::install(&place.home()?, &desired_state, &root)
        }
        Service::Remove { unit, place } => {
            unit::remove(&place.home()?, unit.name.as_deref(), &unit.root)
        }
        Service::Status { unit, place } => unit::status(&place.home()?, &unit.root),
    }
}

#[derive(Args)]
struct PlaceArguments {
    /// The folder of the runner's credential, workspaces and unsent logs.
    #[arg(
        long,
        value_name = "DIR",
        env = "PENNINE_RUNNER_DIR",
        default_value = "pennine-runner"
    )]
    dir: PathBuf,
    /// An additional certificate authority to trust (a PEM file). `join` keeps a copy, which every later command trusts.
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// The same, as the contents of such a file.
    #[arg(long, value_name = "PEM", env = "PENNINE_AUTHORITY", hide = true)]
    authority: Option<String>,
    /// A Unix socket that leads to the service, on a machine without a network.
    #[arg(long, value_name = "PATH", env = "PENNINE_SERVER_SOCKET", hide = true)]
    server_socket: Option<PathBuf>,
}

impl PlaceArguments {
    fn home(&self) -> Result<Home, Error> {
        Home::at(&self.dir)
    }

    fn route(&self) -> Result<Route, Error> {
        let route = match (&self.ca, &self.authority) {
            (Some(file), _) => Route::with_ca(Some(file))?,
            (None, Some(pem)) => Route::with_authorities(Some(pem.clone().into_bytes())),
            (None, None) => Route::with_authorities(self.home()?.authorities()?),
        };
        Ok(route.through(self.server_socket.clone()))
    }
}

/// The whole program.
pub fn run() -> ExitCode {
    let arguments = Arguments::parse();
    match &arguments.verb {
        Verb::Keep { settings } => return keeper::run_keeper(settings),
        Verb::KeepCommand { socket } => return keeper::run_command(*socket),
        _ => {}
    }
    let runtime = match tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(error) => {
            eprintln!("pennine-runner: the runtime cannot start: {error}");
            return ExitCode::FAILURE;
        }
    };
    match runtime.block_on(carry_out(arguments.verb)) {
        Ok(()) => ExitCode::SUCCESS,
        // It has said all of it already.
        Err(Error::Unwell) => ExitCode::from(Error::Unwell.exit_status()),
        Err(error) => {
            eprintln!("pennine-runner: {error}");
            ExitCode::from(error.exit_status())
        }
    }
}

async fn carry_out(verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Join {
            server,
            ticket,
            name,
            slots,
            labels,
            host_dir,
            host_jobs,
            jobs_as_root,
            work: go_on,
            place,
        } => {
            let (route, home) = (place.route()?, place.home()?);
            let asked = join::JoinArguments {
                server,
                ticket,
                name,
                slots,
                labels,
                shares: host_dir.zip(host_jobs),
                jobs_as_root,
            };
            let desired_state = asked.complete()?;
            if !go_on {
                return join::join(&home, desired_state, &route).await.map(drop);
            }
            // No person is there to retry: the service may be temporarily unreachable.
            let mut pace = Backoff::default();
            let begun = Instant::now();
            let found = loop {
                match join::join(&home, desired_state.clone(), &route).await {
                    Err(error) if error.may_pass() && begun.elapsed() < JOIN_PATIENCE => {
                        eprintln!("pennine-runner: {error}\n  Trying again.");
                        pace.pause().await;
                    }
                    other => break other?,
                }
            };
            work::work(&home, &route, Some(found)).await
        }
        Verb::Work { place } => work::work(&place.home()?, &place.route()?, None).await,
        Verb::Status { place } => life::status(&place.home()?, &place.route()?).await,
        Verb::Pause { place } => {
            life::set_desired_state(&place.home()?, &place.route()?, DesiredState::Pause).await
        }
        Verb::Resume { place } => {
            life::set_desired_state(&place.home()?, &place.route()?, DesiredState::Work).await
        }
        Verb::Drain { place } => {
            life::set_desired_state(&place.home()?, &place.route()?, DesiredState::Drain).await
        }
        Verb::Leave { force, place } => life::leave(&place.home()?, &place.route()?, force).await,
        Verb::Doctor {
            server,
            json,
            place,
        } => doctor::doctor(&place.home()?, &place.route()?, server.as_deref(), json).await,
        Verb::Identity {
            audience,
            algorithm,
        } => identity::print_token(&audience, algorithm).await,
        Verb::Source(arguments) => {
            let code = source::run(arguments).await?;
            std::process::exit(code);
        }
        Verb::Command { number, of, text } => {
            announcement::announce(number, of, &text.unwrap_or_default()).await
        }
        Verb::Service(verb) => service(verb),
        Verb::Relay(RelayArguments { socket, server }) => relay::run(&socket, &server).await,
        // Begins before the runtime does.
        Verb::Keep { .. } | Verb::KeepCommand { .. } => Ok(()),
        Verb::Facts { place } => {
            let home = place.home()?;
            let abilities = doctor::abilities_of(&home).await?;
            for (name, value) in facts::gather(home.path(), &usual_path(), &abilities).await {
                println!("{name:17} {value}");
            }
            Ok(())
        }
    }
}
