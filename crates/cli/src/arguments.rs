//! What can be typed.

use crate::connection::GlobalArguments;
use crate::verbs::{
    alert, audit, capacity, generate, group, help, history, job, listener, machine, maintenance,
    person, place, pool, queue, run, runner, seat, secret, sheet, supplier, target, ticket, token,
    trends, variable, yard,
};
use clap::{Parser, Subcommand};

/// Pennine: submit jobs, see which jobs wait and why, manage runners.
///
/// The service and the token come from --url and --token, from PENNINE_URL and PENNINE_TOKEN, or from
/// ~/.config/pennine/client.toml (url = "…", token = "…"), in this order.
///
/// Exit status: 0 done, 1 the job failed, 2 wrong usage, 3 refused by the service, 4 no connection.
#[derive(Parser)]
#[command(
    name = "pennine",
    version,
    about,
    long_about,
    disable_help_subcommand = true,
    after_help = help::list()
)]
pub struct Arguments {
    #[command(flatten)]
    pub whole: GlobalArguments,
    #[command(subcommand)]
    pub noun: Noun,
}

#[derive(Subcommand)]
pub enum Noun {
    /// The present state, in one sentence and some figures.
    Status {
        /// Refresh every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// The waiting jobs by reason, and actions on many of them.
    #[command(args_conflicts_with_subcommands = true)]
    Queue {
        #[command(subcommand)]
        verb: Option<queue::Verb>,
        #[command(flatten)]
        which: queue::QueueArguments,
        /// Refresh every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// Try a requirement against the yard: which runners satisfy it, and which clause excludes the rest.
    Where {
        /// The requirement: 'linux and gcc >= 12'.
        requirement: String,
        /// The project of the job [default: all pools count]
        #[arg(long)]
        project: Option<String>,
    },
    /// Why a job waits, and what would run it.
    Why {
        /// The job's short name or id.
        job: String,
    },
    /// Submit jobs, list them, read their logs.
    #[command(subcommand)]
    Job(job::Verb),
    /// Submit the jobs of a job sheet together, and follow them.
    #[command(subcommand)]
    Run(run::Verb),
    /// Teams.
    #[command(subcommand)]
    Team(place::TeamVerb),
    /// Projects.
    #[command(subcommand)]
    Project(place::ProjectVerb),
    /// The share, limit and position of a team or project.
    #[command(subcommand)]
    Place(place::PlaceVerb),
    /// Seats: counted resources that jobs take while they run.
    #[command(subcommand)]
    Seat(seat::Verb),
    /// Pools of runners.
    #[command(subcommand)]
    Pool(pool::Verb),
    /// Suppliers, which make and remove machines for pools.
    #[command(subcommand)]
    Supplier(supplier::Verb),
    /// Machines that suppliers made.
    #[command(subcommand)]
    Machine(machine::Verb),
    /// How many machines pools have, and why.
    #[command(subcommand)]
    Capacity(capacity::Verb),
    /// People: their accounts, and the roles that they have at places.
    #[command(subcommand)]
    Person(person::Verb),
    /// Roles of the people in a group of the OpenID provider.
    #[command(subcommand)]
    Group(group::Verb),
    /// Who did what: changes, sign-ins and refusals, the latest first.
    Audit {
        #[command(flatten)]
        which: audit::AuditArguments,
    },
    /// Environment variables of the jobs of a team or project.
    #[command(subcommand)]
    Variable(variable::Verb),
    /// Secrets of the jobs of a team or project, or of a pool: encrypted, given to the jobs that name them.
    #[command(subcommand)]
    Secret(secret::Verb),
    /// Tokens, with which programs and people ask the service.
    #[command(subcommand)]
    Token(token::Verb),
    /// Tickets, with which machines join.
    #[command(subcommand)]
    Ticket(ticket::Verb),
    /// Runners.
    #[command(subcommand)]
    Runner(runner::Verb),
    /// Periods in which a pool or a runner accepts no jobs.
    #[command(subcommand)]
    Maintenance(maintenance::Verb),
    /// Waits by reason, utilisation and cost.
    #[command(args_conflicts_with_subcommands = true)]
    Trends {
        #[command(subcommand)]
        verb: Option<trends::Verb>,
        #[command(flatten)]
        of: Box<trends::TrendArguments>,
        #[command(flatten)]
        how: trends::OutputArguments,
    },
    /// Targets for waits, and their error budgets.
    #[command(subcommand)]
    Target(target::Verb),
    /// Alerts.
    #[command(subcommand)]
    Alert(alert::Verb),
    /// Listeners: addresses that receive alerts as signed events.
    #[command(subcommand)]
    Listener(listener::Verb),
    /// Export finished jobs as CSV, and import jobs from elsewhere.
    #[command(subcommand)]
    History(history::Verb),
    /// The yard as a file: teams, projects, seats, suppliers, pools and targets as code.
    #[command(subcommand)]
    Yard(yard::Verb),
    /// The job sheet of a project: its jobs, and what waits for what.
    #[command(subcommand)]
    Sheet(sheet::Verb),
    /// Shell completions and manual pages.
    #[command(subcommand)]
    Generate(generate::Verb),
    /// Print the help of a command, or a guide.
    Help {
        /// A command, such as job submit, or the name of a guide.
        topic: Vec<String>,
    },
}
