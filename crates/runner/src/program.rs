//! What can be typed, and what each verb does. In the library, so that all of it is compiled once.

use crate::backoff::Backoff;
use crate::environment::usual_path;
use crate::error::Error;
use crate::home::Home;
use crate::join;
use crate::system::keeper::{self, Isolation};
use crate::systemd_unit as unit;
use crate::{doctor, facts, life, work};
use clap::{Args, Parser, Subcommand};
use pennine_client::Route;
use pennine_core::lifecycle::runner::DesiredState;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::{Duration, Instant};

/// How long `join --work` waits for a service that is not there.
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
    /// Join this machine to a pool with a ticket. What is missing is asked for at a terminal.
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
        /// The runner's name; the host's name when not given.
        #[arg(long)]
        name: Option<String>,
        /// How many jobs it takes at once; 1 when not given.
        #[arg(long, value_parser = clap::value_parser!(u32).range(1..=256))]
        slots: Option<u32>,
        /// A label that this machine has; may be given several times.
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
        /// Share a limit with other runners of this host: a folder that all of them can write.
        #[arg(long, value_name = "DIR", requires = "host_jobs")]
        host_dir: Option<PathBuf>,
        /// How many jobs may run on this host at once, whichever of its runners has them.
        #[arg(long, value_name = "N", requires = "host_dir", value_parser = clap::value_parser!(u32).range(1..=256))]
        host_jobs: Option<u32>,
        /// Go on to take work at once.
        #[arg(long)]
        work: bool,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Take work until stopped (SIGINT or SIGTERM).
    Work {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Tell how the service sees this machine's runner.
    Status {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Let this machine's runner take nothing new for now.
    Pause {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Let it take work again.
    Resume {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Let it finish what it has and take nothing new.
    Drain {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Leave for good: the service forgets the credential and keeps the record. No secret is needed.
    Leave {
        /// End the jobs that it has; they are tried again elsewhere.
        #[arg(long)]
        force: bool,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Look for what is wrong on this machine and on its way to the service, and say what to do.
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
    /// Have systemd start the runner at boot and again when it fails.
    #[command(subcommand)]
    Service(Service),
    /// Print what the runner finds on this machine.
    Facts {
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Keep the processes of one job together; the runner starts this by itself.
    #[command(hide = true)]
    Keep {
        isolation: Isolation,
        /// The process that started this one, and has to be its parent still.
        runner: i32,
    },
}

#[derive(Subcommand)]
enum Service {
    /// Write the unit, make its user, enable and start it.
    Install {
        /// The user that the runner and its jobs are; made if it is not there. pennine-runner when not given.
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
    /// Stop it, which lets its jobs finish, and take it away. The runner stays in its pool.
    Remove {
        #[command(flatten)]
        unit: UnitArguments,
        #[command(flatten)]
        place: PlaceArguments,
    },
    /// Tell how it is.
    Status {
        #[command(flatten)]
        unit: UnitArguments,
        #[command(flatten)]
        place: PlaceArguments,
    },
}

#[derive(Args)]
struct UnitArguments {
    /// The unit's name; pennine-runner-NAME, with the runner's name, when not given.
    #[arg(long)]
    name: Option<String>,
    /// Where the system's files lie; another root for an image that is being made.
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
    /// The folder in which the runner keeps its credential, workspaces and logs on their way.
    #[arg(
        long,
        value_name = "DIR",
        env = "PENNINE_RUNNER_DIR",
        default_value = "pennine-runner"
    )]
    dir: PathBuf,
    /// A certificate authority to trust beside the usual ones (a PEM file).
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
}

impl PlaceArguments {
    fn home(&self) -> Result<Home, Error> {
        Home::at(&self.dir)
    }

    fn route(&self) -> Result<Route, Error> {
        Ok(Route::with_ca(self.ca.as_deref())?)
    }
}

/// The whole program.
pub fn run() -> ExitCode {
    let arguments = Arguments::parse();
    if let Verb::Keep { isolation, runner } = arguments.verb {
        return keeper::run_keeper(isolation, runner);
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
            };
            let desired_state = asked.complete()?;
            if !go_on {
                return join::join(&home, desired_state, &route).await.map(drop);
            }
            // Nobody stands there to try again: the service may be away just now.
            let mut pace = Backoff::default();
            let begun = Instant::now();
            let facts = loop {
                match join::join(&home, desired_state.clone(), &route).await {
                    Err(error) if error.may_pass() && begun.elapsed() < JOIN_PATIENCE => {
                        eprintln!("pennine-runner: {error}\n  Trying again.");
                        pace.pause().await;
                    }
                    other => break other?,
                }
            };
            work::work(&home, &route, Some(facts)).await
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
        Verb::Service(verb) => service(verb),
        // Begins before the runtime does.
        Verb::Keep { .. } => Ok(()),
        Verb::Facts { place } => {
            let home = place.home()?;
            for (name, value) in facts::gather(home.path(), &usual_path()).await {
                println!("{name:10} {value}");
            }
            Ok(())
        }
    }
}
