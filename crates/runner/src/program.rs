//! What can be typed, and what each verb does. In the library, so that all of it is compiled once.

use crate::home::Home;
use crate::keeper::{self, Isolation};
use crate::{facts, join, work};
use clap::{Args, Parser, Subcommand};
use pennine_client::Route;
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

async fn carry_out(verb: Verb) -> Result<(), join::Trouble> {
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
            let route = Route::with_ca(place.ca.as_deref())?;
            let home = Home::at(&place.dir)?;
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
        Verb::Work { place } => {
            let route = Route::with_ca(place.ca.as_deref())?;
            work::work(&Home::at(&place.dir)?, &route).await
        }
        // Begins before the runtime does.
        Verb::Keep { .. } => Ok(()),
        Verb::Facts { place } => {
            let home = Home::at(&place.dir)?;
            for (name, value) in facts::gather(home.path()).await {
                println!("{name:10} {value}");
            }
            Ok(())
        }
    }
}
