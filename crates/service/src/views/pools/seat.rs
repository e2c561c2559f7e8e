//! Seats.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::settings_version::Versioned;
use crate::yard::Yard;
use pennine_core::id::ShortName;
use pennine_store::{Connection, seat};
use pennine_wire::{KeptSeats, Page, ReleasedSeats, Seat, SeatHolder};

/// A seat as the principal sees it: counted whole, with the holders of the projects that they see.
fn shown(who: &Principal, seat: &seat::Seat, yard: &Yard) -> Seat {
    let holdings = yard.holdings.iter();
    Seat {
        settings_version: seat.version(),
        name: seat.name.clone(),
        description: seat.description.clone(),
        count: seat.count.max(0).unsigned_abs(),
        taken: yard.taken(&seat.name),
        holders: holdings
            .filter(|holding| holding.name == seat.name && who.sees.includes(&holding.project))
            .map(|holding| SeatHolder {
                job: ShortName::Job.name(holding.job_number),
                project: holding.project.clone(),
                runner: holding.runner.clone(),
                count: u32::try_from(holding.count).unwrap_or(0),
                since: holding.since.0,
                taken_back: holding.back_at.map(|at| ReleasedSeats {
                    at: at.0,
                    by: holding.back_by.clone().unwrap_or_default(),
                    reason: holding.back_reason.clone().unwrap_or_default(),
                }),
            })
            .collect(),
        kept_back: seat
            .reserved_for
            .0
            .iter()
            .map(|claim| KeptSeats {
                job: match who.sees.is_whole() {
                    true => claim.name(),
                    false => String::new(),
                },
                count: claim.count,
            })
            .collect(),
    }
}

pub async fn one(
    app: &App,
    connection: &mut Connection,
    who: &Principal,
    name: &str,
) -> Result<Seat> {
    let yard = Yard::read(connection, app.clock.now()).await?;
    let found = yard.seats.iter().find(|seat| seat.name == name);
    found
        .map(|seat| shown(who, seat, &yard))
        .ok_or_else(|| ServiceError::unknown("seat", name))
}

/// The seats, and who has them.
pub async fn list(app: &App, who: &Principal) -> Result<Page<Seat>> {
    let mut connection = app.store.people().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    let items = yard.seats.iter().map(|seat| shown(who, seat, &yard));
    Ok(Page {
        items: items.collect(),
        next: None,
    })
}
