//! What can be typed, and what each verb does. In the library, so that all of it is compiled once.

use crate::home::Home;
use crate::join::{self, Trouble};
use crate::system::keeper::{self, Isolation};
use crate::{attempt, facts, life, work};
use clap::{Args, Parser, Subcommand};
use pennine_client::Route;
use pennine_core::lifecycle::runner::Wish;
use std::path::PathBuf;
use std::process::ExitCode;

/// Pennine's runner: takes jobs from the service and runs them on this machine. It only ever connects outward.
#[derive(Parser)]
#[command(name = "pennine-runner", version, about)]
struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

#[derive(Subcommand)]
enum Verb {
    /// Join this machine to a pool with a ticket.
    Join {
        /// The service's address.
        #[arg(long, value_name = "URL", env = "PENNINE_URL")]
        server: String,
        /// The ticket's secret.
        #[arg(
            long,
            value_name = "TICKET",
            env = "PENNINE_TICKET",
            hide_env_values = true
        )]
        ticket: String,
        /// The runner's name; the host's name when not given.
        #[arg(long)]
        name: Option<String>,
        /// How many jobs it takes at once.
        #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=256))]
        slots: u32,
        /// A label that this machine has; may be given several times.
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
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
    fn home(&self) -> Result<Home, Trouble> {
        Home::at(&self.dir)
    }

    fn route(&self) -> Result<Route, Trouble> {
        Ok(Route::with_ca(self.ca.as_deref())?)
    }
}

/// The whole program.
pub fn run() -> ExitCode {
    let arguments = Arguments::parse();
    if let Verb::Keep { isolation, runner } = arguments.verb {
        return keeper::keep(isolation, runner);
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
        Err(trouble) => {
            eprintln!("pennine-runner: {trouble}");
            ExitCode::from(trouble.exit_status())
        }
    }
}

async fn carry_out(verb: Verb) -> Result<(), Trouble> {
    match verb {
        Verb::Join {
            server,
            ticket,
            name,
            slots,
            labels,
            work: go_on,
            place,
        } => {
            let (route, home) = (place.route()?, place.home()?);
            let wish = join::Wish {
                server,
                ticket,
                name,
                slots,
                labels,
            };
            join::join(&home, wish, &route).await?;
            if go_on {
                work::work(&home, &route).await
            } else {
                Ok(())
            }
        }
        Verb::Work { place } => work::work(&place.home()?, &place.route()?).await,
        Verb::Status { place } => life::status(&place.home()?, &place.route()?).await,
        Verb::Pause { place } => life::wish(&place.home()?, &place.route()?, Wish::Pause).await,
        Verb::Resume { place } => life::wish(&place.home()?, &place.route()?, Wish::Work).await,
        Verb::Drain { place } => life::wish(&place.home()?, &place.route()?, Wish::Drain).await,
        Verb::Leave { force, place } => life::leave(&place.home()?, &place.route()?, force).await,
        // Begins before the runtime does.
        Verb::Keep { .. } => Ok(()),
        Verb::Facts { place } => {
            let home = place.home()?;
            for (name, value) in facts::gather(home.path(), &attempt::usual_path()).await {
                println!("{name:10} {value}");
            }
            Ok(())
        }
    }
}
