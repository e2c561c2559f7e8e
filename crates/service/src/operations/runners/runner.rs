//! Runners, as people see them.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::validation::{check_description, check_labels, check_name, check_slots, check_variable};
use crate::views;
use crate::views::runners::runner::{find, one, shown};
use crate::yard::Yard;
use pennine_core::access::Action;
use pennine_core::access::ActorKind;
use pennine_core::id::RunnerId;
use pennine_core::lifecycle::runner::{DesiredState, RunnerEvent};
use pennine_core::overrides::{Override, Overrides, checked};
use pennine_core::time::Moment;
use pennine_store::Connection;
use pennine_store::audit::{Actor, Permit};
use pennine_store::change_lock::lock_for_change;
use pennine_store::types::Json as Jsonb;
use pennine_store::{audit, place, runner, runner_facts};
use pennine_wire::{ChangedRunner, Retirement, Runner, RunnerChange};
use serde::Deserialize;
use serde_json::json;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What a runner is wanted to do.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDesiredState {
    desired_state: DesiredState,
}

/// Refuses who may not manage a runner: it belongs to the owner of its pool.
///
/// # Errors
/// Forbidden.
pub async fn require(app: &App, who: &Principal, id: RunnerId) -> Result<Permit> {
    let owner = place::of_runner(&mut *app.store.people().await?, id).await?;
    who.require(Action::ManageRunner, &owner)
}

/// Say what a runner is wanted to do: `work`, `pause` or `drain`.
pub async fn request_state(
    app: &App,
    who: &Principal,
    text: &str,
    new: NewDesiredState,
) -> Result<Runner> {
    let id = find(&mut *app.store.people().await?, who, text).await?;
    let permit = require(app, who, id).await?;
    set_desired_state(app, id, text, new.desired_state, Requester::Person(&permit)).await
}

/// Who asks for a desired state.
#[derive(Clone, Copy, Debug)]
pub enum Requester<'a> {
    /// A person or a program that may do so.
    Person(&'a Permit),
    /// The holder of the runner's credential, on the machine of this name or elsewhere: cannot undo what a person has set.
    Machine(&'a str),
}

impl Requester<'_> {
    fn describe(self) -> String {
        match self {
            Requester::Person(permit) => permit.actor.name.clone(),
            Requester::Machine(name) => format!("a user on {name}"),
        }
    }

    /// What the audit row takes.
    async fn permit(self, connection: &mut Connection, id: RunnerId) -> Result<Permit> {
        Ok(match self {
            Requester::Person(permit) => permit.clone(),
            Requester::Machine(_) => of_machine(connection, id, self.describe()).await?,
        })
    }
}

/// What an audit row takes of what a machine does by itself.
pub async fn of_machine(
    connection: &mut Connection,
    id: RunnerId,
    name: impl Into<String>,
) -> Result<Permit> {
    let owner = place::of_runner(connection, id).await?;
    Ok(Actor::named(ActorKind::Runner, name).at(owner))
}

/// Records the desired state of a runner, and changes its state accordingly.
pub async fn set_desired_state(
    app: &App,
    id: RunnerId,
    called: &str,
    desired_state: DesiredState,
    by: Requester<'_>,
) -> Result<Runner> {
    // Together: a poll that came between would bring the state in line, and give another reason.
    let changed = commit(app, async |connection| {
        let now = app.clock.now();
        let person = match by {
            Requester::Person(permit) => Some(permit.actor.name.clone()),
            Requester::Machine(_) => {
                let kept = runner::paused_by(connection, id).await?;
                if let Some(person) = kept
                    .as_ref()
                    .filter(|_| desired_state == DesiredState::Work)
                {
                    let message = format!(
                        "{person} has paused or drained {called}; its machine cannot undo that"
                    );
                    return Err(ServiceError::conflict(
                        "set-by-a-person",
                        "A person has set it",
                        message,
                    )
                    .remedy(format!("an operator can: pennine runner resume {called}")));
                }
                // What the machine asks for besides does not make it its own.
                kept
            }
        };
        let permit = by.permit(connection, id).await?;
        let by = &by.describe();
        if !runner::set_desired_state(connection, id, desired_state, person.as_deref(), now).await?
        {
            let message = format!("{called} has not joined yet, or is retired");
            return Err(ServiceError::conflict(
                "wrong-state",
                "The runner cannot do that",
                message,
            ));
        }
        let rows = runner::list(connection, Some(&[id])).await?;
        let seen = |slots| RunnerEvent::Seen {
            desired_state,
            used: 0,
            slots,
        };
        if let Some(row) = rows.first().filter(|row| row.state.is_connected())
            && let Ok(to) = row.state.after(seen(row.slots().max(1)))
        {
            let reason = format!("set by {by}: {desired_state}");
            runner::set_state(connection, id, row.state.0, to, &reason, now).await?;
        }
        let detail = json!({"desired_state": desired_state});
        let what = "runner.desired-state";
        audit::write(connection, now, &permit, what, called, detail).await?;
        one(connection, id).await
    })
    .await?;
    app.polls.notify(id);
    Ok(changed)
}

