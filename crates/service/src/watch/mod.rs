//! Watches for what somebody should be told of. The leader looks at everything now and then ([`conditions`]), the core
//! decides what becomes of each alert, and the record and the feed are told.

mod conditions;

use crate::app::App;
use pennine_core::alert::{AlertKind, Patience, Step, step};
use pennine_store::connect::in_transaction;
use pennine_store::{Error, alert};
use std::time::{Duration, Instant};

/// How soon it is looked at first.
const SOON: Duration = Duration::from_secs(1);
/// It rests so many times as long as it took, so that it never takes more than a twentieth of the time.
const REST: u32 = 19;
/// However long it took, it rests no longer than this.
const LONGEST_REST: Duration = Duration::from_secs(120);

/// Watches for as long as this replica leads, until told to stop.
pub async fn keep(app: App) {
    let mut trouble = false;
    let every = Duration::from_secs(app.config.alerts.every_seconds);
    let mut rest = SOON;
    loop {
        tokio::select! {
            () = tokio::time::sleep(rest) => {}
            () = app.stop.cancelled() => return,
        }
        if !app.leads() {
            continue;
        }
        let begun = Instant::now();
        let looked = look(&app).await;
        rest = (begun.elapsed() * REST).clamp(every, every.max(LONGEST_REST));
        match looked {
            Ok(()) => trouble = false,
            Err(error) => {
                if !std::mem::replace(&mut trouble, true) {
                    tracing::warn!(%error, "nobody could look for what people should be told of; it is tried again");
                }
            }
        }
    }
}

fn patience(app: &App) -> Patience {
    let alerts = &app.config.alerts;
    let all = [
        (AlertKind::NoMatch, alerts.no_match_seconds),
        (AlertKind::SupplierFailing, alerts.supplier_seconds),
        (AlertKind::PoolFull, alerts.ceiling_minutes * 60),
        (AlertKind::MachinesIdle, alerts.idle_days * 86_400),
    ];
    let all = all.map(|(kind, seconds)| (kind, Duration::from_secs(seconds)));
    Patience(all.into())
}

/// Looks at everything once.
pub async fn look(app: &App) -> Result<(), Error> {
    let mut connection = app.store.get().await?;
    let now = app.clock.now();
    let conditions = conditions::all(app, &mut connection, now).await?;
    let open = alert::open(&mut connection).await?;
    let known: Vec<_> = open.iter().map(alert::Alert::open).collect();
    let steps = step(&known, conditions, &patience(app), now);
    in_transaction(&mut connection, async |connection| {
        for step in &steps {
            let before = match step {
                Step::Begin { .. } => None,
                Step::Hold { id, .. } | Step::Miss { id, .. } => {
                    open.iter().find(|alert| alert.id == *id)
                }
            };
            alert::take(connection, step, before, app.fresh_id(), now).await?;
        }
        Ok::<(), Error>(())
    })
    .await?;
    app.feed.kick();
    Ok(())
}
