//! `pennine pool`.

use super::capacity::{Supplied, decisions, standing};
use super::job_policy::{self, JobArguments};
use super::status::counts;
use super::yard;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::ThingKind;
use clap::{Args, Subcommand};
use pennine_client::{Client, RunnerFilter};
use pennine_wire::{ApprovalWithdrawal, NewPool, Pool, PoolApproval, PoolChange, PoolRemoval};

#[derive(Subcommand)]
pub enum Verb {
    /// List the pools.
    List,
    /// Show one pool and its runners.
    Show {
        /// Its name.
        name: String,
    },
    /// Change a pool: its owner, its reach, its labels. Refuses to leave jobs without a runner.
    Set(Box<SetArguments>),
    /// Add a pool.
    Add(Box<AddArguments>),
    /// Remove a pool. Its history stays on record.
    Remove {
        /// Its name.
        name: String,
        /// Remove it although it has runners or machines: their jobs end and are retried elsewhere.
        #[arg(long)]
        force: bool,
        /// Proceed although jobs would be left without a runner.
        #[arg(long)]
        yes: bool,
    },
    /// Approve a project's use of a pool that asks for it, for good, or that of one job that waits.
    Approve {
        /// The pool's name.
        name: String,
        /// The project's path, or its name if that is unique.
        #[arg(long, required_unless_present = "job")]
        project: Option<String>,
        /// The job's short name.
        #[arg(long, conflicts_with = "project")]
        job: Option<String>,
    },
    /// Withdraw the approval of a project. Its jobs that run go on.
    WithdrawApproval {
        /// The pool's name.
        name: String,
        /// The project's path.
        #[arg(long)]
        project: String,
    },
    /// Watch a pool's demand, machines and decisions, until interrupted.
    Watch {
        /// Its name.
        name: String,
    },
}

#[derive(Args)]
pub struct SetArguments {
    /// Its name.
    name: String,
    /// What its machines are.
    #[arg(long)]
    description: Option<String>,
    /// Its complete new list of labels; may be given several times, and empty for none.
    #[arg(long = "label", value_name = "LABEL")]
    labels: Option<Vec<String>>,
    /// Accept jobs without a requirement, or not.
    #[arg(long, value_name = "true|false")]
    open: Option<bool>,
    /// The team or project that owns it; empty for the root.
    #[arg(long, value_name = "PATH")]
    owner: Option<String>,
    /// Narrow it to this team or project; may be given several times, and empty for everything below the owner.
    #[arg(long, value_name = "PATH")]
    narrow_to: Option<Vec<String>>,
    /// Let this team or project use it as well; may be given several times, and empty for none.
    #[arg(long, value_name = "PATH")]
    widen_to: Option<Vec<String>>,
    /// Accept untrusted jobs, or not; needs single-use machines that share no host or run jobs in a sandbox.
    #[arg(long, value_name = "true|false")]
    takes_untrusted: Option<bool>,
    /// Ask for approval of a project's first use, or not.
    #[arg(long, value_name = "true|false")]
    asks_approval: Option<bool>,
    /// What a machine must satisfy to join it, in the requirement language; empty for anything.
    #[arg(long, value_name = "REQUIREMENT")]
    needs: Option<String>,
    /// Stop its runners from accepting jobs.
    #[arg(long)]
    pause: bool,
    /// Let its runners accept jobs again.
    #[arg(long, conflicts_with = "pause")]
    resume: bool,
    #[command(flatten)]
    jobs: JobArguments,
    #[command(flatten)]
    supplied: Supplied,
    /// Only show what would change.
    #[arg(long)]
    preview: bool,
    /// Proceed although jobs would be left without a runner.
    #[arg(long)]
    yes: bool,
}

#[derive(Args)]
pub struct AddArguments {
    /// Its name.
    name: String,
    /// What its machines are.
    #[arg(long, default_value = "", hide_default_value = true)]
    description: String,
    /// A label that every runner of the pool has; may be given several times.
    #[arg(long = "label", value_name = "LABEL")]
    labels: Vec<String>,
    /// Accept no jobs without a requirement.
    #[arg(long)]
    closed: bool,
    /// The team or project that owns it: everything at or below may use it [default: the root]
    #[arg(long, value_name = "PATH")]
    owner: Option<String>,
    /// What a machine must satisfy to join it, in the requirement language: 'mem >= 8GiB and has gcc'.
    #[arg(long, value_name = "REQUIREMENT")]
    needs: Option<String>,
    /// Another pool, whose settings are used where none are given.
    #[arg(long, value_name = "POOL")]
    like: Option<String>,
    #[command(flatten)]
    jobs: JobArguments,
    #[command(flatten)]
    supplied: Supplied,
}

/// `pennine pool`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List => list(client, json).await,
        Verb::Show { name } => show(client, json, &name).await,
        Verb::Set(arguments) => set(client, json, *arguments).await,
        Verb::Add(arguments) => add(client, json, *arguments).await,
        Verb::Remove { name, force, yes } => {
            let how = PoolRemoval {
                force,
                accept_losses: yes,
            };
            client.remove_pool(&name, &how).await?;
            view::line(format!("Removed the pool {name}."))
        }
        Verb::Approve { name, project, job } => {
            let approval = PoolApproval { project, job };
            let pool = client.approve_use(&name, &approval).await?;
            if json {
                return view::json(&pool);
            }
            view::line(match (&approval.project, &approval.job) {
                (_, Some(job)) => format!("Approved {job} in {name}: this job alone may use it."),
                (project, None) => {
                    let project = project.as_deref().unwrap_or_default();
                    format!("Approved {project} in {name}: all its jobs may use it from now on.")
                }
            })
        }
        Verb::WithdrawApproval { name, project } => {
            let withdrawal = ApprovalWithdrawal { project };
            let pool = client.withdraw_approval(&name, &withdrawal).await?;
            if json {
                return view::json(&pool);
            }
            let project = &withdrawal.project;
            view::line(format!(
                "Withdrew the approval of {project} in {name}. Executing jobs continue; waiting jobs need approval again."
            ))
        }
        Verb::Watch { name } => {
            let show = || async { super::capacity::watched(client, &name).await };
            view::watch(!json, show).await
        }
    }
}

