//! Which command was given, and the function that carries it out.

use crate::arguments::{Arguments, Noun};
use crate::connection;
use crate::error::Error;
use crate::terminal;
use crate::verbs::{
    alert, audit, capacity, generate, group, help, history, job, listener, machine, maintenance,
    person, place, pool, queue, run, runner, seat, secret, sheet, status, supplier, target, ticket,
    token, trends, trial, variable, why, yard,
};
use clap::CommandFactory;
use pennine_client::Client;
use std::process::ExitCode;

/// Runs a command.
pub async fn run(arguments: Arguments) -> Result<ExitCode, Error> {
    match arguments.noun {
        Noun::Generate(verb) => generate::run(Arguments::command(), verb)?,
        Noun::Help { topic } => help::run(Arguments::command(), &topic)?,
        Noun::Sheet(verb) => sheet::run(&arguments.whole, verb).await?,
        noun => {
            let client = connection::connect(&arguments.whole)?;
            let what = format!("Waiting for {}", client.url());
            let work = ask(client, arguments.whole.json, noun);
            return terminal::with_progress(what, work).await;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Runs a command that asks the service.
async fn ask(client: Client, json: bool, noun: Noun) -> Result<ExitCode, Error> {
    match noun {
        Noun::Generate(_) | Noun::Help { .. } | Noun::Sheet(_) => {}
        Noun::Status { watch } => status::run(&client, json, watch).await?,
        Noun::Queue {
            verb: None,
            which,
            watch,
        } => queue::run(&client, json, watch, which).await?,
        Noun::Queue {
            verb: Some(verb), ..
        } => queue::act(&client, json, verb).await?,
        Noun::Where {
            requirement,
            project,
        } => trial::run(&client, json, requirement, project).await?,
        Noun::Place(verb) => place::place(&client, json, verb).await?,
        Noun::Seat(verb) => seat::run(&client, json, verb).await?,
        Noun::Why { job } => why::run(&client, json, &job).await?,
        Noun::Job(verb) => return job::run(&client, json, verb).await,
        Noun::Run(verb) => return run::run(&client, json, verb).await,
        Noun::Team(verb) => place::team(&client, json, verb).await?,
        Noun::Project(verb) => place::project(&client, json, verb).await?,
        Noun::Pool(verb) => pool::run(&client, json, verb).await?,
        Noun::Supplier(verb) => supplier::run(&client, json, verb).await?,
        Noun::Machine(verb) => machine::run(&client, json, verb).await?,
        Noun::Capacity(verb) => capacity::run(&client, json, verb).await?,
        Noun::Person(verb) => person::run(&client, json, verb).await?,
        Noun::Group(verb) => group::run(&client, json, verb).await?,
        Noun::Audit { which } => audit::run(&client, json, which).await?,
        Noun::Variable(verb) => variable::run(&client, json, verb).await?,
        Noun::Secret(verb) => secret::run(&client, json, verb).await?,
        Noun::Token(verb) => token::run(&client, json, verb).await?,
        Noun::Ticket(verb) => ticket::run(&client, json, verb).await?,
        Noun::Maintenance(verb) => maintenance::run(&client, json, verb).await?,
        Noun::Runner(verb) => runner::run(&client, json, verb).await?,
        Noun::Trends { verb, of, how } => trends::run(&client, json, verb, *of, how).await?,
        Noun::Target(verb) => target::run(&client, json, verb).await?,
        Noun::Alert(verb) => alert::run(&client, json, verb).await?,
        Noun::Listener(verb) => listener::run(&client, json, verb).await?,
        Noun::History(verb) => history::run(&client, json, verb).await?,
        Noun::Yard(verb) => return yard::run(&client, json, verb).await,
    }
    Ok(ExitCode::SUCCESS)
}
