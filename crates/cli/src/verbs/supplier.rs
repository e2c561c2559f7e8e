//! `pennine supplier`.

use super::yard;
use crate::error::Error;
use crate::view;
use crate::yard_file::kind::ThingKind;
use clap::{Args, Subcommand};
use pennine_client::Client;
use pennine_core::capacity::Money;
use pennine_core::time::Moment;
use pennine_wire::{NewSupplier, Supplier, SupplierChange, SupplierCheck, SupplierChecked};
use std::collections::BTreeMap;
use std::io::Read;
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// List the suppliers.
    List,
    /// Show one supplier: its settings, its offer, its failures.
    Show {
        /// Its name.
        name: String,
    },
    /// Add a supplier.
    Add {
        /// Its name.
        name: String,
        /// What it is: local (processes on the service's host), engine (containers), command (a program of your own),
        /// standin-cloud.
        #[arg(long)]
        kind: String,
        #[command(flatten)]
        set: SupplierSettings,
    },
    /// Change a supplier. An empty setting or secret is removed.
    Set {
        /// Its name.
        name: String,
        #[command(flatten)]
        set: SupplierSettings,
    },
    /// Order a trial machine, wait for it to join, show its facts, and remove it.
    Check {
        /// Its name.
        name: String,
        /// What the trial machine is made from.
        #[arg(long, default_value = "", hide_default_value = true)]
        image: String,
        /// How large it is.
        #[arg(long, default_value = "", hide_default_value = true)]
        size: String,
        /// A supplier-specific setting, as NAME=VALUE; may be given several times.
        #[arg(long = "setting", value_name = "NAME=VALUE", value_parser = pair)]
        settings: Vec<(String, String)>,
    },
    /// Remove a supplier that no pool uses and that has no machines on record.
    Remove {
        /// Its name.
        name: String,
    },
}

#[derive(Args, Clone)]
pub struct SupplierSettings {
    /// A setting, as NAME=VALUE; may be given several times.
    #[arg(long = "setting", value_name = "NAME=VALUE", value_parser = pair)]
    settings: Vec<(String, String)>,
    /// A secret setting, stored encrypted, as NAME=FILE, or NAME=- for standard input; may be given several
    /// times.
    #[arg(long = "secret", value_name = "NAME=FILE", value_parser = pair)]
    secrets: Vec<(String, String)>,
    /// The most machines that it may make, instead of its own quota.
    #[arg(long, value_name = "N")]
    quota: Option<u32>,
    /// How long a machine may take to join before it is given up: 90s, 5m.
    #[arg(long, value_name = "TIME", value_parser = view::time)]
    boot_limit: Option<Duration>,
}

fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("use NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

/// Secrets from the files that were named.
fn secrets(named: Vec<(String, String)>) -> Result<BTreeMap<String, String>, Error> {
    let read = |(name, file): (String, String)| {
        let unreadable =
            |error: std::io::Error| Error::Usage(format!("the secret {name} in {file}: {error}"));
        let mut text = String::new();
        match file.as_str() {
            "" => {}
            "-" => {
                let stdin = std::io::stdin().lock();
                stdin
                    .take(100_000)
                    .read_to_string(&mut text)
                    .map_err(unreadable)?;
            }
            path => text = std::fs::read_to_string(path).map_err(unreadable)?,
        }
        let text = text.trim_end_matches(['\n', '\r']).to_owned();
        Ok((name, text))
    };
    named.into_iter().map(read).collect()
}

/// `pennine supplier`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::List => list(client, json).await,
        Verb::Show { name } => {
            let one = client.supplier(&name).await?;
            if json {
                return view::json(&one);
            }
            let now = client.status().await?.now;
            view::print(&shown(&one, now, &client.who().await?.currency))
        }
        Verb::Add { name, kind, set } => add(client, json, name, kind, set).await,
        Verb::Set { name, set } => change(client, json, &name, set).await,
        Verb::Check {
            name,
            image,
            size,
            settings,
        } => {
            let how = SupplierCheck {
                image,
                size,
                settings: settings.into_iter().collect(),
            };
            check(client, json, &name, how).await
        }
        Verb::Remove { name } => {
            client.remove_supplier(&name).await?;
            if json {
                return view::json(&serde_json::json!({"removed": name}));
            }
            view::line(format!("Removed the supplier {name}."))
        }
    }
}

async fn list(client: &Client, json: bool) -> Result<(), Error> {
    let all = client.suppliers().await?;
    if json {
        return view::json(&all);
    }
    if all.items.is_empty() {
        return view::line(
            "No suppliers yet. For machines on the service's own host: pennine supplier add here --kind local",
        );
    }
    let now = client.status().await?.now;
    view::print(&view::table(
        &["supplier", "kind", "machines", "pools", "status"],
        all.items.iter().map(|one| {
            vec![
                one.name.clone(),
                one.kind.clone(),
                machines(one),
                one.pools.join(", "),
                health_text(one, now),
            ]
        }),
    ))
}

