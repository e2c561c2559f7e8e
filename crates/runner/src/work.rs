//! Taking work: one outstanding poll, and a task for each attempt.

use crate::attempt::{self, Bench, Standing};
use crate::facts;
use crate::home::{Home, Identity};
use crate::join::{Trouble, check_protocol, said};
use crate::keeper::{self, Isolation, Keepers};
use pennine_client::{ClientError, Route, RunnerClient};
use pennine_core::id::{AttemptId, SessionId};
use pennine_wire::runner_protocol::{About, Assigned, PROTOCOL, Poll, PollAnswer};
use rand::RngExt;
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::rc::Rc;
use std::time::Duration;
use tokio::signal::unix::{SignalKind, signal};
use tokio::task::LocalSet;
use tracing_subscriber::filter::Targets;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;
use uuid::Uuid;

/// Pauses between tries: longer each time, with jitter, so that a thousand runners do not come back at once.
pub struct Pace(Duration);

const SHORTEST: Duration = Duration::from_millis(100);
const LONGEST: Duration = Duration::from_secs(5);

impl Default for Pace {
    fn default() -> Self {
        Pace(SHORTEST)
    }
}

impl Pace {
    /// Waits a little longer than the last time.
    pub async fn pause(&mut self) {
        let jitter = rand::rng().random_range(0.5..1.0);
        tokio::time::sleep(self.0.mul_f64(jitter)).await;
        self.0 = (self.0 * 2).min(LONGEST);
    }

    /// It worked: begin again with short pauses.
    pub fn reset(&mut self) {
        self.0 = SHORTEST;
    }
}

/// How long the next poll waits for what has just been assigned to begin.
const BEGIN: Duration = Duration::from_millis(100);

type Held = Rc<RefCell<BTreeMap<AttemptId, (Rc<Assigned>, Rc<Standing>)>>>;

/// Takes work until stopped.
pub async fn work(home: &Home, route: &Route) -> Result<(), Trouble> {
    let levels = std::env::var("PENNINE_RUNNER_LOG").unwrap_or_else(|_| "info".to_owned());
    let levels: Targets = levels
        .parse()
        .map_err(|error| Trouble::Level(levels, error))?;
    tracing_subscriber::registry()
        .with(levels)
        .with(tracing_subscriber::fmt::layer().with_writer(std::io::stderr))
        .init();
    let identity = home
        .identity()?
        .ok_or_else(|| Trouble::NotJoined(home.path().to_owned()))?;
    let _lock = home.lock()?;
    clear_leftovers(home);
    let keepers = Keepers::here().await;
    if keepers.isolation() == Isolation::Group {
        tracing::warn!("{}", keepers.isolation().said());
    }
    keepers.prepare(identity.slots as usize);
    let facts = facts::gather(home.path()).await;
    let bench = Rc::new(Bench {
        home: home.clone(),
        client: RunnerClient::new(&identity.server, &identity.credential, route)?,
        session: SessionId(Uuid::now_v7()),
        keepers,
        slots: identity.slots,
        labels: identity.labels.clone(),
        facts: facts.clone(),
        host: facts
            .get("host")
            .map(ToString::to_string)
            .unwrap_or_default(),
        user: user(),
    });
    let about = About {
        facts,
        slots: identity.slots,
        labels: identity.labels.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
    };
    let mut interrupt =
        signal(SignalKind::interrupt()).map_err(|e| Trouble::Machine(e.to_string()))?;
    let mut terminate =
        signal(SignalKind::terminate()).map_err(|e| Trouble::Machine(e.to_string()))?;
    let tasks = LocalSet::new();
    let result = tasks
        .run_until(async {
            tokio::select! {
                trouble = poll_for_ever(&bench, &identity, about) => Err(trouble),
                _ = interrupt.recv() => Ok(()),
                _ = terminate.recv() => Ok(()),
            }
        })
        .await;
    // What still runs ends with this process. The service learns at once that it is gone.
    if result.is_ok() {
        tracing::info!("stopping");
        let _ =
            tokio::time::timeout(Duration::from_secs(2), bench.client.goodbye(bench.session)).await;
    }
    result
}

fn user() -> String {
    std::env::var("USER").unwrap_or_else(|_| match nix::unistd::geteuid() {
        uid if uid.is_root() => "root".to_owned(),
        uid => format!("uid {uid}"),
    })
}

