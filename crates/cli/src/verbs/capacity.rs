//! `pennine capacity`, and what pools say of their machines.

use crate::error::Error;
use crate::values::{amount, during, during_text};
use crate::view;
use clap::{Args, Subcommand};
use pennine_client::{Client, DecisionFilter};
use pennine_core::capacity::{Money, Supply, Times, Week};
use pennine_core::dispatch::Price;
use pennine_core::fact::{FactValue, Facts};
use pennine_core::queue_sample::{LevelStep, QueueSample};
use pennine_core::time::spoken;
use pennine_wire::{CapacityDecision, Pool, Relief, SupplyChange};
use std::collections::BTreeMap;
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// The decisions about machines, with their reasons; newest last.
    Log {
        /// Only this pool.
        #[arg(long)]
        pool: Option<String>,
        /// Only decisions whose text contains this.
        #[arg(long, value_name = "TEXT")]
        search: Option<String>,
        /// How many.
        #[arg(long, value_name = "N", default_value_t = 30)]
        limit: usize,
    },
}

/// `pennine capacity`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<(), Error> {
    let Verb::Log {
        pool,
        search,
        limit,
    } = verb;
    let is_filtered = search.is_some();
    let filter = DecisionFilter { pool, search };
    let mut all = Vec::new();
    let mut cursor = None;
    while all.len() < limit {
        let page = client.decisions(&filter, cursor.as_deref()).await?;
        all.extend(page.items);
        cursor = page.next;
        if cursor.is_none() {
            break;
        }
    }
    all.truncate(limit);
    if json {
        return view::json(&all);
    }
    if all.is_empty() && is_filtered {
        return view::line("No decisions match.");
    }
    if all.is_empty() {
        return view::line(
            "No decisions yet. Give a pool a supplier with: pennine pool set POOL --supplier NAME",
        );
    }
    all.reverse();
    let now = client.status().await?.now;
    view::print(&view::table(
        &["when", "pool", "decision"],
        all.iter().map(|one| {
            vec![
                view::ago(one.at, now),
                one.pool.clone(),
                one.message.clone(),
            ]
        }),
    ))
}

/// Decisions as lines.
pub fn decisions(all: &[CapacityDecision]) -> String {
    all.iter()
        .map(|one| format!("  {}\n", one.message))
        .collect()
}

/// How a pool gets machines.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Machines")]
pub struct Supplied {
    /// Its supplier (pennine supplier list); empty for none: people add the machines.
    #[arg(long, value_name = "NAME")]
    supplier: Option<String>,
    /// The image of its machines, as the supplier names it.
    #[arg(long)]
    image: Option<String>,
    /// The size of its machines, as the supplier names it.
    #[arg(long)]
    size: Option<String>,
    /// A supplier-specific setting, as NAME=VALUE; may be given several times.
    #[arg(long = "setting", value_name = "NAME=VALUE", value_parser = pair)]
    settings: Vec<(String, String)>,
    /// The fewest machines.
    #[arg(long, value_name = "N")]
    floor: Option<u32>,
    /// The most machines.
    #[arg(long, value_name = "N")]
    ceiling: Option<u32>,
    /// Machines kept idle beyond demand.
    #[arg(long, value_name = "N")]
    spare: Option<u32>,
    /// How long an idle machine is kept: 5m, 1h.
    #[arg(long, value_name = "TIME", value_parser = view::time)]
    dwell: Option<Duration>,
    /// A machine takes one job and is replaced.
    #[arg(long, conflicts_with = "standing")]
    single_use: bool,
    /// A machine takes many jobs.
    #[arg(long)]
    standing: bool,
    /// How many jobs a machine takes at once.
    #[arg(long, value_name = "N")]
    slots: Option<u32>,
    /// The price of a machine per hour, if the supplier does not report it: 0.25.
    #[arg(long, value_name = "AMOUNT", value_parser = amount)]
    price: Option<u64>,
    /// The budget per day.
    #[arg(long, value_name = "AMOUNT", value_parser = amount)]
    day_budget: Option<u64>,
    /// The budget per month.
    #[arg(long, value_name = "AMOUNT", value_parser = amount)]
    month_budget: Option<u64>,
    /// A floor or spare for a part of the week, as 'mon-fri 08:00-18:00 floor=2 spare=1'; may be given several times,
    /// and empty for none.
    #[arg(long = "during", value_name = "TIMES", value_parser = during)]
    during: Vec<Option<Times>>,
    /// The time zone of these times and of the budgets: Europe/Dublin [default: UTC]
    #[arg(long, value_name = "ZONE")]
    zone: Option<String>,
    /// A fact of its machines, as NAME=VALUE, known before the first one joins; may be given several times.
    #[arg(long = "fact", value_name = "NAME=VALUE", value_parser = pair)]
    facts: Vec<(String, String)>,
    /// Clear a setting: price, day-budget, month-budget, or a supplier-specific setting's name.
    #[arg(long, value_name = "WHAT")]
    clear: Vec<String>,
}

