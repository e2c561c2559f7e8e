//! What the service can tell of a runner that does not do what it should.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::yard::Yard;
use pennine_core::finding::{Finding, Verdict, worst};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_core::time::{Moment, spoken};
use pennine_store::credential;
use pennine_store::pool::OwnedPool;
use pennine_store::runner::{self, Runner};
use pennine_store::runner_presence::{self, LastHeard};
use pennine_store::timeline::{self, TimelineSpan};
use pennine_wire::Checkup;
use std::io::ErrorKind;
use std::net::IpAddr;
use std::time::Duration;
use tokio::net::TcpStream;

/// A port that is asked for only to see whether anything answers there: a refusal is an answer.
const KNOCK: u16 = 22;

/// How long a machine has to answer.
const PATIENCE: Duration = Duration::from_millis(1500);

/// How many of the last attempts are examined.
const ATTEMPTS: i64 = 10;

/// Looks at one runner from the service's end: its connection, whether its machine answers, what stands in the way of it
/// taking work, how its last jobs ended, and what it said itself.
pub async fn check(app: &App, who: &Principal, text: &str) -> Result<Checkup> {
    let mut connection = app.store.people().await?;
    let id = views::runners::runner::find(&mut connection, who, text).await?;
    let row = runner::list(&mut connection, Some(&[id])).await?;
    let row = row
        .first()
        .ok_or_else(|| ServiceError::unknown("runner", text))?;
    let now = app.clock.now();
    let seen = runner_presence::seen_of(&mut connection, id).await?;
    let yard = Yard::read(&mut connection, now).await?;
    let pool = yard.pools.iter().find(|pool| pool.pool.id == row.pool_id);
    let recent =
        timeline::recent_attempts(&mut connection, &[id], Moment::default(), ATTEMPTS).await?;
    let since = credential::credential_since(&mut connection, id).await?;
    drop(connection);

    let mut findings = vec![of_connection(row, seen.as_ref(), now)];
    if row.state.0 == RunnerState::Offline {
        findings.extend(of_machine(seen.as_ref()).await);
    }
    findings.extend(of_willingness(row, pool, &yard));
    if row.state.0 != RunnerState::Awaited {
        findings.push(of_version(&row.program));
        findings.extend(since.map(|since| of_credential(app, now.since(since))));
    }
    findings.extend(of_jobs(who, row, &recent));
    match row.reported.0.findings.as_slice() {
        [] if row.state.is_connected() => {
            findings.push(Finding::passed("machine", "self-checks passed"))
        }
        told => findings.extend(told.iter().cloned()),
    }
    Ok(Checkup {
        runner: row.name.clone(),
        message: format!(
            "{} is {} for {}: {}",
            row.name,
            crate::yard::shown_state(row),
            spoken(now.since(row.state_since.0)),
            row.state_reason
        ),
        verdict: worst(&findings),
        findings,
    })
}

fn of_connection(row: &Runner, seen: Option<&LastHeard>, now: Moment) -> Finding {
    let check = "connection";
    let from = seen.and_then(|seen| seen.peer.as_deref());
    let from = from.map_or(String::new(), |peer| format!(" from {peer}"));
    let ago = seen.map_or("a moment".to_owned(), |seen| {
        spoken(now.since(seen.seen_at.0))
    });
    match (row.state.0, seen) {
        (RunnerState::Retired, _) => Finding::failed(check, "retired")
            .remedy("join its machine again with a new ticket, if it is needed"),
        (RunnerState::Awaited, _) => {
            let remedy =
                "run the command that came with the ticket on the machine, or add another ticket";
            Finding::warning(check, "no machine has used its ticket yet")
                .remedy(format!("{remedy}: pennine ticket add --pool {}", row.pool))
        }
        (RunnerState::Offline, None) => Finding::failed(check, "joined, but never connected")
            .remedy("on the machine: pennine-runner work, or sudo pennine-runner service install"),
        (RunnerState::Offline, Some(seen)) => {
            let text = format!("last poll {ago} ago{from}; {}", row.state_reason);
            let remedy = if row.state_reason.contains("was stopped") {
                "stopped normally: start it on the machine (pennine-runner work, or systemctl start)"
            } else if seen.closed_at.is_some() {
                "the program ended unexpectedly: it was killed, or the machine was shut down. See its own log (log/ in its folder), and run pennine-runner doctor on the machine"
            } else {
                "the machine hangs, or has lost network or power: reach it another way, then run pennine-runner doctor"
            };
            Finding::failed(check, text).remedy(remedy)
        }
        (_, Some(seen)) if seen.closed_at.is_some() => {
            let text = format!("closed its connection{from} {ago} ago");
            Finding::warning(check, text)
                .remedy("wait: the runner goes offline unless it reconnects within seconds")
        }
        _ => Finding::passed(check, format!("connected{from}; last poll {ago} ago")),
    }
}

