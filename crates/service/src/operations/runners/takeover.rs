//! A scarce runner that many share: who is next, and taking it back.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::runners::attempts::lose;
use crate::operations::runners::runner::Requester;
use crate::operations::transaction::commit;
use crate::validation::check_reason;
use crate::{operations, views};
use pennine_core::id::{AttemptId, RunnerId};
use pennine_core::lifecycle::outcome::Loss;
use pennine_core::lifecycle::runner::DesiredState;
use pennine_store::{attempt, audit};
use pennine_wire::{ChangedRunner, TakeRunnerBack};
use serde_json::json;

/// Take over a runner from the jobs that it executes: they are ended and retried without counting a try, and the runner
/// is paused until it is resumed.
pub async fn take_back(
    app: &App,
    who: &Principal,
    text: &str,
    back: TakeRunnerBack,
) -> Result<ChangedRunner> {
    check_reason(&back.reason)?;
    let id = views::runners::runner::find(&mut *app.store.people().await?, who, text).await?;
    let permit = operations::runners::runner::require(app, who, id).await?;
    // Paused first, so that its jobs are not assigned to it again.
    let before = operations::runners::runner::set_desired_state(
        app,
        id,
        text,
        DesiredState::Pause,
        Requester::Person(&permit),
    )
    .await?;
    let mut ends = Vec::new();
    for one in attempts(app, id).await? {
        let loss = Loss {
            message: format!(
                "{} took {} back: {}",
                who.name.clone(),
                before.name,
                back.reason
            ),
            counts: false,
        };
        let lost = commit(app, async |connection| {
            let now = app.clock.now();
            let lost = lose(connection, None, one, &loss, None, now).await?;
            if lost {
                let detail = json!({"reason": back.reason, "attempt": one});
                let what = "runner.take-back";
                audit::write(connection, now, &permit, what, &before.name, detail).await?;
            }
            Ok(lost)
        });
        if lost.await? {
            app.runner_cache.over(id, one);
        }
        app.followed.notify(one);
    }
    ends.extend(before.executing.iter().cloned());
    app.polls.notify(id);
    let mut connection = app.store.people().await?;
    let runner = views::runners::runner::one(&mut connection, id).await?;
    Ok(ChangedRunner {
        runner,
        done: true,
        losses: Vec::new(),
        ends,
    })
}

async fn attempts(app: &App, runner: RunnerId) -> Result<Vec<AttemptId>> {
    let mut connection = app.store.people().await?;
    let open = attempt::for_runner(&mut connection, runner)
        .await
        .map_err(ServiceError::from)?;
    Ok(open.into_iter().map(|one| one.id.0).collect())
}
