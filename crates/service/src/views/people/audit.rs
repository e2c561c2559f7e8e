//! The audit log.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use pennine_core::access::Action;
use pennine_core::time::{Micros, Moment};
use pennine_core::visibility::Visibility;
use pennine_store::audit::{self, Entry, Filter};
use pennine_wire::{AuditEntry, Page};
use serde::Deserialize;
use std::time::Duration;
use utoipa::IntoParams;

/// Entries on a page when not given, and at most.
const PAGE: u32 = 100;
const LARGEST_PAGE: u32 = 1000;
/// How far back a list goes when not given.
const USUAL: Duration = Duration::from_secs(7 * 86_400);

/// Which entries are asked for.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct AuditParams {
    /// A person, with own tokens, or a token, by name.
    by: Option<String>,
    /// A text that the subject's name contains.
    of: Option<String>,
    /// A kind of action, or the first part of one: `pool.change`, `pool`.
    what: Option<String>,
    /// The path of a team or project, with everything below it.
    place: Option<String>,
    /// How far back, in microseconds; a week when neither this nor `from` is given.
    last_us: Option<Micros>,
    /// From this moment on.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<Moment>,
    /// Until this moment; now when not given.
    #[param(value_type = Option<String>, format = DateTime)]
    until: Option<Moment>,
    /// The most entries.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
    /// Where the page before ended: its `next`.
    cursor: Option<String>,
}

fn shown(entry: Entry) -> AuditEntry {
    AuditEntry {
        id: entry.id,
        at: entry.at.0,
        who: entry.who,
        who_kind: entry.who_kind.0,
        address: entry.address,
        request: entry.request,
        place: entry.place,
        what: entry.what,
        subject: entry.subject,
        detail: entry.detail,
    }
}

/// The actions at the places where the principal reads the audit log, and the principal's own, the latest first.
///
/// # Errors
/// Invalid where a parameter is; unknown where the place is not visible.
pub async fn list(app: &App, who: &Principal, asked: AuditParams) -> Result<Page<AuditEntry>> {
    let now = app.clock.now();
    let until = asked.until.unwrap_or(now + Duration::from_secs(1));
    let last = asked.last_us.map_or(USUAL, Duration::from);
    let since = asked.from.unwrap_or(until - last);
    if since > until {
        return Err(ServiceError::invalid(
            "from",
            "the period ends before it begins",
        ));
    }
    let before = match &asked.cursor {
        None => i64::MAX,
        Some(text) => text
            .parse()
            .map_err(|_| ServiceError::invalid("cursor", "invalid cursor"))?,
    };
    let limit = asked.limit.unwrap_or(PAGE).clamp(1, LARGEST_PAGE);
    let mut connection = app.store.analysis().await?;
    let place = match asked.place.as_deref().unwrap_or_default() {
        "" => String::new(),
        path => {
            let kinds = ["team", "project"];
            let found =
                views::people::place::find(&mut connection, &who.sees, &kinds, "place", path);
            found.await.map_err(|error| error.field("place"))?.path
        }
    };
    let read = Visibility::of(&who.rights, Action::ReadAudit);
    let filter = Filter {
        since,
        until,
        by: asked.by.as_deref().filter(|by| !by.is_empty()),
        of: asked.of.as_deref().unwrap_or_default(),
        what: asked.what.as_deref().unwrap_or_default(),
        place: &place,
        visible: read.paths(),
        own: (&who.name, who.actor.kind),
        before,
        limit: i64::from(limit) + 1,
    };
    let mut rows = audit::list(&mut connection, filter).await?;
    let is_more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows
        .last()
        .filter(|_| is_more)
        .map(|last| last.id.to_string());
    Ok(Page {
        items: rows.into_iter().map(shown).collect(),
        next,
    })
}