async fn list(client: &Client, json: bool) -> Result<(), Error> {
    let pools = client.pools().await?;
    if json {
        return view::json(&pools);
    }
    if pools.items.is_empty() {
        return view::line("No pools yet. Add one with: pennine pool add NAME");
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

async fn show(client: &Client, json: bool, name: &str) -> Result<(), Error> {
    let pool = client.pool(name).await?;
    if json {
        return view::json(&pool);
    }
    let open = if pool.open {
        "accepts jobs without a requirement"
    } else {
        "accepts only jobs that require it"
    };
    let reach = [
        ("narrowed to", &pool.narrow_to),
        ("widened to", &pool.widen_to),
    ]
    .into_iter()
    .filter(|(_, paths)| !paths.is_empty())
    .map(|(word, paths)| format!("; {word} {}", paths.join(", ")))
    .collect::<String>();
    let needs = match pool.needs.as_str() {
        "" => String::new(),
        needs => format!("\n  needs: {needs}"),
    };
    let untrusted = if pool.takes_untrusted {
        "; takes untrusted jobs"
    } else {
        ""
    };
    let paused = if pool.paused { "; PAUSED" } else { "" };
    let approvals = match (pool.asks_approval, pool.approved.as_slice()) {
        (false, _) => String::new(),
        (true, []) => {
            "\n  asks for approval of a project's first use; approved: none yet".to_owned()
        }
        (true, approved) => format!(
            "\n  asks for approval of a project's first use; approved: {}",
            approved.join(", ")
        ),
    };
    let mut text = format!(
        "{}: {}\n  owner {}{reach}; {open}{untrusted}{paused}; labels: {}{needs}{approvals}\n  {} of {} slots free; runners: {}\n",
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
    let filter = RunnerFilter {
        pool: Some(pool.name.clone()),
        ..RunnerFilter::default()
    };
    let mine = client.runners(&filter).await?.items;
    text += &job_policy::shown(&pool.jobs);
    text += &standing(&pool, &client.who().await?.currency);
    if mine.is_empty() && pool.supply.is_some() {
        text += "\nIt has no machines now.\n";
    } else if mine.is_empty() {
        text += &format!(
            "\nNo machines have joined it. Get the command with: pennine ticket add --pool {}\n",
            pool.name
        );
    } else {
        text += "\n";
        text += &super::runner::table(&mine);
    }
    view::print(&text)
}

impl SetArguments {
    fn change(self) -> Result<PoolChange, Error> {
        let given = |list: Option<Vec<String>>| {
            list.map(|list| list.into_iter().filter(|one| !one.is_empty()).collect())
        };
        Ok(PoolChange {
            description: self.description,
            labels: given(self.labels),
            open: self.open,
            owner: self.owner,
            narrow_to: given(self.narrow_to),
            widen_to: given(self.widen_to),
            takes_untrusted: self.takes_untrusted,
            asks_approval: self.asks_approval,
            paused: (self.pause || self.resume).then_some(self.pause),
            needs: self.needs,
            supply: self.supplied.change()?,
            jobs: self.jobs.change(),
            preview: self.preview,
            accept_losses: self.yes,
        })
    }
}

async fn set(client: &Client, json: bool, arguments: SetArguments) -> Result<(), Error> {
    let name = arguments.name.clone();
    let change = arguments.change()?;
    let changed = client.change_pool(&name, &change).await?;
    if changed.done {
        yard::remind(client, ThingKind::Pool, &name).await;
    }
    if json {
        return view::json(&changed);
    }
    let mut text = match (changed.done, changed.losses.is_empty()) {
        (true, _) => format!("Changed the pool {name}.\n"),
        (false, true) => "No jobs would be affected.\n".to_owned(),
        (false, false) => "Nothing has been changed yet.\n".to_owned(),
    };
    text += &view::losses(&changed.losses);
    if changed.pool.supply.is_some() {
        let now = if changed.done { "Now" } else { "It would now" };
        text += &match changed.decisions.as_slice() {
            [] => format!("{now}: no machines ordered or released.\n"),
            some => format!("{now}:\n{}", decisions(some)),
        };
    }
    view::print(&text)
}

async fn add(client: &Client, json: bool, arguments: AddArguments) -> Result<(), Error> {
    let new = NewPool {
        name: arguments.name,
        description: arguments.description,
        labels: arguments.labels,
        open: arguments.closed.then_some(false),
        owner: arguments.owner,
        needs: arguments.needs,
        like: arguments.like,
        supply: arguments.supplied.change()?,
        jobs: arguments.jobs.change(),
    };
    let pool = client.add_pool(&new).await?;
    if json {
        return view::json(&pool);
    }
    if pool.supply.is_some() {
        return view::line(format!(
            "Added the pool {0}. Watch it with: pennine pool watch {0}",
            pool.name
        ));
    }
    view::line(format!(
        "Added the pool {0}. Add a machine with: pennine ticket add --pool {0}",
        pool.name
    ))
}

fn owner(pool: &Pool) -> String {
    if pool.owner.is_empty() {
        "all teams".to_owned()
    } else {
        pool.owner.clone()
    }
}
