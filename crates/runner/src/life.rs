//! Pausing, draining and leaving from the machine itself, with the runner's own credential.

use crate::error::Error;
use crate::home::{Home, Identity};
use pennine_client::{Route, RunnerClient};
use pennine_core::lifecycle::runner::DesiredState;
use pennine_wire::runner_protocol::LeaveRequest;
use pennine_wire::{Runner, RunnerJob};

fn identity(home: &Home) -> Result<Identity, Error> {
    let found = home.identity()?;
    found.ok_or_else(|| Error::NotJoined(home.path().to_owned()))
}

fn client(identity: &Identity, route: &Route) -> Result<RunnerClient, Error> {
    Ok(RunnerClient::new(
        &identity.server,
        &identity.credential,
        route,
    )?)
}

fn jobs(of: &[RunnerJob]) -> String {
    let lines = of
        .iter()
        .map(|job| format!("  {} {} of {}\n", job.job, job.title, job.project));
    lines.collect()
}

fn print_runner(runner: &Runner) {
    print!(
        "{} ({}) in the pool {}: {}; {}\n  {} of {} slots used\n{}",
        runner.name,
        runner.short,
        runner.pool,
        runner.state,
        runner.reason,
        runner.used,
        runner.slots,
        jobs(&runner.executing)
    );
}

/// Tells how the service sees this runner.
pub async fn status(home: &Home, route: &Route) -> Result<(), Error> {
    let identity = identity(home)?;
    print_runner(&client(&identity, route)?.me().await?);
    Ok(())
}

/// Says what is wanted of this runner.
pub async fn set_desired_state(
    home: &Home,
    route: &Route,
    desired_state: DesiredState,
) -> Result<(), Error> {
    let identity = identity(home)?;
    print_runner(
        &client(&identity, route)?
            .set_desired_state(desired_state)
            .await?,
    );
    Ok(())
}

/// Retires this runner.
pub async fn leave(home: &Home, route: &Route, force: bool) -> Result<(), Error> {
    let identity = identity(home)?;
    let left = client(&identity, route)?
        .leave(LeaveRequest {
            force,
            ..LeaveRequest::default()
        })
        .await?;
    home.forget_identity()?;
    println!(
        "{} has left {} permanently; its record stays there. This machine can join again with a new ticket.",
        identity.name, identity.server
    );
    if !left.ends.is_empty() {
        print!(
            "These jobs were ended, and are retried elsewhere:\n{}",
            jobs(&left.ends)
        );
    }
    if !left.losses.is_empty() {
        println!("No other runner can run these jobs:");
        for loss in left.losses {
            println!(
                "  {} with the requirement {:?}: {} waiting, {} in the last 30 days",
                loss.project, loss.requirement, loss.waiting, loss.recent
            );
        }
    }
    Ok(())
}
