//! A project's own view: the pools that it may use, and whom to ask for the others.

use super::place::{find, shown};
use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use crate::yard::{Yard, slots};
use pennine_core::access::{Action, Role, place_name};
use pennine_core::dispatch::{PoolAccess, PoolView, RunnerView};
use pennine_core::fact::FactValue;
use pennine_core::id::PoolId;
use pennine_core::requirement::Requirement;
use pennine_core::size::ByteSize;
use pennine_store::{Connection, person, strand};
use pennine_wire::{OtherPool, ProjectPool, ProjectView};
use std::collections::{BTreeMap, BTreeSet};

/// People named at most.
const NAMED: i64 = 5;
/// Values of a fact that are listed; of more, the first and the last.
const LISTED: usize = 3;

/// One project with its pools.
///
/// # Errors
/// Unknown where the project cannot be seen.
pub async fn show(app: &App, who: &Principal, name: &str) -> Result<ProjectView> {
    let mut connection = app.store.people().await?;
    let project = find(&mut connection, &who.sees, &["project"], "project", name).await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let path = project.path.clone();
    let waiting = waiting(app, &mut connection, &yard, &path).await?;
    let mut view = ProjectView {
        project: shown(project, yard.held(&path)),
        pools: Vec::new(),
        out_of_reach: Vec::new(),
        waiting: waiting.all,
    };
    for owned in yard.pools.iter().filter(|owned| who.sees_pool(owned)) {
        let pool = owned.view();
        let (access, by) = pool.access(&path);
        let description = owned.pool.description.clone();
        let labels = owned.pool.labels.clone();
        if access == PoolAccess::OutOfReach {
            view.out_of_reach.push(OtherPool {
                ask: whom_to_ask(&mut connection, Action::ManagePool, &pool).await?,
                pool: pool.name,
                description,
                labels,
            });
            continue;
        }
        let runners = yard
            .runners
            .iter()
            .filter(|runner| runner.pool_id == owned.pool.id);
        let (slots, free) = slots(runners);
        let ask = match access {
            PoolAccess::NeedsApproval => {
                whom_to_ask(&mut connection, Action::ApproveUse, &pool).await?
            }
            _ => String::new(),
        };
        view.pools.push(ProjectPool {
            description,
            access,
            by: by.unwrap_or_default().to_owned(),
            labels,
            machines: machines(&yard, &pool),
            slots,
            free,
            waiting: waiting.by_pool.get(&pool.id).copied().unwrap_or_default(),
            ask,
            pool: pool.name,
        });
    }
    Ok(view)
}

/// The waiting jobs of a project.
#[derive(Default)]
struct Waiting {
    all: u64,
    /// The ones that a pool could run, by pool; a job counts in each.
    by_pool: BTreeMap<PoolId, u64>,
}

async fn waiting(
    app: &App,
    connection: &mut Connection,
    yard: &Yard,
    path: &str,
) -> Result<Waiting> {
    let mut waiting = Waiting::default();
    for used in strand::used_since(connection, app.clock.now()).await? {
        let jobs = used.waiting.max(0).unsigned_abs();
        if used.project != path || jobs == 0 {
            continue;
        }
        waiting.all += jobs;
        let Ok(requirement) = used.key.0.requirement.parse::<Requirement>() else {
            continue;
        };
        for pool in yard.able(&requirement).into_keys() {
            *waiting.by_pool.entry(pool).or_default() += jobs;
        }
    }
    Ok(waiting)
}

/// Whom to ask for something at the pool's owner, as a sentence.
async fn whom_to_ask(
    connection: &mut Connection,
    action: Action,
    pool: &PoolView,
) -> Result<String> {
    let role = action.role();
    let roles: Vec<Role> = Role::ALL
        .iter()
        .copied()
        .filter(|one| *one >= role)
        .collect();
    let people = person::with_role_at(connection, &roles, &pool.owner, NAMED).await?;
    let place = place_name(&pool.owner);
    Ok(match people.as_slice() {
        [] => format!("an {role} of {place}"),
        people => format!("an {role} of {place}: {}", people.join(", ")),
    })
}

/// What a pool's machines are: joined ones, or the ones that it would make.
fn machines(yard: &Yard, pool: &PoolView) -> Vec<String> {
    let joined: Vec<&RunnerView> = yard
        .joined()
        .filter(|(_, of)| of.id == pool.id)
        .map(|(runner, _)| runner)
        .collect();
    let made = pool.makes.as_ref().filter(|_| joined.is_empty());
    let subjects = || {
        let joined = joined.iter().map(|runner| &runner.subject);
        joined.chain(made)
    };
    let values = |name: &str| -> Vec<String> {
        let found = subjects().filter_map(|subject| subject.fact(name));
        let mut counts: BTreeSet<u64> = BTreeSet::new();
        let mut texts: BTreeSet<String> = BTreeSet::new();
        for value in found {
            match value {
                FactValue::Count(count) => drop(counts.insert(*count)),
                // Texts of a subject are in small letters; sizes are shown as they are written.
                FactValue::Text(text) => {
                    let size = text.parse::<ByteSize>().map(|size| size.to_string());
                    texts.insert(size.unwrap_or_else(|_| text.clone()));
                }
            }
        }
        counts.iter().map(u64::to_string).chain(texts).collect()
    };
    let range = |name: &str, unit: &str| {
        let all = values(name);
        let text = match all.as_slice() {
            [] => return None,
            few if few.len() <= LISTED => few.join(", "),
            [first, .., last] => format!("{first} to {last}"),
            _ => return None,
        };
        Some(format!("{text}{unit}"))
    };
    [
        range("os", ""),
        range("arch", ""),
        range("cores", " cores"),
        range("mem", " of memory"),
    ]
    .into_iter()
    .flatten()
    .collect()
}
