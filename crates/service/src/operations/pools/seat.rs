//! Seats.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::transaction::commit;
use crate::settings_version::ExpectedVersion;
use crate::validation::{check_name, check_reason};
use crate::views;
use crate::views::pools::seat::one;
use crate::yard::Yard;
use pennine_core::access::Action;
use pennine_core::id::ShortName;
use pennine_store::change_lock::lock_for_change;
use pennine_store::{Db, audit, seat, types};
use pennine_wire::{NewSeat, Seat, SeatChange, TakeBack};
use serde_json::json;

/// The most seats of one name.
const MOST: u32 = 100_000;

fn check_count(count: u32) -> Result<i32> {
    i32::try_from(count)
        .ok()
        .filter(|_| count <= MOST)
        .ok_or_else(|| ServiceError::invalid("count", format!("a seat's count is 0 to {MOST}")))
}

fn check_description(text: &str) -> Result<()> {
    match text.len() {
        0..=500 => Ok(()),
        _ => Err(ServiceError::invalid(
            "description",
            "a description has at most 500 bytes",
        )),
    }
}

/// Add a kind of seat.
pub async fn add(app: &App, who: &Principal, new: NewSeat) -> Result<Seat> {
    let permit = who.require(Action::ManageSeats, "")?;
    check_name("name", &new.name)?;
    check_description(&new.description)?;
    let row = seat::Seat {
        id: app.fresh_id(),
        name: new.name.clone(),
        description: new.description,
        count: check_count(new.count)?,
        created_at: Db(app.clock.now()),
        reserved_for: types::Json(Vec::new()),
    };
    commit(app, async |connection| {
        match seat::insert(connection, &row).await {
            Err(pennine_store::Error::Duplicate(_)) => {
                let message = format!("a seat {:?} already exists", new.name);
                return Err(ServiceError::taken(message));
            }
            other => other?,
        }
        let detail = json!({"count": row.count});
        let at = row.created_at.0;
        audit::write(connection, at, &permit, "seat.add", &row.name, detail).await?;
        one(app, connection, who, &new.name).await
    })
    .await
}

/// Change how many seats there are. Lowered under use they drain: nothing is ended.
pub async fn change(
    app: &App,
    who: &Principal,
    name: &str,
    change: SeatChange,
    expected: &ExpectedVersion,
) -> Result<Seat> {
    let permit = who.require(Action::ManageSeats, "")?;
    commit(app, async |connection| {
        lock_for_change(connection, "seat", name).await?;
        let rows = seat::list(connection).await?;
        let mut row = rows
            .into_iter()
            .find(|seat| seat.name == name)
            .ok_or_else(|| ServiceError::unknown("seat", name))?;
        expected
            .check(connection, &row, "seat.change", name)
            .await?;
        if let Some(count) = change.count {
            row.count = check_count(count)?;
        }
        if let Some(description) = &change.description {
            check_description(description)?;
            row.description.clone_from(description);
        }
        let at = app.clock.now();
        seat::set(connection, &row, at).await?;
        let detail = json!({"count": row.count});
        audit::write(connection, at, &permit, "seat.change", name, detail).await?;
        one(app, connection, who, name).await
    })
    .await
}

/// Take the seats of a stuck job back. It keeps its slot and goes on; who did it and why is kept.
pub async fn take_back(app: &App, who: &Principal, name: &str, from: TakeBack) -> Result<Seat> {
    let permit = who.require(Action::ManageSeats, "")?;
    check_reason(&from.reason)?;
    commit(app, async |connection| {
        let job = views::jobs::job::find(connection, who, &from.job).await?;
        let holder = Yard::read(connection, app.clock.now())
            .await?
            .holdings
            .into_iter()
            .find(|holding| holding.job_number == job.number && holding.name == name);
        let at = app.clock.now();
        let taken = match &holder {
            Some(holder) => {
                seat::take_back(connection, holder.attempt.0, &who.name, &from.reason, at).await?
            }
            None => false,
        };
        if !taken {
            let message = format!(
                "{} holds no {name} seat now",
                ShortName::Job.name(job.number)
            );
            return Err(ServiceError::conflict(
                "wrong-state",
                "No seat to take back",
                message,
            ));
        }
        let detail = json!({"job": ShortName::Job.name(job.number), "reason": from.reason});
        audit::write(connection, at, &permit, "seat.take-back", name, detail).await?;
        one(app, connection, who, name).await
    })
    .await
}
