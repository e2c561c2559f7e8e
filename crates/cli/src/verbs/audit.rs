//! `pennine audit`.

use super::trends::moment;
use crate::error::Error;
use crate::view;
use clap::Args;
use pennine_client::{AuditFilter, Client};
use pennine_core::access::{ActorKind, place_name};
use pennine_core::time::Moment;
use pennine_wire::AuditEntry;
use serde_json::Value;
use std::time::Duration;

/// The most entries of one page.
const PAGE: u32 = 1000;

#[derive(Args)]
pub struct AuditArguments {
    /// By this person, with own tokens, or by this token.
    #[arg(long, value_name = "NAME")]
    by: Option<String>,
    /// On subjects with this text in their name: a pool, j-4812, mira.
    #[arg(long, value_name = "TEXT")]
    of: Option<String>,
    /// Of this kind, or of all that begin with it: pool.change, pool, refused.
    #[arg(long, value_name = "KIND")]
    what: Option<String>,
    /// At this team or project, with everything below.
    #[arg(long, value_name = "PLACE")]
    at: Option<String>,
    /// Of this much time until now.
    #[arg(long, value_name = "TIME", value_parser = view::time, default_value = "7d", conflicts_with = "from")]
    last: Duration,
    /// From this moment: 2026-11-24T08:00:00Z.
    #[arg(long, value_name = "MOMENT", value_parser = moment)]
    from: Option<Moment>,
    /// Until this moment [default: now]
    #[arg(long, value_name = "MOMENT", value_parser = moment)]
    until: Option<Moment>,
    /// The most entries.
    #[arg(long, value_name = "N", default_value_t = 50)]
    limit: u32,
    /// Print comma-separated values instead of a table.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

/// `pennine audit`.
pub async fn run(client: &Client, json: bool, asked: AuditArguments) -> Result<(), Error> {
    let mut filter = AuditFilter {
        by: asked.by,
        of: asked.of,
        what: asked.what,
        place: asked.at,
        last_us: asked.from.is_none().then_some(asked.last.into()),
        from: asked.from,
        until: asked.until,
        ..AuditFilter::default()
    };
    let mut entries = Vec::new();
    let mut left = asked.limit;
    let is_more = loop {
        filter.limit = Some(left.min(PAGE));
        let page = client.audit(&filter).await?;
        left = left.saturating_sub(u32::try_from(page.items.len()).unwrap_or(u32::MAX));
        entries.extend(page.items);
        filter.cursor = page.next;
        if filter.cursor.is_none() || left == 0 {
            break filter.cursor.is_some();
        }
    };
    if json {
        return view::json(&entries);
    }
    if asked.csv {
        return view::print(&as_csv(&entries));
    }
    let now = client.status().await?.now;
    view::print(&table(&entries, now))?;
    if is_more {
        view::note(format!(
            "The latest {}. For more: --limit, or a narrower --by, --of, --what, --at or --last",
            entries.len()
        ));
    }
    Ok(())
}

/// Who did it, for people.
fn by(entry: &AuditEntry) -> String {
    match (entry.who_kind, entry.who.as_str()) {
        (_, "") => "not signed in".to_owned(),
        (ActorKind::Person, who) => who.to_owned(),
        (ActorKind::Service, who) => format!("service {who}"),
        (kind, who) => format!("{kind} {who}"),
    }
}

/// The values of a detail, each with its name.
fn detail(value: &Value) -> String {
    let Value::Object(fields) = value else {
        return match value {
            Value::Null => String::new(),
            other => other.to_string(),
        };
    };
    let said = fields.iter().filter_map(|(name, value)| {
        let name = name.replace('_', " ");
        match value {
            // What is not so is not worth a word.
            Value::Null | Value::Bool(false) => None,
            Value::Bool(true) => Some(name),
            Value::String(text) => Some(format!("{name} {text}")),
            other => Some(format!("{name} {other}")),
        }
    });
    let fields: Vec<String> = said.collect();
    fields.join(", ")
}

fn table(entries: &[AuditEntry], now: Moment) -> String {
    let rows = entries.iter().map(|entry| {
        vec![
            view::ago(entry.at, now),
            by(entry),
            entry.what.clone(),
            view::cut(&entry.subject, 28),
            place_name(&entry.place).to_owned(),
            view::cut(&detail(&entry.detail), view::roomy(30)),
        ]
    });
    let heads = ["when", "by", "what", "subject", "at", "detail"];
    view::table(&heads, rows)
}

fn as_csv(entries: &[AuditEntry]) -> String {
    let heads = [
        "id", "at", "who", "kind", "address", "request", "place", "what", "subject", "detail",
    ];
    let mut text = view::csv_line(&heads.map(str::to_owned));
    for entry in entries {
        text += &view::csv_line(&[
            entry.id.to_string(),
            entry.at.to_string(),
            entry.who.clone(),
            entry.who_kind.to_string(),
            entry.address.clone().unwrap_or_default(),
            entry.request.clone().unwrap_or_default(),
            entry.place.clone(),
            entry.what.clone(),
            entry.subject.clone(),
            entry.detail.to_string(),
        ]);
    }
    text
}
