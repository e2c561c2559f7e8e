//! `pennine pool`.

use super::status::counts;
use crate::trouble::Trouble;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_wire::{NewPool, Pool};

#[derive(Subcommand)]
pub enum Verb {
    /// List the pools.
    List,
    /// Show one pool and its runners.
    Show {
        /// Its name.
        name: String,
    },
    /// Add a pool.
    Add {
        /// Its name.
        name: String,
        /// What kind of machines these are.
        #[arg(long, default_value = "")]
        description: String,
        /// A label that every runner of the pool has; may be given several times.
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
        /// Take no jobs that ask for nothing.
        #[arg(long)]
        closed: bool,
        /// The team or project that owns it: everything at or below may use it. The root when not given.
        #[arg(long, value_name = "PATH")]
        owner: Option<String>,
    },
}

/// `pennine pool`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Trouble> {
    match verb {
        Verb::List => {
            let pools = client.pools().await?;
            if json {
                return view::json(&pools);
            }
            if pools.items.is_empty() {
                return view::line("There is no pool yet. Add one with: pennine pool add NAME");
            }
            view::print(&view::table(
                &["pool", "free", "runners", "labels", "owner", "description"],
                pools.items.iter().map(|pool| {
                    vec![
                        pool.name.clone(),
                        format!("{} of {}", pool.free, pool.slots),
                        counts(&pool.runners),
                        pool.labels.join(", "),
                        owner(pool),
                        view::cut(&pool.description, 36),
                    ]
                }),
            ))
        }
        Verb::Show { name } => {
            let pool = client.pool(&name).await?;
            if json {
                return view::json(&pool);
            }
            let open = if pool.open {
                "takes jobs that ask for nothing"
            } else {
                "takes only jobs that ask for it"
            };
            let mut text = format!(
                "{}: {}\n  owner {}; {open}; labels: {}\n  {} of {} slots free; runners: {}\n",
                pool.name,
                if pool.description.is_empty() {
                    "(no description)"
                } else {
                    &pool.description
                },
                owner(&pool),
                if pool.labels.is_empty() {
                    "none".to_owned()
                } else {
                    pool.labels.join(", ")
                },
                pool.free,
                pool.slots,
                counts(&pool.runners)
            );
            let runners = client.runners().await?.items;
            let mine: Vec<_> = runners
                .into_iter()
                .filter(|runner| runner.pool == pool.name)
                .collect();
            if mine.is_empty() {
                text += &format!(
                    "\nNo machine has joined it. Get a command with: pennine ticket add --pool {}\n",
                    pool.name
                );
            } else {
                text += "\n";
                text += &super::runner::table(&mine);
            }
            view::print(&text)
        }
        Verb::Add {
            name,
            description,
            labels,
            closed,
            owner,
        } => {
            let pool = client
                .add_pool(&NewPool {
                    name,
                    description,
                    labels,
                    open: !closed,
                    owner,
                })
                .await?;
            if json {
                return view::json(&pool);
            }
            view::line(format!(
                "Added the pool {0}. Add a machine with: pennine ticket add --pool {0}",
                pool.name
            ))
        }
    }
}

fn owner(pool: &Pool) -> String {
    if pool.owner.is_empty() {
        "everybody".to_owned()
    } else {
        pool.owner.clone()
    }
}
