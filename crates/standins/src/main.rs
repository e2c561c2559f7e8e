//! `pennine-standins`: the stand-ins as programs.

use clap::{Parser, Subcommand};
use pennine_standins::cloud::{self, Plan};
use pennine_standins::provider::{Provider, ProviderPerson};
use pennine_standins::store::{self, TrustPolicy};
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
    /// A store of secrets that gives a credential to jobs whose identity tokens it trusts.
    Store {
        /// Where it listens.
        #[arg(long, default_value = "127.0.0.1:7119")]
        listen: SocketAddr,
        /// The address of the service whose tokens it trusts.
        #[arg(long, value_name = "URL")]
        issuer: String,
        /// Its own name, which a token has to be for.
        #[arg(long, value_name = "NAME")]
        audience: String,
        /// A subject that gets a credential, such as project:shore/soundings; may be given several times.
        #[arg(long = "subject", value_name = "SUBJECT")]
        subjects: Vec<String>,
    },
    /// A sign-in provider, which asks for no password: a page with the names of its people, of whom one is chosen.
    Provider {
        /// Where it listens.
        #[arg(long, default_value = "127.0.0.1:7120")]
        listen: SocketAddr,
        /// A person, as NAME:FULL NAME:GROUP,GROUP; may be given several times.
        #[arg(long = "person", value_name = "PERSON", value_parser = person)]
        people: Vec<ProviderPerson>,
    },
}

fn person(text: &str) -> Result<ProviderPerson, String> {
    let mut parts = text.split(':').map(str::to_owned);
    match (parts.next(), parts.next(), parts.next()) {
        (Some(name), Some(full_name), groups) => Ok(ProviderPerson {
            name,
            full_name,
            groups: groups
                .iter()
                .flat_map(|groups| groups.split(','))
                .filter(|group| !group.is_empty())
                .map(str::to_owned)
                .collect(),
        }),
        _ => Err("give NAME:FULL NAME:GROUP,GROUP".to_owned()),
    }
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_ansi(false)
        .init();
    use tokio::signal::unix::{SignalKind, signal};
    let mut terminate = signal(SignalKind::terminate())?;
    let stop = async move {
        tokio::select! {
            _ = tokio::signal::ctrl_c() => {}
            _ = terminate.recv() => {}
        }
    };
    match Arguments::parse().what {
        What::Cloud {
            listen,
            dir,
            runner,
            key,
            quota,
            boot_from,
            boot_until,
            seed,
        } => {
            let plan = Plan {
                key,
                quota,
                boot_s: (boot_from, boot_until),
                seed,
                ..Plan::new(dir, runner)
            };
            cloud::serve(TcpListener::bind(listen).await?, plan, stop).await
        }
        What::Store {
            listen,
            issuer,
            audience,
            subjects,
        } => {
            let trust = TrustPolicy {
                issuer,
                audience,
                subjects,
            };
            store::serve(TcpListener::bind(listen).await?, trust, stop).await
        }
        What::Provider { listen, people } => {
            let provider = Provider::new(&format!("http://{listen}"), people, "")?;
            provider.serve(TcpListener::bind(listen).await?, stop).await
        }
    }
}