fn pair(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("use NAME=VALUE")?;
    Ok((name.to_owned(), value.to_owned()))
}

impl Supplied {
    /// What is to change; nothing where nothing was given.
    pub fn change(self) -> Result<Option<SupplyChange>, Error> {
        let week = match (self.during.is_empty(), &self.zone) {
            (true, None) => None,
            (true, Some(_)) => {
                return Err(Error::Usage(
                    "--zone needs --during: repeat the times of the week".to_owned(),
                ));
            }
            (false, zone) => Some(Week {
                zone: zone.clone().unwrap_or_default(),
                times: self.during.iter().flatten().cloned().collect(),
            }),
        };
        let facts: Facts = self
            .facts
            .into_iter()
            .map(|(name, value)| {
                let value = match value.parse() {
                    Ok(count) => FactValue::Count(count),
                    Err(_) => FactValue::Text(value),
                };
                (name, value)
            })
            .collect();
        let change = SupplyChange {
            supplier: self.supplier,
            image: self.image,
            size: self.size,
            settings: self.settings.into_iter().collect::<BTreeMap<_, _>>(),
            floor: self.floor,
            ceiling: self.ceiling,
            spare: self.spare,
            dwell_us: self.dwell.map(Into::into),
            single_use: (self.single_use || self.standing).then_some(self.single_use),
            slots: self.slots,
            price: self.price.map(Price),
            day_budget: self.day_budget.map(Money),
            month_budget: self.month_budget.map(Money),
            week,
            facts: (!facts.is_empty()).then_some(facts),
            clear: self
                .clear
                .into_iter()
                .map(|name| match name.as_str() {
                    "day-budget" => "day_budget".to_owned(),
                    "month-budget" => "month_budget".to_owned(),
                    _ => name,
                })
                .collect(),
        };
        Ok((change != SupplyChange::default()).then_some(change))
    }
}

/// How a pool gets machines, in some lines.
pub fn standing(pool: &Pool, currency: &str) -> String {
    let (Some(supply), Some(standing)) = (&pool.supply, &pool.standing) else {
        return String::new();
    };
    let numbers = &standing.numbers;
    let kind = if supply.single_use {
        "single-use"
    } else {
        "standing"
    };
    let mut text = format!(
        "  machines from {}{}: {kind}, floor {}, spare {}, ceiling {}, kept {} idle\n",
        supply.supplier,
        made_of(supply),
        supply.floor,
        supply.spare,
        supply.ceiling,
        spoken(supply.dwell_us.into()),
    );
    for times in &supply.week.times {
        let zone = match supply.week.zone.as_str() {
            "" => "UTC",
            zone => zone,
        };
        text += &format!("    {} ({zone})\n", during_text(times));
    }
    if standing.price.0 > 0 {
        let budget = [
            (supply.budget.day, "a day"),
            (supply.budget.month, "a month"),
        ];
        let budget: String = budget
            .into_iter()
            .filter_map(|(limit, each)| {
                Some(format!(", at most {} {each}", limit?.in_currency(currency)))
            })
            .collect();
        let price = Money(standing.price.0).in_currency(currency);
        text += &format!("    {price} an hour each{budget}\n");
    }
    text += &format!(
        "  {} busy, {} idle, {} coming, {} leaving, {} being removed\n",
        numbers.busy, numbers.idle, numbers.coming, numbers.leaving, numbers.releasing
    );
    if let Some(short) = &standing.short {
        text += &format!("  CANNOT ORDER MACHINES: {short}\n");
    } else if !standing.known {
        text += "  the facts of its machines are unknown until the first one joins\n";
    }
    text
}