async fn add(
    client: &Client,
    json: bool,
    name: String,
    kind: String,
    set: SupplierSettings,
) -> Result<(), Error> {
    let new = NewSupplier {
        name,
        kind,
        settings: set.settings.into_iter().collect(),
        secrets: secrets(set.secrets)?,
        quota: set.quota,
        boot_limit_us: set.boot_limit.map(Into::into),
    };
    let made = client.add_supplier(&new).await?;
    if json {
        return view::json(&made);
    }
    view::line(format!(
        "Added the supplier {0}. Test it with: pennine supplier check {0}",
        made.name
    ))
}

async fn change(
    client: &Client,
    json: bool,
    name: &str,
    set: SupplierSettings,
) -> Result<(), Error> {
    let change = SupplierChange {
        clear: Vec::new(),
        settings: set.settings.into_iter().collect(),
        secrets: secrets(set.secrets)?,
        quota: set.quota,
        boot_limit_us: set.boot_limit.map(Into::into),
    };
    let changed = client.change_supplier(name, &change).await?;
    yard::remind(client, ThingKind::Supplier, name).await;
    if json {
        return view::json(&changed);
    }
    view::line(format!("Changed the supplier {name}."))
}

async fn check(client: &Client, json: bool, name: &str, how: SupplierCheck) -> Result<(), Error> {
    if !json {
        view::line(format!(
            "Ordering a trial machine from {name}; this may take as long as its machines take to boot ..."
        ))?;
    }
    let checked = client.check_supplier(name, &how).await?;
    if json {
        return view::json(&checked);
    }
    view::print(&checked_text(&checked))?;
    if checked.well {
        Ok(())
    } else {
        Err(Error::Here("the supplier check failed".to_owned()))
    }
}

/// What a check found, step by step.
fn checked_text(checked: &SupplierChecked) -> String {
    let mut text = view::table(
        &["", "what", "took", "found"],
        checked.steps.iter().map(|step| {
            vec![
                if step.well { "well" } else { "BAD" }.to_owned(),
                step.what.clone(),
                view::length(step.took_us),
                step.message.clone(),
            ]
        }),
    );
    if !checked.facts.is_empty() {
        let facts: Vec<String> = checked
            .facts
            .iter()
            .map(|(name, value)| format!("{name} {value}"))
            .collect();
        text += &format!("\nFacts of its machines: {}\n", facts.join(", "));
    }
    if !checked.console.is_empty() {
        text += "\nConsole of the trial machine:\n";
        for line in checked.console.lines() {
            text += &format!("  {line}\n");
        }
    }
    text
}

fn machines(one: &Supplier) -> String {
    let quota = one
        .quota
        .into_iter()
        .chain(one.offer.as_ref().and_then(|offer| offer.quota))
        .min();
    match quota {
        Some(quota) => format!("{} of {quota}", one.machines),
        None => one.machines.to_string(),
    }
}

fn health_text(one: &Supplier, now: Moment) -> String {
    match (&one.failure, &one.offer) {
        (Some(failure), _) => format!(
            "FAILS since {}: {}; next try {}",
            view::ago(failure.since, now),
            view::cut(&failure.message, 60),
            view::due(failure.retry_at, now)
        ),
        (None, Some(_)) => "well".to_owned(),
        (None, None) => "not asked yet".to_owned(),
    }
}

fn shown(one: &Supplier, now: Moment, currency: &str) -> String {
    let mut text = format!(
        "{} ({}): {}\n  machines: {}; pools: {}\n",
        one.name,
        one.kind,
        health_text(one, now),
        machines(one),
        if one.pools.is_empty() {
            "none".to_owned()
        } else {
            one.pools.join(", ")
        }
    );
    for (name, value) in &one.settings {
        text += &format!("  {name} = {value}\n");
    }
    for name in &one.secrets {
        text += &format!("  {name}: secret\n");
    }
    if let Some(offer) = &one.offer {
        for (size, price) in &offer.sizes {
            let price = Money(price.0).in_currency(currency);
            text += &format!("  size {size}: {price} an hour\n");
        }
        if !offer.images.is_empty() {
            text += &format!("  images: {}\n", offer.images.join(", "));
        }
        if !offer.zones.is_empty() {
            text += &format!("  zones: {}\n", offer.zones.join(", "));
        }
        if !offer.message.is_empty() {
            text += &format!("  {}\n", offer.message);
        }
    }
    text
}
