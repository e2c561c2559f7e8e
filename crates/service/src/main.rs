//! `pennined`: the program that serves.

use clap::{Parser, Subcommand};
use futures::FutureExt;
use futures::future::BoxFuture;
use pennined::commands::{
    admin_link, migrate, migrate_objects, rebuild_rollups, rotate_key, verify_audit,
};
use pennined::{boot, config};
use std::path::PathBuf;
use std::process::ExitCode;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

/// Returns memory of many first polls to the system, which the system's allocator does not ([`return_unused_memory_at_once`]).
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Memory that is not used goes back to the system at once: a third less of it with ten thousand runners, for a
/// thirtieth more work.
#[allow(unsafe_code)]
fn return_unused_memory_at_once() {
    /// `mi_option_purge_delay` in mimalloc.h, in milliseconds; the binding has no name for it.
    const PURGE_DELAY: libmimalloc_sys::mi_option_t = 15;
    // SAFETY: it stores a number among the allocator's options, and is called before there is a second thread.
    unsafe { libmimalloc_sys::mi_option_set(PURGE_DELAY, 0) };
}

/// Pennine's service: it matches queued jobs to labelled runners.
#[derive(Parser)]
#[command(name = "pennined", version, about)]
struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

#[derive(Subcommand)]
enum Verb {
    /// Serve until told to stop (SIGINT or SIGTERM).
    Serve {
        /// A TOML file with settings; `pennined config` prints one with every key explained.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Work the sums that trends are read from out again from the record. The service may run meanwhile.
    RebuildRollups {
        /// A TOML file with settings, as for serve.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Move logs from the data folder to the configured bucket. The service may run meanwhile.
    MigrateObjects {
        /// A TOML file with settings, as for serve.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Print a one-time link with which an administrator sets a password, where everybody is locked out.
    AdminLink {
        /// The name of the account; it is made where there is none, and becomes an administrator's.
        #[arg(long, default_value = "admin")]
        name: String,
        /// A TOML file with settings, as for serve.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Encrypt secrets with a new key from now on, and all that are there once more. The service may run meanwhile.
    RotateKey {
        /// Only add the key to the key file, to copy the file to other replicas before the key is used.
        #[arg(long)]
        prepare: bool,
        /// A TOML file with settings, as for serve.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Bring the database's schema up to date as its owner (database_owner_url), and permit the service's role to use it.
    Migrate {
        /// A TOML file with settings, as for serve.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Check the audit log against its seals: whether an entry was changed, removed or added. The service may run meanwhile.
    VerifyAudit {
        /// Write the seals to this file, one on each line as JSON, to be kept elsewhere.
        #[arg(long, value_name = "FILE")]
        export: Option<PathBuf>,
        /// Compare the seals with those in this file, which an earlier check has written.
        #[arg(long, value_name = "FILE")]
        against: Option<PathBuf>,
        /// A TOML file with settings, as for serve.
        #[arg(long, value_name = "FILE")]
        config: Option<PathBuf>,
    },
    /// Print the default configuration, with every key explained.
    Config,
    /// Print the OpenAPI description of the HTTP interface.
    Openapi,
}

fn main() -> ExitCode {
    return_unused_memory_at_once();
    match Arguments::parse().verb {
        Verb::Config => {
            print!("{}", config::DEFAULT);
            ExitCode::SUCCESS
        }
        Verb::Openapi => match pennined::http::openapi().to_pretty_json() {
            Ok(text) => {
                println!("{text}");
                ExitCode::SUCCESS
            }
            Err(error) => fail(&format!("the description cannot be written: {error}")),
        },
        Verb::Serve { config } => with_settings(config, |config| boot::run(config).boxed()),
        Verb::RebuildRollups { config } => {
            with_settings(config, |config| rebuild_rollups::run(config).boxed())
        }
        Verb::AdminLink { name, config } => {
            with_settings(config, |config| admin_link::run(config, name).boxed())
        }
        Verb::VerifyAudit {
            export,
            against,
            config,
        } => with_settings(config, |config| {
            async move { verify_audit::run(config, export.as_deref(), against.as_deref()).await }
                .boxed()
        }),
        Verb::RotateKey { prepare, config } => with_settings(config, move |config| {
            rotate_key::run(config, prepare).boxed()
        }),
        Verb::Migrate { config } => with_settings(config, |config| migrate::run(config).boxed()),
        Verb::MigrateObjects { config } => {
            with_settings(config, |config| migrate_objects::run(config).boxed())
        }
    }
}

fn fail(message: &str) -> ExitCode {
    eprintln!("pennined: {message}");
    ExitCode::FAILURE
}

/// Does something with the settings that were read, and says what went wrong.
fn with_settings(
    file: Option<PathBuf>,
    work: impl FnOnce(config::Config) -> BoxFuture<'static, anyhow::Result<()>>,
) -> ExitCode {
    let config = match config::Config::load(file.as_deref()) {
        Ok(config) => config,
        Err(error) => {
            eprintln!("pennined: {error}");
            return ExitCode::from(2);
        }
    };
    let levels = match config.log.levels() {
        Ok(levels) => levels,
        Err(error) => return fail(&error.to_string()),
    };
    let log = tracing_subscriber::registry().with(levels);
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    if config.log.format == config::LogFormat::Json {
        log.with(lines.json()).init()
    } else {
        log.with(lines).init()
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(error) => return fail(&format!("the runtime cannot start: {error}")),
    };
    match runtime.block_on(work(config)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => fail(&format!("{error:#}")),
    }
}