fn made_of(supply: &Supply) -> String {
    let parts: Vec<&str> = [&supply.image, &supply.size]
        .into_iter()
        .filter(|part| !part.is_empty())
        .map(String::as_str)
        .collect();
    if parts.is_empty() {
        String::new()
    } else {
        format!(" ({})", parts.join(", "))
    }
}

/// A pool's demand and machines over the last minutes, and the last decisions.
pub async fn watched(client: &Client, name: &str) -> Result<String, Error> {
    let pool = client.pool(name).await?;
    let relief = client.relief(name, 10).await?;
    let currency = client.who().await?.currency;
    let mut text = format!("{}\n{}\n", relief.answer, standing(&pool, &currency));
    text += &relief_chart(&relief);
    let mut last: Vec<CapacityDecision> = relief.decisions.iter().take(10).cloned().collect();
    last.reverse();
    if !last.is_empty() {
        text += "\n";
        text += &view::table(
            &["when", "decision"],
            last.iter()
                .map(|one| vec![view::ago(one.at, relief.now), one.message.clone()]),
        );
    }
    Ok(text)
}

/// How wide and high the drawing is.
const COLUMNS: usize = 80;
const ROWS: u32 = 10;

/// The relief in characters: what executes, what is idle, what is coming, and the demand above or within.
fn relief_chart(relief: &Relief) -> String {
    let columns: Vec<QueueSample> = (0..COLUMNS)
        .map(|column| {
            let from = relief.window_us.0 - relief.window_us.0 * column as u64 / COLUMNS as u64;
            let until =
                relief.window_us.0 - relief.window_us.0 * (column as u64 + 1) / COLUMNS as u64;
            let within = |step: &&LevelStep| step.ago_us.0 <= from && step.ago_us.0 > until;
            let mut found = QueueSample::default();
            for step in relief.steps.iter().filter(within) {
                let level = step.level;
                found = QueueSample {
                    waiting: found.waiting.max(level.waiting),
                    ..level
                };
            }
            found
        })
        .collect();
    let high = |level: &QueueSample| {
        (level.executing + level.waiting).max(level.executing + level.idle + level.coming)
    };
    let top = columns.iter().map(high).max().unwrap_or(0).max(1);
    let mut text = String::new();
    for row in (0..ROWS).rev() {
        // What the row stands for, in slots: its lower edge.
        let edge = (f64::from(row) * f64::from(top) / f64::from(ROWS)).floor() as u32;
        let mark = if row == ROWS - 1 { top } else { edge };
        text += &format!("{mark:>5} ");
        for level in &columns {
            text.push(cell(level, edge));
        }
        text.push('\n');
    }
    let ago = spoken(relief.window_us.into());
    text += &format!(
        "      {ago} ago{:>width$}\n",
        "now",
        width = COLUMNS - ago.len() - 4
    );
    text += "      # executing   . idle   ~ coming   ' demand above what is there\n";
    text
}

fn cell(level: &QueueSample, edge: u32) -> char {
    let (executing, there) = (level.executing, level.executing + level.idle);
    match edge {
        edge if edge < executing => '#',
        edge if edge < there => '.',
        edge if edge < there + level.coming => '~',
        edge if edge < executing + level.waiting => '\'',
        _ => ' ',
    }
}
