//! `pennine person`.

use super::place_argument::PlaceArgument;
use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_client::Client;
use pennine_core::access::{Grant, Role, place_name};
use pennine_core::time::{Moment, spoken};
use pennine_wire::{GrantRemoval, MadeLink, NewLink, NewPerson, Person, PersonChange};

#[derive(Subcommand)]
pub enum Verb {
    /// Add a person with a first role, and show the link with which the person sets a password.
    Add {
        /// What the person signs in with: letters, digits, -, _ and .
        name: String,
        /// The person's name for others: 'Mira Tveit'.
        #[arg(long, value_name = "TEXT", default_value = "")]
        full_name: String,
        /// What the person may do: viewer, submitter, operator or admin.
        #[arg(long)]
        role: Role,
        #[command(flatten)]
        place: PlaceArgument,
    },
    /// List you and the people who have a role at a place where you manage access.
    List,
    /// Show one person.
    Show {
        /// The name with which the person signs in.
        name: String,
    },
    /// Give a person a role at a place, instead of the one that the person had there.
    Grant {
        /// The name with which the person signs in.
        name: String,
        /// What the person may do: viewer, submitter, operator or admin.
        #[arg(long)]
        role: Role,
        #[command(flatten)]
        place: PlaceArgument,
    },
    /// Take the role of a person at a place away.
    Revoke {
        /// The name with which the person signs in.
        name: String,
        #[command(flatten)]
        place: PlaceArgument,
    },
    /// Say whether a person may do something at a place, and by which role.
    Why {
        /// The name with which the person signs in.
        name: String,
        /// An action, by its word in docs/access.md: submit-job, manage-pool.
        action: String,
        #[command(flatten)]
        place: PlaceArgument,
    },
    /// Make a link with which a person sets another password. Earlier links are no longer valid.
    Link {
        /// The name with which the person signs in.
        name: String,
        /// Remove the second factor, too, for a person who has lost it.
        #[arg(long)]
        remove_second_factor: bool,
    },
    /// Change a person's name for others, or who the person is at the OpenID provider.
    Set {
        /// The name with which the person signs in.
        name: String,
        /// The person's name for others: 'Mira Tveit'.
        #[arg(long, value_name = "TEXT", required_unless_present = "subject")]
        full_name: Option<String>,
        /// The provider's name for the person (sub), with which the person then signs in; empty takes that away.
        #[arg(long, value_name = "TEXT")]
        subject: Option<String>,
    },
    /// Disable an account: the person's sign-ins and tokens are refused from now on. What the person did stays on record.
    Disable {
        /// The name with which the person signs in.
        name: String,
    },
    /// Enable a disabled account.
    Enable {
        /// The name with which the person signs in.
        name: String,
    },
}

/// `pennine person`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Add {
            name,
            full_name,
            role,
            place,
        } => {
            let new = NewPerson {
                name,
                full_name,
                role,
                place: place.at,
            };
            let now = client.status().await?.now;
            print_link(json, now, "Added", &client.add_person(&new).await?)
        }
        Verb::Link {
            name,
            remove_second_factor,
        } => {
            let asked = NewLink {
                removes_second_factor: remove_second_factor,
            };
            let now = client.status().await?.now;
            let made = client.add_person_link(&name, &asked).await?;
            print_link(json, now, "Made a link for", &made)
        }
        Verb::List => {
            let people = client.people().await?;
            if json {
                return view::json(&people);
            }
            let now = client.status().await?.now;
            view::print(&table(&people.items, now))
        }
        Verb::Show { name } => {
            let person = client.person(&name).await?;
            print_person(client, json, &person).await
        }
        Verb::Grant { name, role, place } => {
            let grant = Grant {
                role,
                place: place.at,
            };
            let person = client.grant_role(&name, &grant).await?;
            print_person(client, json, &person).await
        }
        Verb::Revoke { name, place } => {
            let removal = GrantRemoval { place: place.at };
            let person = client.revoke_role(&name, &removal).await?;
            print_person(client, json, &person).await
        }
        Verb::Why {
            name,
            action,
            place,
        } => {
            let found = client.permission(&name, &action, &place.at).await?;
            if json {
                return view::json(&found);
            }
            view::line(found.message)
        }
        Verb::Set {
            name,
            full_name,
            subject,
        } => {
            let change = PersonChange {
                full_name,
                subject,
                disabled: None,
            };
            let person = client.change_person(&name, &change).await?;
            print_person(client, json, &person).await
        }
        Verb::Disable { name } => set_disabled(client, json, &name, true).await,
        Verb::Enable { name } => set_disabled(client, json, &name, false).await,
    }
}