/// Whether anything answers where it was last seen.
async fn of_machine(seen: Option<&LastHeard>) -> Option<Finding> {
    let peer = seen?.peer.as_ref()?;
    let address: IpAddr = peer.parse().ok()?;
    let knocked = tokio::time::timeout(PATIENCE, TcpStream::connect((address, KNOCK))).await;
    let answers = match knocked {
        Ok(Ok(_)) => true,
        Ok(Err(error)) => error.kind() == ErrorKind::ConnectionRefused,
        Err(_) => false,
    };
    let origin = format!("{peer}, its last known address,");
    Some(if answers {
        let text = format!("{origin} answers: the machine, or a device in front of it, is up");
        Finding::passed("host", text)
    } else {
        let text = format!("{origin} does not answer within {}", spoken(PATIENCE));
        Finding::warning("host", text)
            .remedy("the machine is switched off or disconnected, or a firewall blocks the service")
    })
}

/// Whether it is wanted to take work.
fn of_willingness(row: &Runner, pool: Option<&OwnedPool>, yard: &Yard) -> Option<Finding> {
    let call = |verb: &str| format!("pennine runner {verb} {}", row.name);
    if let Some(window) = yard.window_of(row.id.0, row.pool_id.0) {
        let text = format!(
            "under maintenance until {} ({}, scheduled by {}): accepts no jobs",
            window.until_at.0, window.reason, window.created_by
        );
        return Some(
            Finding::warning("accepts jobs", text)
                .remedy(format!("pennine maintenance end {}", window.short())),
        );
    }
    let warning =
        |text: &str, remedy: String| Some(Finding::warning("accepts jobs", text).remedy(remedy));
    match row.desired_state.0 {
        DesiredState::Pause => {
            return warning("paused: accepts no new jobs", call("resume"));
        }
        DesiredState::Drain => {
            let text = "draining: finishes its jobs and accepts no new ones";
            return warning(text, call("resume"));
        }
        // By itself: the failed check has the remedy.
        DesiredState::Work if row.state.0 == RunnerState::Paused => {
            return Some(Finding::warning("accepts jobs", row.state_reason.clone()));
        }
        DesiredState::Work => {}
    }
    let pool = pool?;
    if pool.pool.paused {
        let name = &pool.pool.name;
        let text = format!("the pool {name} is paused");
        return warning(&text, format!("pennine pool set {name} --resume"));
    }
    let text = format!("{} of {} slots are used", row.used(), row.slots());
    let connected = row.state.is_connected();
    connected.then(|| Finding::passed("accepts jobs", text))
}

fn of_version(program: &str) -> Finding {
    let here = env!("CARGO_PKG_VERSION");
    if program == here {
        Finding::passed(
            "version",
            format!("pennine-runner {program}, the same as the service"),
        )
    } else {
        let text = format!("pennine-runner {program}, the service is {here}");
        Finding::warning("version", text).remedy(
            "they are compatible; install the service's version with join.sh when convenient",
        )
    }
}

fn of_credential(app: &App, age: Duration) -> Finding {
    let most = app.config.limits.credential_age();
    let text = format!("the credential is {} old", spoken(age));
    if age > most + most / 2 {
        Finding::warning("credential", text)
            .remedy("start the runner: it renews its credential once it is connected")
    } else {
        Finding::passed("credential", text)
    }
}

/// A machine on which everything fails takes job after job.
fn of_jobs(who: &Principal, row: &Runner, recent: &[TimelineSpan]) -> Option<Finding> {
    let ended: Vec<&TimelineSpan> = recent.iter().filter(|one| one.result.is_some()).collect();
    let (last, before) = ended.split_first()?;
    let broken = |one: &&&TimelineSpan| {
        one.result
            .as_ref()
            .is_some_and(|result| result.0 == Outcome::Error)
    };
    let errors = ended.iter().filter(broken).count();
    let of = ended.len();
    let text = format!("{errors} of the last {of} attempts were lost or could not start");
    if errors * 2 > of && !before.is_empty() {
        let message = match who.sees.includes(&last.project) {
            true => last.message.as_deref().unwrap_or("no reason was reported"),
            false => "a job of a project that you do not see",
        };
        let text = format!("{text}; last: {message}");
        return Some(Finding::failed("jobs", text).remedy(format!(
            "pennine runner drain {} before it takes more",
            row.name
        )));
    }
    Some(Finding::new("jobs", Verdict::Passed, text))
}
