//! A scarce runner that many share: who is next, and taking it back.

use crate::access::Principal;
use crate::app::App;
use crate::error::Result;
use crate::views;
use crate::views::dispatch_state;
use pennine_core::dispatch::{Event, RunnerView};
use pennine_core::id::{AttemptId, JobId, ShortName};
use pennine_core::lifecycle::runner::{DesiredState, RunnerState};
use pennine_store::job;
use pennine_store::maintenance::Calendar;
use pennine_wire::{NextJob, Page};

/// How many are named.
const NEXT: u128 = 5;

/// The jobs that would be next on a runner, in the order in which dispatch would give it to them if it became free now and
/// no other runner could: bands, shares, limits and seats as they are. Jobs that may not be seen are left out.
pub async fn next(app: &App, who: &Principal, text: &str) -> Result<Page<NextJob>> {
    let mut connection = app.store.people().await?;
    let id = views::runners::runner::find(&mut connection, who, text).await?;
    let now = app.clock.now();
    let calendar = Calendar::read(&mut connection, now).await?;
    // As if it alone were there: what dispatch would plan for it then, one slot after the other, is the answer.
    let mut only = None;
    let alone = |view: &mut RunnerView| {
        if view.id == id {
            (view.state, view.desired_state) = (RunnerState::Available, DesiredState::Work);
            only = Some(view.clone());
        } else {
            view.state = RunnerState::Offline;
        }
    };
    let (mut state, _) = dispatch_state::read(&mut connection, &calendar, now, alone).await?;
    let mut jobs: Vec<JobId> = Vec::new();
    if let Some(mut view) = only {
        view.slots = u32::try_from(state.used_by(id)).unwrap_or(0);
        for number in 1..=NEXT {
            view.slots += 1;
            state.apply(Event::Runner(Box::new(view.clone())), now);
            let plan = state.plan(now, &mut || AttemptId(uuid::Uuid::from_u128(number)));
            let Some(first) = plan.assignments.first() else {
                break;
            };
            jobs.push(first.job);
        }
    }
    let rows = job::with_ids(&mut connection, &jobs).await?;
    let shown = jobs
        .iter()
        .filter_map(|id| rows.iter().find(|row| row.id.0 == *id))
        .filter(|row| who.sees.includes(&row.project));
    let items = shown.map(|row| NextJob {
        job: ShortName::Job.name(row.number),
        title: row.title.clone(),
        project: row.project.clone(),
        requirement: row.requirement.clone(),
        waits_since: row
            .waits_since
            .or(row.ready_at)
            .map_or(row.created_at.0, |at| at.0),
    });
    Ok(Page {
        items: items.collect(),
        next: None,
    })
}