async fn set_disabled(
    client: &Client,
    json: bool,
    name: &str,
    disabled: bool,
) -> Result<(), Error> {
    let change = PersonChange {
        disabled: Some(disabled),
        ..PersonChange::default()
    };
    let person = client.change_person(name, &change).await?;
    if json {
        return view::json(&person);
    }
    view::line(if disabled {
        format!(
            "Disabled {}: sign-ins and own tokens are refused from now on, by other replicas within a second.",
            person.name
        )
    } else {
        format!("Enabled {}.", person.name)
    })
}

fn print_link(json: bool, now: Moment, done: &str, made: &MadeLink) -> Result<(), Error> {
    if json {
        return view::json(made);
    }
    let person = &made.person;
    view::print(&format!(
        "{done} {}: {}. The person sets a password with this link, once, within {}. It is not shown again:\n\n  {}\n",
        person.name,
        roles(person),
        spoken(made.expires_at.since(now)),
        made.link
    ))
}

fn roles(person: &Person) -> String {
    let grants = person.grants.iter();
    let grants: Vec<String> = grants
        .map(|grant| format!("{} at {}", grant.role, place_name(&grant.place)))
        .collect();
    match grants.as_slice() {
        [] => "no role".to_owned(),
        grants => grants.join(", "),
    }
}

async fn print_person(client: &Client, json: bool, person: &Person) -> Result<(), Error> {
    if json {
        return view::json(person);
    }
    let now = client.status().await?.now;
    let named = match person.full_name.as_str() {
        "" => String::new(),
        full_name => format!(" ({full_name})"),
    };
    let state = match (&person.disabled_by, person.disabled_at) {
        (Some(by), Some(at)) => format!("disabled {} by {by}", view::ago(at, now)),
        _ => person.state.clone(),
    };
    let signed_in = match person.signed_in_at {
        None => "never".to_owned(),
        Some(at) => view::ago(at, now),
    };
    let mut provider = String::new();
    if let Some(subject) = &person.subject {
        provider += &format!("  at the provider  {subject}\n");
    }
    if !person.groups.is_empty() {
        let grants = person.group_grants.iter();
        let grants: Vec<String> = grants
            .map(|grant| format!("{} at {}", grant.role, place_name(&grant.place)))
            .collect();
        let roles = match grants.as_slice() {
            [] => "no roles".to_owned(),
            grants => grants.join(", "),
        };
        provider += &format!("  groups           {}: {roles}\n", person.groups.join(", "));
    }
    let second = if person.has_second_factor {
        "on"
    } else {
        "off"
    };
    view::print(&format!(
        "{}{named}: {}\n  state            {state}\n  second factor    {second}\n  signed in        {signed_in}\n  added            {} by {}\n{provider}",
        person.name,
        roles(person),
        view::ago(person.created_at, now),
        person.created_by
    ))
}

fn table(people: &[Person], now: Moment) -> String {
    let rows = people.iter().map(|person| {
        vec![
            person.name.clone(),
            person.full_name.clone(),
            person.state.clone(),
            roles(person),
            if person.has_second_factor {
                "on"
            } else {
                "off"
            }
            .to_owned(),
            match person.signed_in_at {
                None => "never".to_owned(),
                Some(at) => view::ago(at, now),
            },
        ]
    });
    let heads = [
        "person",
        "name",
        "state",
        "roles",
        "second factor",
        "signed in",
    ];
    view::table(&heads, rows)
}
