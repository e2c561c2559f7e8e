//! Pools in a yard file.

use super::invalid::{FieldError, same_time, wrong};
use crate::values::{amount, amount_text, during, during_text};
use crate::view;
use pennine_core::capacity::{Budget, Money, Supply, Week};
use pennine_core::dispatch::Price;
use pennine_core::fact::Facts;
use pennine_core::job_policy::{IsolationLevel, JobLimits, JobPolicy};
use pennine_core::size::{ByteSize, NotASize};
use pennine_wire::{JobPolicyChange, Pool};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// A pool.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct PoolEntry {
    #[serde(skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// The team's or project's path; empty for all teams.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub owner: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub labels: Vec<String>,
    pub open: bool,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub narrow_to: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub widen_to: Vec<String>,
    /// Whether it takes untrusted jobs as well.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub takes_untrusted: bool,
    /// Whether a project's first use has to be approved.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub asks_approval: bool,
    /// What a machine has to be to join it.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub needs: String,
    /// Whether its runners take nothing new. Not compared where it is not given: pausing is for people.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    #[serde(skip_serializing_if = "JobsEntry::is_usual")]
    pub jobs: JobsEntry,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub machines: Option<MachinesEntry>,
    /// Environment variables of its jobs.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
}

impl Default for PoolEntry {
    fn default() -> Self {
        PoolEntry {
            description: String::new(),
            owner: String::new(),
            labels: Vec::new(),
            open: true,
            narrow_to: Vec::new(),
            widen_to: Vec::new(),
            takes_untrusted: false,
            asks_approval: false,
            needs: String::new(),
            paused: None,
            jobs: JobsEntry::default(),
            machines: None,
            variables: BTreeMap::new(),
        }
    }
}

/// What a pool's jobs may reach and use on their machine.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct JobsEntry {
    pub isolation: IsolationLevel,
    pub network: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub processes: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cores: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<String>,
}

impl Default for JobsEntry {
    fn default() -> Self {
        JobsEntry::of(JobPolicy::default())
    }
}

/// How a pool gets its machines.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MachinesEntry {
    pub supplier: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub image: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub size: String,
    #[serde(default)]
    pub floor: u32,
    #[serde(default = "one")]
    pub ceiling: u32,
    #[serde(default)]
    pub spare: u32,
    #[serde(default = "usual_dwell")]
    pub dwell: String,
    #[serde(default)]
    pub single_use: bool,
    #[serde(default = "one")]
    pub slots: u32,
    /// What an hour of one costs, where it is another than the supplier says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day_budget: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub month_budget: Option<String>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub zone: String,
    /// Floors and spares for parts of the week: `mon-fri 08:00-18:00 spare=1`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub during: Vec<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Facts::is_empty")]
    pub facts: Facts,
}

fn one() -> u32 {
    1
}

fn usual_dwell() -> String {
    view::exact(Supply::default().dwell_us)
}

fn same_amount(place: &str, text: &mut Option<String>) -> Result<(), FieldError> {
    if let Some(text) = text {
        let millionths = amount(text).map_err(|message| wrong(place, message))?;
        *text = amount_text(millionths);
    }
    Ok(())
}

fn same_size(place: &str, text: &mut Option<String>) -> Result<(), FieldError> {
    if let Some(text) = text {
        let size: ByteSize = text
            .parse()
            .map_err(|error: NotASize| wrong(place, error.to_string()))?;
        *text = size.exact();
    }
    Ok(())
}

fn sorted(list: &mut Vec<String>) {
    list.sort();
    list.dedup();
}

impl PoolEntry {
    /// As the service has it, without its variables.
    pub fn of(pool: Pool) -> PoolEntry {
        let mut entry = PoolEntry {
            description: pool.description,
            owner: pool.owner,
            labels: pool.labels,
            open: pool.open,
            narrow_to: pool.narrow_to,
            widen_to: pool.widen_to,
            takes_untrusted: pool.takes_untrusted,
            asks_approval: pool.asks_approval,
            needs: pool.needs,
            paused: Some(pool.paused).filter(|paused| *paused),
            jobs: JobsEntry::of(pool.jobs),
            machines: pool.supply.map(MachinesEntry::of),
            variables: BTreeMap::new(),
        };
        for list in [&mut entry.labels, &mut entry.narrow_to, &mut entry.widen_to] {
            sorted(list);
        }
        entry
    }