/// The most of each that people may set of one runner.
const MOST_SET: usize = 64;

/// The most bytes that a runner's variables may have.
const VARIABLE_BYTES: usize = 64 << 10;

/// The settings after a change.
fn changed_settings(
    old: &Overrides,
    change: &RunnerChange,
    by: &str,
    at: Moment,
) -> Result<Overrides> {
    fn put<T>(of: &mut BTreeMap<String, Override<T>>, name: String, value: Option<Override<T>>) {
        match value {
            Some(set) => of.insert(name, set),
            None => of.remove(&name),
        };
    }
    let mut new = old.clone();
    let by = || by.to_owned();
    if let Some(slots) = change.slots {
        if let Some(slots) = slots {
            check_slots(slots)?;
        }
        new.slots = slots.map(|value| Override {
            value,
            by: by(),
            at,
        });
    }
    for (label, has) in &change.labels {
        let label = check_labels("labels", std::slice::from_ref(label))?.concat();
        put(
            &mut new.labels,
            label,
            has.map(|value| Override {
                value,
                by: by(),
                at,
            }),
        );
    }
    for (name, value) in &change.facts {
        let name = name.to_lowercase();
        let value = value
            .as_ref()
            .map(|value| checked(&name, value))
            .transpose();
        let value = value.map_err(|wrong| ServiceError::invalid("facts", wrong.to_string()))?;
        put(
            &mut new.facts,
            name,
            value.map(|value| Override {
                value,
                by: by(),
                at,
            }),
        );
    }
    for (name, value) in &change.variables {
        check_variable("variables", name, value.as_deref().unwrap_or_default())?;
        let value = value.clone().map(|value| Override {
            value,
            by: by(),
            at,
        });
        put(&mut new.variables, name.clone(), value);
    }
    if let Some(paths) = &change.paths {
        let wrong = |path: &&String| {
            !path.starts_with('/') || path.contains([':', '\0']) || path.len() > 1000
        };
        if let Some(path) = paths.iter().flatten().find(wrong) {
            let message =
                format!("invalid folder {path:?}: it must begin with / and contain no colon");
            return Err(ServiceError::invalid("paths", message));
        }
        new.paths = paths.clone().map(|value| Override {
            value,
            by: by(),
            at,
        });
    }
    let paths = new.paths.as_ref().map_or(0, |set| set.value.len());
    let most = [
        new.labels.len(),
        new.facts.len(),
        new.variables.len(),
        paths,
    ];
    let bytes: usize = new
        .variables
        .iter()
        .map(|(name, set)| name.len() + set.value.len())
        .sum();
    if most.into_iter().max() > Some(MOST_SET) || bytes > VARIABLE_BYTES {
        let message = format!("at most {MOST_SET} overrides of each kind, and 64 KiB of variables");
        return Err(ServiceError::invalid("variables", message));
    }
    Ok(new)
}

/// Change a runner: its name, description, slots, labels, facts, variables and folders for programs. Where jobs would be
/// left that nothing can run, it is refused with who they are, unless told to go on.
pub async fn change(
    app: &App,
    who: &Principal,
    text: &str,
    change: RunnerChange,
    expected: &ExpectedVersion,
) -> Result<ChangedRunner> {
    let (changed, id) = commit(app, async |connection| {
        let id = find(connection, who, text).await?;
        let owner = place::of_runner(connection, id).await?;
        let permit = who.require(Action::ManageRunner, &owner)?;
        lock_for_change(connection, "runner", &id.to_string()).await?;
        let before = Yard::read(connection, app.clock.now()).await?;
        let mut next = in_yard(&before, id, text)?;
        expected
            .check(connection, &next, "runner.change", text)
            .await?;
        let now = app.clock.now();
        if let Some(name) = &change.name {
            check_name("name", name)?;
            next.name.clone_from(name);
        }
        if let Some(description) = &change.description {
            check_description(description)?;
            next.description.clone_from(description);
        }
        let settings = changed_settings(&next.settings.0, &change, &who.name, now)?;
        let laid = settings.over(&next.reported.0);
        next.slots = i32::try_from(laid.slots).unwrap_or(i32::MAX);
        next.labels = laid.labels;
        next.facts = Jsonb(laid.facts);
        next.settings = Jsonb(settings);
        let after = before.with_runner(id, Some(next.clone()));
        let losses = views::pools::stranded::between(connection, &before, &after, now).await?;
        if !change.preview {
            if !change.accept_losses {
                views::pools::stranded::refuse(&losses, &next.name)?;
            }
            write_change(connection, &permit, text, &next, &change, now).await?;
        }
        let executing = runner::executing(connection).await?;
        let changed = ChangedRunner {
            runner: shown(&next, &executing),
            done: !change.preview,
            losses,
            ends: Vec::new(),
        };
        Ok((changed, id))
    })
    .await?;
    if changed.done {
        app.runner_cache.runner_changed(id);
        app.polls.notify(id);
    }
    Ok(changed)
}

