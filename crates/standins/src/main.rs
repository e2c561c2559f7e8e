//! `pennine-standins`: the stand-ins as programs.

use clap::{Parser, Subcommand};
use pennine_standins::cloud::{self, Plan};
use std::net::SocketAddr;
use std::path::PathBuf;
use tokio::net::TcpListener;

/// Small stand-ins for what lies outside of Pennine.
#[derive(Parser)]
#[command(name = "pennine-standins", version, about)]
struct Arguments {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// A cloud that makes machines: processes of pennine-runner on this host.
    Cloud {
        /// Where it listens.
        #[arg(long, default_value = "127.0.0.1:7118")]
        listen: SocketAddr,
        /// The folder of its machines.
        #[arg(long)]
        dir: PathBuf,
        /// The runner's program.
        #[arg(long, value_name = "FILE")]
        runner: PathBuf,
        /// What it wants to be shown; nothing when not given.
        #[arg(
            long,
            env = "PENNINE_STANDIN_KEY",
            default_value = "",
            hide_env_values = true
        )]
        key: String,
        /// The most machines at once.
        #[arg(long, default_value_t = 20)]
        quota: u32,
        /// Seconds that a machine takes to come up: the shortest.
        #[arg(long, value_name = "SECONDS", default_value_t = 4.0)]
        boot_from: f64,
        /// Seconds that a machine takes to come up: the longest, but for slow ones.
        #[arg(long, value_name = "SECONDS", default_value_t = 9.0)]
        boot_until: f64,
        /// From which all chance is drawn.
        #[arg(long, default_value_t = 1)]
        seed: u64,
    },
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_ansi(false)
        .init();
    let What::Cloud {
        listen,
        dir,
        runner,
        key,
        quota,
        boot_from,
        boot_until,
        seed,
    } = Arguments::parse().what;
    let listener = TcpListener::bind(listen).await?;
    let plan = Plan {
        key,
        quota,
        boot_s: (boot_from, boot_until),
        seed,
        ..Plan::new(dir, runner)
    };
    use tokio::signal::unix::{SignalKind, signal};
    let mut terminate = signal(SignalKind::terminate())?;
    let stop = async move {
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
        }
    };
    cloud::serve(listener, plan, stop).await
}
