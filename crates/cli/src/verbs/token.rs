//! `pennine token`.

use super::place_argument::PlaceArgument;
use super::yard::remind;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::ThingKind;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::access::{Purpose, Role, place_name};
use pennine_core::time::{Micros, Moment, spoken};
use pennine_wire::{MadeToken, NewToken, Token, TokenChange, TokenRotation};

#[derive(Subcommand)]
pub enum Verb {
    /// Add a token and show its secret, once.
    Add {
        /// Its name.
        name: String,
        /// What it may do: viewer, submitter, operator or admin.
        #[arg(long)]
        role: Role,
        #[command(flatten)]
        place: PlaceArgument,
        /// A limit beside its role: runner-tickets, submit, read or metrics.
        #[arg(long = "for", value_name = "PURPOSE")]
        purpose: Option<Purpose>,
        /// How long it is valid: 12h, 30d [default: 90d]
        #[arg(long, alias = "expires", value_name = "TIME", value_parser = view::micros_of)]
        valid_for: Option<Micros>,
    },
    /// List the tokens that you manage, and your own. Secrets are not shown again.
    List {
        /// Only tokens whose name, role, place or purpose contains this.
        #[arg(long, value_name = "TEXT")]
        search: Option<String>,
    },
    /// Change what a token permits, or how long it is valid. Its secret stays.
    Set {
        /// Its name.
        name: String,
        /// What it may do: viewer, submitter, operator or admin.
        #[arg(long)]
        role: Option<Role>,
        /// The team or project, with everything below it; "" for the whole installation.
        #[arg(long, value_name = "PLACE")]
        at: Option<String>,
        /// A limit beside its role: runner-tickets, submit, read, metrics, or none.
        #[arg(long = "for", value_name = "PURPOSE", value_parser = purpose_or_none)]
        purpose: Option<PurposeChange>,
        /// How long it is valid since its last rotation: 12h, 30d.
        #[arg(long, alias = "expires", value_name = "TIME", value_parser = view::micros_of)]
        valid_for: Option<Micros>,
    },
    /// Give a token another secret and show it, once. The present one stays valid for a while.
    Rotate {
        /// Its name.
        name: String,
        /// How long the present secret stays valid: 1h, 7d, 0s [default: 1d]
        #[arg(long, value_name = "TIME", value_parser = view::micros_of)]
        overlap: Option<Micros>,
        /// How long the token is valid from now [default: as long as before]
        #[arg(long, alias = "expires", value_name = "TIME", value_parser = view::micros_of)]
        valid_for: Option<Micros>,
    },
    /// Revoke a token: it is refused from now on.
    Revoke {
        /// Its name.
        name: String,
    },
}

/// The purpose of a token, or that it has none.
#[derive(Clone, Copy)]
pub struct PurposeChange(Option<Purpose>);

fn purpose_or_none(text: &str) -> Result<PurposeChange, String> {
    match text {
        "none" => Ok(PurposeChange(None)),
        text => text.parse().map(|purpose| PurposeChange(Some(purpose))),
    }
}

/// `pennine token`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Add {
            name,
            role,
            place,
            purpose,
            valid_for,
        } => {
            let new = NewToken {
                name,
                role,
                place: place.at,
                purpose,
                lifetime_us: valid_for,
                is_own: false,
            };
            let made = client.add_token(&new).await?;
            print_secret(json, "Added", &made)
        }
        Verb::Rotate {
            name,
            overlap,
            valid_for,
        } => {
            let rotation = TokenRotation {
                overlap_us: overlap,
                lifetime_us: valid_for,
            };
            let made = client.rotate_token(&name, &rotation).await?;
            print_secret(json, "Rotated", &made)
        }
        Verb::Revoke { name } => {
            let revoked = client.revoke_token(&name).await?;
            if json {
                return view::json(&revoked);
            }
            view::line(format!(
                "Revoked {}: it is refused from now on, by other replicas within a second.",
                revoked.name
            ))
        }
        Verb::Set {
            name,
            role,
            at,
            purpose,
            valid_for,
        } => {
            let change = TokenChange {
                role,
                place: at,
                purpose: purpose.map(|change| change.0),
                lifetime_us: valid_for,
            };
            let token = client.change_token(&name, &change).await?;
            remind(client, ThingKind::Token, &name).await;
            if json {
                return view::json(&token);
            }
            let valid = token.expires_at.map(|at| {
                let time = spoken(at.since(token.renewed_at));
                format!("; valid for {time} from its last rotation")
            });
            view::line(format!(
                "Changed {}{}.",
                described(&token),
                valid.unwrap_or_default()
            ))
        }
        Verb::List { search } => {
            let tokens = client.tokens(search.as_deref()).await?;
            if json {
                return view::json(&tokens);
            }
            let now = client.status().await?.now;
            view::print(&table(&tokens.items, now))
        }
    }
}

fn print_secret(json: bool, done: &str, made: &MadeToken) -> Result<(), Error> {
    if json {
        return view::json(made);
    }
    let token = &made.token;
    let after = |at: Moment| spoken(at.since(token.renewed_at));
    let expires = match token.expires_at {
        Some(at) => format!("expires in {}", after(at)),
        None => "never expires".to_owned(),
    };
    let previous = match token.previous_until {
        Some(at) => format!(" The previous secret expires in {}.", after(at)),
        None => String::new(),
    };
    view::print(&format!(
        "{done} {}; {expires}.{previous} Its secret, which is not shown again:\n\n  {}\n",
        described(token),
        made.secret
    ))
}

/// A token with what it permits.
fn described(token: &Token) -> String {
    let limited = match token.purpose {
        Some(purpose) => format!(", limited to {purpose}"),
        None => String::new(),
    };
    format!(
        "the token {}: {} at {}{limited}",
        token.name,
        token.role,
        place_name(&token.place)
    )
}

fn table(tokens: &[Token], now: Moment) -> String {
    let rows = tokens.iter().map(|token| {
        let used = match (token.last_used_at, &token.last_used_from) {
            (None, _) => "never".to_owned(),
            (Some(at), None) => view::ago(at, now),
            (Some(at), Some(from)) => format!("{} from {from}", view::ago(at, now)),
        };
        vec![
            token.name.clone(),
            token.state.clone(),
            token.role.to_string(),
            place_name(&token.place).to_owned(),
            token.purpose.map(|one| one.to_string()).unwrap_or_default(),
            match token.expires_at {
                Some(at) if token.state != "revoked" => view::due(at, now),
                Some(_) => String::new(),
                None => "never".to_owned(),
            },
            used,
        ]
    });
    view::table(
        &[
            "token",
            "state",
            "role",
            "at",
            "for",
            "expires",
            "last used",
        ],
        rows,
    )
}
