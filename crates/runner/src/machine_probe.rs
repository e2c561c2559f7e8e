//! What this machine is and gives, found out at the start, once an hour, and when something that it depends on has changed.

use crate::doctor;
use crate::environment::RunnerEnvironment;
use crate::facts;
use crate::poll_news::PollNews;
use pennine_core::fact::Facts;
use pennine_core::finding::{Finding, Verdict};
use pennine_core::job_policy::JobPolicy;
use std::rc::Rc;
use std::time::Duration;

/// How often the machine is looked at again: tools come and go.
const LOOK_EVERY: Duration = Duration::from_secs(3600);

/// Finds out what the machine is. True if that is another than it was.
pub async fn probe(environment: &RunnerEnvironment, found: Option<Facts>) -> bool {
    let facts = match found {
        Some(facts) => facts,
        None => {
            let (folder, path) = (environment.home.path(), environment.path());
            facts::gather(folder, &path, &environment.abilities).await
        }
    };
    let mut findings = doctor::of_machine(&environment.home, &environment.abilities);
    findings.extend(isolation_finding(environment));
    findings.extend(doctor::of_clock(&environment.client).await);
    findings.retain(|finding| finding.verdict > Verdict::Passed);
    for finding in &findings {
        tracing::warn!("{}: {}", finding.check, finding.message);
    }
    let other = environment.facts.replace(facts.clone()) != facts;
    environment.findings.replace(findings.clone()) != findings || other
}

/// What the pool asks of a machine and this one does not give.
pub fn unmet(environment: &RunnerEnvironment) -> Option<String> {
    let level = environment.policy.get().isolation;
    let why = environment.gives(level).err()?;
    Some(format!(
        "the machine does not give the isolation level {level}, which the pool asks for: {why}"
    ))
}

fn isolation_finding(environment: &RunnerEnvironment) -> Option<Finding> {
    let message = format!("takes no jobs: {}", unmet(environment)?);
    Some(Finding::failed("isolation", message).remedy(format!(
        "make it possible, or choose another level for the pool: pennine pool set POOL --isolation {}",
        environment.abilities.strongest()
    )))
}

/// Keeps jobs to come as the pool says.
pub fn apply_policy(environment: &RunnerEnvironment, news: &PollNews, policy: JobPolicy) {
    if environment.policy.replace(policy) == policy {
        return;
    }
    environment.keepers.set_policy(policy);
    if let Err(error) = environment
        .home
        .change_identity(|identity| identity.policy = policy)
    {
        tracing::warn!(
            "the pool's new policy could not be stored; the next start begins with the earlier one: {error}"
        );
    }
    match environment.gives(policy.isolation) {
        Ok(()) => environment.keepers.prepare(environment.slots()),
        Err(why) => tracing::error!("no jobs are taken: {why}"),
    }
    news.look.notify_one();
}

pub async fn probe_regularly(environment: Rc<RunnerEnvironment>, news: Rc<PollNews>) {
    loop {
        tokio::select! {
            // Whatever has failed is tried again.
            () = tokio::time::sleep(LOOK_EVERY) => environment.failed_level.replace(None),
            () = news.look.notified() => None,
            () = environment.recheck.notified() => None,
        };
        if probe(&environment, None).await {
            tracing::info!("the machine's facts have changed; they are sent with the next poll");
            news.to_tell.set(true);
        }
    }
}