    /// Checked, and written in its usual form.
    ///
    /// # Errors
    /// Where a value cannot be read.
    pub fn settle(&mut self, name: &str) -> Result<(), FieldError> {
        for list in [&mut self.labels, &mut self.narrow_to, &mut self.widen_to] {
            sorted(list);
        }
        if !self.needs.is_empty() {
            let parsed: pennine_core::requirement::Requirement =
                self.needs
                    .parse()
                    .map_err(|error: pennine_core::requirement::SyntaxError| {
                        let message = format!("column {}: {}", error.column, error.message);
                        wrong(&format!("pool {name}: needs"), message)
                    })?;
            self.needs = parsed.to_string();
        }
        same_size(&format!("pool {name}: jobs.memory"), &mut self.jobs.memory)?;
        same_size(&format!("pool {name}: jobs.disk"), &mut self.jobs.disk)?;
        let Some(machines) = &mut self.machines else {
            return Ok(());
        };
        let at = |field: &str| format!("pool {name}: machines.{field}");
        same_time(&at("dwell"), &mut machines.dwell)?;
        same_amount(&at("price"), &mut machines.price)?;
        same_amount(&at("day_budget"), &mut machines.day_budget)?;
        same_amount(&at("month_budget"), &mut machines.month_budget)?;
        for text in &mut machines.during {
            let times = during(text).map_err(|message| wrong(&at("during"), message))?;
            *text = times.as_ref().map(during_text).unwrap_or_default();
        }
        if machines.supplier.is_empty() {
            let message = "a pool without a supplier has no [machines] section";
            return Err(wrong(&at("supplier"), message));
        }
        Ok(())
    }
}

impl JobsEntry {
    fn of(policy: JobPolicy) -> JobsEntry {
        let limits = policy.limits;
        JobsEntry {
            isolation: policy.isolation,
            network: policy.network,
            memory: limits.memory.map(ByteSize::exact),
            processes: limits.processes,
            cores: limits.cores,
            disk: limits.disk.map(ByteSize::exact),
        }
    }

    fn is_usual(&self) -> bool {
        *self == JobsEntry::default()
    }

    /// As the service understands it: all of it, so that what the file leaves out is as usual. What was settled can be
    /// read.
    pub fn change(&self) -> JobPolicyChange {
        let size = |text: &Option<String>| text.as_ref().and_then(|text| text.parse().ok());
        JobPolicy {
            isolation: self.isolation,
            network: self.network,
            limits: JobLimits {
                memory: size(&self.memory),
                processes: self.processes,
                cores: self.cores,
                disk: size(&self.disk),
            },
        }
        .into()
    }
}

impl MachinesEntry {
    fn of(supply: Supply) -> MachinesEntry {
        MachinesEntry {
            supplier: supply.supplier,
            image: supply.image,
            size: supply.size,
            floor: supply.floor,
            ceiling: supply.ceiling,
            spare: supply.spare,
            dwell: view::exact(supply.dwell_us),
            single_use: supply.single_use,
            slots: supply.slots,
            price: supply.price.map(|price| amount_text(price.0)),
            day_budget: supply.budget.day.map(|money| amount_text(money.0)),
            month_budget: supply.budget.month.map(|money| amount_text(money.0)),
            zone: supply.week.zone,
            during: supply.week.times.iter().map(during_text).collect(),
            settings: supply.settings,
            facts: supply.facts,
        }
    }

    /// As the service understands it. What was settled can be read.
    pub fn supply(&self) -> Supply {
        let money = |text: &Option<String>| {
            let text = text.as_ref()?;
            amount(text).ok().map(Money)
        };
        Supply {
            supplier: self.supplier.clone(),
            image: self.image.clone(),
            size: self.size.clone(),
            settings: self.settings.clone(),
            floor: self.floor,
            ceiling: self.ceiling,
            spare: self.spare,
            dwell_us: view::time(&self.dwell).unwrap_or(Duration::ZERO).into(),
            single_use: self.single_use,
            slots: self.slots,
            price: money(&self.price).map(|money| Price(money.0)),
            budget: Budget {
                day: money(&self.day_budget),
                month: money(&self.month_budget),
            },
            week: Week {
                zone: self.zone.clone(),
                times: (self.during.iter())
                    .filter_map(|text| during(text).ok().flatten())
                    .collect(),
            },
            facts: self.facts.clone(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sent_to_the_service_is_read_back_as_the_same() {
        let text = "supplier = 'chandler'\ndwell = '90s'\nday_budget = '20.50'\nduring = ['fri-mon 22:00-06:00 floor=2']";
        let machines: MachinesEntry = toml::from_str(text).unwrap();
        let mut pool = PoolEntry {
            machines: Some(machines),
            ..PoolEntry::default()
        };
        pool.settle("slipway").unwrap();
        let machines = pool.machines.unwrap();
        assert_eq!(MachinesEntry::of(machines.supply()), machines);
    }
}