/// Ends what an earlier life left running and removes what it left lying.
fn clear_leftovers(home: &Home) {
    let attempts = home.leftovers();
    if attempts.is_empty() {
        return;
    }
    let names: Vec<String> = attempts.iter().map(ToString::to_string).collect();
    let ended = keeper::end_leftovers(&names);
    tracing::warn!(
        attempts = attempts.len(),
        processes = ended,
        "cleared what an earlier run of this program left"
    );
    for attempt in attempts {
        home.sweep(attempt);
    }
}

/// Polls until the service refuses for good.
async fn poll_for_ever(bench: &Rc<Bench>, identity: &Identity, about: About) -> Trouble {
    let held: Held = Held::default();
    let mut pace = Pace::default();
    let mut sequence = 0;
    let mut told = false;
    let mut connected = false;
    let mut checked = false;
    loop {
        if !checked {
            match bench
                .client
                .hello()
                .await
                .map(|hello| check_protocol(&hello))
            {
                Ok(Ok(())) => checked = true,
                Ok(Err(trouble)) => return trouble,
                Err(error) => {
                    tell(&mut connected, &mut pace, &error);
                    pace.pause().await;
                    continue;
                }
            }
        }
        sequence += 1;
        let poll = {
            let held = held.borrow();
            Poll {
                protocol: PROTOCOL,
                session: bench.session,
                sequence,
                free: about
                    .slots
                    .saturating_sub(u32::try_from(held.len()).unwrap_or(u32::MAX)),
                held: held
                    .values()
                    .map(|(assigned, standing)| standing.held(assigned))
                    .collect(),
                about: (!told).then(|| about.clone()),
                at_once: false,
            }
        };
        match bench.client.poll(&poll).await {
            Ok(answer) => {
                if !connected {
                    connected = true;
                    tracing::info!(
                        "connected to {} as {} ({}), {} slots",
                        identity.server,
                        identity.name,
                        identity.short,
                        about.slots
                    );
                }
                told = true;
                pace.reset();
                let fresh = take(bench, &held, answer);
                // A start that is told acknowledges the assignment, and the poll would only be in its way.
                let told = futures::future::join_all(fresh.iter().map(|one| one.begun()));
                let _ = tokio::time::timeout(BEGIN, told).await;
            }
            Err(error) => {
                if let Some(trouble) = last_word(&error) {
                    return trouble;
                }
                tell(&mut connected, &mut pace, &error);
                pace.pause().await;
            }
        }
    }
}

/// Tells about lost contact, once.
fn tell(connected: &mut bool, pace: &mut Pace, error: &ClientError) {
    let first = std::mem::take(connected) || pace.0 == SHORTEST;
    if first {
        tracing::warn!(
            "{}. Trying again until it works; jobs go on meanwhile",
            said(error).replace("\n ", "")
        );
    }
}

/// A refusal that trying again will not change.
fn last_word(error: &ClientError) -> Option<Trouble> {
    let problem = error.problem()?;
    let last = matches!(problem.status, 401 | 410 | 422) || problem.word() == "protocol-not-spoken";
    last.then(|| Trouble::Client(ClientError::Refused(Box::new(problem.clone()))))
}

/// Acts on an answer: begins what is new, ends what is to end. What is new comes back.
fn take(bench: &Rc<Bench>, held: &Held, answer: PollAnswer) -> Vec<Rc<Standing>> {
    let mut fresh = Vec::new();
    for assigned in answer.assignments {
        let id = assigned.attempt;
        if held.borrow().contains_key(&id) {
            continue;
        }
        tracing::info!(
            job = assigned.job,
            title = assigned.title,
            attempt = assigned.number,
            "begins"
        );
        let (assigned, standing) = (Rc::new(assigned), Rc::new(Standing::default()));
        held.borrow_mut()
            .insert(id, (assigned.clone(), standing.clone()));
        fresh.push(standing.clone());
        let (bench, held) = (bench.clone(), held.clone());
        tokio::task::spawn_local(async move {
            attempt::run(bench, assigned, standing).await;
            held.borrow_mut().remove(&id);
        });
    }
    for stop in answer.stop {
        if let Some((_, standing)) = held.borrow().get(&stop.attempt) {
            standing.stop(stop.cause, &stop.said);
        }
    }
    fresh
}
