//! What can be typed.

use crate::connection::GlobalArguments;
use crate::verbs::{
    alert, capacity, history, job, listener, machine, maintenance, place, pool, queue, runner,
    seat, supplier, target, ticket, trends, yard,
};
use clap::{Parser, Subcommand};

/// Pennine: submit jobs, see what waits and why, look after runners.
///
/// The service and the token come from --url and --token, from PENNINE_URL and PENNINE_TOKEN, or from
/// ~/.config/pennine/client.toml (url = "…", token = "…"), in this order.
///
/// Exit status: 0 done, 1 the job failed, 2 wrong usage, 3 refused by the service, 4 no connection.
#[derive(Parser)]
#[command(name = "pennine", version, about, long_about)]
pub struct Arguments {
    #[command(flatten)]
    pub whole: GlobalArguments,
    #[command(subcommand)]
    pub noun: Noun,
}

#[derive(Subcommand)]
pub enum Noun {
    /// How things stand now, in one sentence and some figures.
    Status {
        /// Show it again every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// The waiting jobs, by why they wait; many of them at once.
    #[command(args_conflicts_with_subcommands = true)]
    Queue {
        #[command(subcommand)]
        verb: Option<queue::Verb>,
        /// Show it again every two seconds, until interrupted.
        #[arg(long)]
        watch: bool,
    },
    /// Try a requirement against the yard: which runners satisfy it, and which clause excludes the rest.
    Where {
        /// The requirement: 'linux and gcc >= 12'.
        requirement: String,
        /// Whose job it would be; everybody's when not given.
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
    /// Teams.
    #[command(subcommand)]
    Team(place::TeamVerb),
    /// Projects.
    #[command(subcommand)]
    Project(place::ProjectVerb),
    /// What holds for a team or a project: its share, its limit, its place in the tree.
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
    /// Tickets, with which machines join.
    #[command(subcommand)]
    Ticket(ticket::Verb),
    /// Runners.
    #[command(subcommand)]
    Runner(runner::Verb),
    /// Stretches of time in which a pool or a runner takes nothing new.
    #[command(subcommand)]
    Maintenance(maintenance::Verb),
    /// How long jobs waited, for what, how busy the machines were, and what it cost.
    #[command(args_conflicts_with_subcommands = true)]
    Trends {
        #[command(subcommand)]
        verb: Option<trends::Verb>,
        #[command(flatten)]
        of: Box<trends::TrendArguments>,
        #[command(flatten)]
        how: trends::OutputArguments,
    },
    /// Targets: what is promised of waits, how it stands, and when it will be broken.
    #[command(subcommand)]
    Target(target::Verb),
    /// Alerts: what somebody should look at.
    #[command(subcommand)]
    Alert(alert::Verb),
    /// Listeners: who else is sent alerts, as signed events.
    #[command(subcommand)]
    Listener(listener::Verb),
    /// Jobs that are over, as CSV: out, and in from elsewhere.
    #[command(subcommand)]
    History(history::Verb),
    /// The yard as a file: teams, projects, seats, suppliers, pools and targets as code.
    #[command(subcommand)]
    Yard(yard::Verb),
}