/// Writes a runner's change down, with its audit row.
async fn write_change(
    connection: &mut Connection,
    permit: &Permit,
    text: &str,
    next: &runner::Runner,
    change: &RunnerChange,
    now: Moment,
) -> Result<()> {
    let (name, description, settings) = (&next.name, &next.description, &next.settings.0);
    let id = next.id.0;
    match runner_facts::set_settings(connection, id, name, description, settings, now).await {
        Err(pennine_store::Error::Duplicate(_)) => {
            let message = format!("the pool {} has a runner named {name:?} already", next.pool);
            return Err(ServiceError::taken(message));
        }
        Ok(false) => return Err(retired(name)),
        other => other?,
    };
    let detail = json!(RunnerChange {
        preview: false,
        accept_losses: false,
        ..change.clone()
    });
    Ok(audit::write(connection, now, permit, "runner.change", text, detail).await?)
}

fn retired(name: &str) -> ServiceError {
    let message = format!("{name} is retired");
    ServiceError::conflict("wrong-state", "The runner cannot do that", message)
}

fn in_yard(yard: &Yard, id: RunnerId, called: &str) -> Result<runner::Runner> {
    let found = yard.runners.iter().find(|runner| runner.id.0 == id);
    found.cloned().ok_or_else(|| retired(called))
}

/// Retire a runner permanently; its record is kept. Refused while it executes jobs, unless the request ends them and
/// retries them elsewhere, and when jobs would remain that no runner can run, unless the request confirms that.
pub async fn retire(
    app: &App,
    who: &Principal,
    text: &str,
    retirement: Retirement,
) -> Result<ChangedRunner> {
    let id = find(&mut *app.store.people().await?, who, text).await?;
    let permit = require(app, who, id).await?;
    retire_one(app, id, retirement, &permit).await
}

/// Retires a runner, from either end.
pub async fn retire_one(
    app: &App,
    id: RunnerId,
    retirement: Retirement,
    permit: &Permit,
) -> Result<ChangedRunner> {
    let mut connection = app.store.people().await?;
    let before = Yard::read(&mut connection, app.clock.now()).await?;
    let row = in_yard(&before, id, &id.to_string())?;
    let now = app.clock.now();
    let losses = views::pools::stranded::between(
        &mut connection,
        &before,
        &before.with_runner(id, None),
        now,
    )
    .await?;
    let executing = runner::executing(&mut connection).await?;
    let ends = shown(&row, &executing).executing;
    if !retirement.preview {
        if let Some(first) = ends.first().filter(|_| !retirement.force) {
            let more = match ends.len() {
                1 => String::new(),
                jobs => format!(" and {} more", jobs - 1),
            };
            let message = format!("{} has {} {:?}{more}", row.name, first.job, first.title);
            return Err(ServiceError::conflict("runner-has-jobs", "The runner has jobs", message).remedy(
                "drain it first and retire it once it has none; or use force: its jobs end and are retried elsewhere",
            ));
        }
        if !retirement.accept_losses {
            views::pools::stranded::refuse(&losses, &row.name)?;
        }
        let reason = format!("{} retired it", permit.actor.name);
        let detail = json!({"force": retirement.force, "jobs": ends.len()});
        commit(app, async |connection| {
            if !runner::retire(connection, id, &reason, now).await? {
                return Err(retired(&row.name));
            }
            Ok(audit::write(connection, now, permit, "runner.retire", &row.name, detail).await?)
        })
        .await?;
        app.runner_cache.runner_gone(id);
        app.polls.notify(id);
    }
    let rows = runner::list(&mut connection, Some(&[id])).await?;
    let row = rows.first().unwrap_or(&row);
    Ok(ChangedRunner {
        runner: shown(row, &executing),
        done: !retirement.preview,
        losses,
        ends,
    })
}
