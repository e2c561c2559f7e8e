//! `pennine group`.

use super::place_argument::PlaceArgument;
use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::access::{Role, place_name};
use pennine_core::time::Moment;
use pennine_wire::{GroupGrant, GroupGrantRemoval, NewGroupGrant};

#[derive(Subcommand)]
pub enum Verb {
    /// List the roles of groups at the places where you manage access.
    List,
    /// Give the people in a group a role at a place, instead of the one that the group had there.
    Grant {
        /// The group's name at the OpenID provider, as it is written there.
        group: String,
        /// What its people may do: viewer, submitter, operator or admin.
        #[arg(long)]
        role: Role,
        #[command(flatten)]
        place: PlaceArgument,
    },
    /// Take the role of a group at a place away.
    Revoke {
        /// The group's name at the OpenID provider.
        group: String,
        #[command(flatten)]
        place: PlaceArgument,
    },
}

/// `pennine group`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List => {
            let grants = client.group_grants().await?;
            if json {
                return view::json(&grants);
            }
            let now = client.status().await?.now;
            view::print(&table(&grants.items, now))
        }
        Verb::Grant { group, role, place } => {
            let new = NewGroupGrant {
                group,
                role,
                place: place.at,
            };
            let granted = client.grant_to_group(&new).await?;
            if json {
                return view::json(&granted);
            }
            view::line(format!(
                "The people in {} are {} at {}, from their next sign-in at the latest.",
                granted.group,
                granted.role,
                place_name(&granted.place)
            ))
        }
        Verb::Revoke { group, place } => {
            let removal = GroupGrantRemoval {
                group,
                place: place.at,
            };
            client.revoke_from_group(&removal).await?;
            if json {
                return view::json(&removal);
            }
            view::line(format!(
                "Revoked the role of {} at {}.",
                removal.group,
                place_name(&removal.place)
            ))
        }
    }
}

fn table(grants: &[GroupGrant], now: Moment) -> String {
    if grants.is_empty() {
        return "No groups have roles. Grant one with: pennine group grant GROUP --role ROLE --at PLACE\n".to_owned();
    }
    let rows = grants.iter().map(|one| {
        vec![
            one.group.clone(),
            one.role.to_string(),
            place_name(&one.place).to_owned(),
            format!("{} by {}", view::ago(one.granted_at, now), one.granted_by),
        ]
    });
    view::table(&["group", "role", "at", "granted"], rows)
}
