//! Tickets.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::operations::pools::untrusted::refuse_standing;
use crate::operations::transaction::commit;
use crate::secret::{self, Purpose};
use crate::validation::{check_labels, check_name};
use crate::views;
use crate::views::runners::ticket::{find, shown};
use pennine_core::access::Action;
use pennine_core::id::{RunnerId, ShortName, TicketId};
use pennine_store::ticket::{self, NewTicket as Row};
use pennine_store::{audit, place};
use pennine_wire::{MadeTicket, NewTicket, Ticket};
use serde_json::json;
use sha2::{Digest, Sha256};
use std::time::Duration;

const HOUR: Duration = Duration::from_secs(3600);

/// The most machines that one ticket is for.
const MOST_USES: i32 = 1000;

const LONGEST: Duration = Duration::from_secs(30 * 86_400);

/// Checks what machines may be called: a name, with `*` for anything.
fn check_pattern(pattern: &str) -> Result<()> {
    // What is left must fit a name, wherever the stars stand.
    let plain = pattern.replace('*', "x");
    check_name("names", &plain).map_err(|_| {
        ServiceError::invalid(
            "names",
            format!(
                "invalid name pattern {pattern:?}: use letters, digits, -, _, . and * for anything"
            ),
        )
    })
}

/// Whether a name is as the pattern wants it.
pub fn named_so(pattern: &str, name: &str) -> bool {
    let mut parts = pattern.split('*');
    let first = parts.next().unwrap_or_default();
    let Some(mut rest) = name.strip_prefix(first) else {
        return false;
    };
    let mut parts: Vec<&str> = parts.collect();
    let Some(last) = parts.pop() else {
        return rest.is_empty();
    };
    for part in parts {
        let Some((_, after)) = rest.split_once(part) else {
            return false;
        };
        rest = after;
    }
    rest.ends_with(last)
}

/// Make a ticket for a pool. The answer holds the secret, this once, and the command to run on the machine.
pub async fn add(app: &App, who: &Principal, name: &str, new: NewTicket) -> Result<MadeTicket> {
    let fetch = fetch_command(app).await;
    commit(app, async |connection| {
        let like = match &new.like {
            Some(like) => Some(
                find(connection, who, like)
                    .await
                    .map_err(|f| f.field("like"))?,
            ),
            None => None,
        };
        let like = like.as_ref();
        let lifetime = match (new.lifetime_us, like) {
            (Some(lifetime), _) => Duration::from(lifetime),
            (None, Some(like)) => like.expires_at.0.since(like.created_at.0),
            (None, None) => HOUR,
        };
        let uses = new
            .uses
            .or(like.map(|like| like.uses.max(0).unsigned_abs()));
        let uses = i32::try_from(uses.unwrap_or(1)).unwrap_or(i32::MAX);
        if !(1..=MOST_USES).contains(&uses) {
            let message = format!("a ticket is for 1 to {MOST_USES} machines");
            return Err(ServiceError::invalid("uses", message));
        }
        let names = new
            .names
            .as_deref()
            .or(like.map(|like| like.name_pattern.as_str()));
        let names = names.unwrap_or("*");
        check_pattern(names)?;
        let labels = match like {
            Some(like) if new.labels.is_empty() => like.labels.clone(),
            _ => check_labels("labels", &new.labels)?,
        };
        if lifetime.is_zero() || lifetime > LONGEST {
            return Err(ServiceError::invalid(
                "lifetime_us",
                "a ticket lasts more than 0 and at most 30 days",
            ));
        }
        let pool = views::pools::capacity::find(connection, who, name).await?;
        let permit = who.require(Action::ManageTickets, &pool.owner)?;
        refuse_standing(&pool)?;
        let secret = secret::fresh(Purpose::Ticket);
        let now = app.clock.now();
        let row = Row {
            id: TicketId(app.fresh_id()),
            pool: pool.pool.id.0,
            runner: RunnerId(app.fresh_id()),
            secret_hash: &secret::hash(&secret),
            by: &who.name,
            at: now,
            expires_at: now + lifetime,
            uses,
            name_pattern: names,
            labels: &labels,
        };
        let id = ticket::insert(connection, row).await?;
        let made = find(connection, who, &id.to_string()).await?;
        audit::write(
            connection,
            now,
            &permit,
            "ticket.add",
            &ShortName::Ticket.name(made.number),
            json!({"pool": name, "uses": uses, "names": names, "labels": labels}),
        )
        .await?;
        let command = format!(
            "pennine-runner join --server {} --ticket {secret}",
            app.public_url
        );
        let install = format!("{fetch} --ticket {secret}");
        Ok(MadeTicket {
            ticket: shown(&made, now),
            secret,
            install,
            command,
        })
    })
    .await
}

/// The command that fetches and runs join.sh. Where the service has a certificate authority of its own, which the machine may not
/// trust yet, the script is checked by its SHA-256, and brings the authority.
async fn fetch_command(app: &App) -> String {
    let url = &app.public_url;
    if app.authority.is_none() {
        return format!("curl -fsSL {url}/join.sh | sh -s --");
    }
    let sum = hex::encode(Sha256::digest(app.join_script().await));
    format!(
        "curl -fsSLk {url}/join.sh -o join.sh && echo '{sum}  join.sh' | sha256sum --check --quiet && sh join.sh"
    )
}

/// Revoke a ticket. Machines that have joined with it stay.
pub async fn revoke(app: &App, who: &Principal, text: &str) -> Result<Ticket> {
    commit(app, async |connection| {
        let found = find(connection, who, text).await?;
        let owner = place::of_pool(connection, found.pool_id.0).await?;
        let permit = who.require(Action::ManageTickets, &owner)?;
        let now = app.clock.now();
        if !ticket::revoke(connection, found.id.0, &who.name, now).await? {
            let message = format!("{text} is already {}", shown(&found, now).state);
            return Err(ServiceError::conflict(
                "wrong-state",
                "The ticket has ended",
                message,
            ));
        }
        let detail = json!({"pool": found.pool});
        audit::write(connection, now, &permit, "ticket.revoke", text, detail).await?;
        // Its runner's record, if it awaits one, is retired with the next upkeep.
        Ok(shown(&find(connection, who, text).await?, now))
    })
    .await
}

#[cfg(test)]
mod tests {
    use super::named_so;

    #[test]
    fn a_star_stands_for_anything() {
        for (pattern, name, fits) in [
            ("*", "fell-01", true),
            ("fell-*", "fell-01", true),
            ("fell-*", "loft-01", false),
            ("fell-01", "fell-01", true),
            ("fell-01", "fell-012", false),
            ("*-arm-*", "loft-arm-3", true),
            ("a*a", "a", false),
            ("a*b*c", "abbc", true),
            ("a*b*c", "acb", false),
        ] {
            assert_eq!(named_so(pattern, name), fits, "{pattern} {name}");
        }
    }
}
