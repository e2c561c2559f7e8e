//! What stands in a yard file.

use super::alerts::AlertsEntry;
use super::invalid::{FieldError, same_time, wrong};
use super::kind::{THRESHOLDS, ThingKind};
use super::target::TargetEntry;
use crate::values::{amount, amount_text, during, during_text};
use crate::view;
use pennine_client::{Client, ClientError};
use pennine_core::capacity::{Budget, Money, Supply, Week};
use pennine_core::dispatch::Price;
use pennine_core::fact::Facts;
use pennine_core::job_policy::{IsolationLevel, JobLimits, JobPolicy};
use pennine_core::size::{ByteSize, NotASize};
use pennine_wire::{JobPolicyChange, Place, Pool, Seat, Supplier};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::time::Duration;

/// The most bytes of a yard file.
pub const MOST_BYTES: u64 = 1 << 20;

/// A whole yard.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Yard {
    /// By path.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub teams: BTreeMap<String, PlaceEntry>,
    /// By path.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub projects: BTreeMap<String, PlaceEntry>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub seats: BTreeMap<String, SeatEntry>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub suppliers: BTreeMap<String, SupplierEntry>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub pools: BTreeMap<String, PoolEntry>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub targets: BTreeMap<String, TargetEntry>,
    /// The thresholds of alerts; the defaults if omitted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alerts: Option<AlertsEntry>,
    /// The versions of the settings, where the yard was read from the service: a later change is not
    /// overwritten.
    #[serde(skip)]
    pub versions: Versions,
}

/// Versions of settings, by what they are of.
pub type Versions = BTreeMap<(ThingKind, String), String>;

/// A team or a project.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct PlaceEntry {
    /// Its share against its siblings'.
    pub weight: u32,
    /// The most slots that it may hold at once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// How long its jobs wait at most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub give_up: Option<String>,
    /// The only audiences for which its jobs may get identity tokens; any if omitted.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub audiences: BTreeSet<String>,
}

impl Default for PlaceEntry {
    fn default() -> Self {
        PlaceEntry {
            weight: 1,
            limit: None,
            give_up: None,
            audiences: BTreeSet::new(),
        }
    }
}

/// A kind of seat.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SeatEntry {
    pub count: u32,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
}

/// A supplier.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SupplierEntry {
    pub kind: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot_limit: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
    /// Where each of its secrets is read from when the file is applied. They are never written out, and cannot be
    /// compared: one that the service has is not sent again.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub secret_files: BTreeMap<String, PathBuf>,
}

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

impl Yard {
    /// Reads a yard file.
    pub fn parse(text: &str) -> Result<Yard, FieldError> {
        let yard: Yard = toml::from_str(text).map_err(|error| wrong("line", error.to_string()))?;
        yard.settled()
    }

    /// Checked, and each thing written in its usual form.
    fn settled(mut self) -> Result<Yard, FieldError> {
        for (kind, places) in [("team", &mut self.teams), ("project", &mut self.projects)] {
            for (path, entry) in places {
                if let Some(text) = &mut entry.give_up {
                    same_time(&format!("{kind} {path}: give_up"), text)?;
                }
            }
        }
        for (name, entry) in &mut self.suppliers {
            if let Some(text) = &mut entry.boot_limit {
                same_time(&format!("supplier {name}: boot_limit"), text)?;
            }
            if let Some(twice) = entry
                .secret_files
                .keys()
                .find(|key| entry.settings.contains_key(*key))
            {
                let message = format!("{twice} is both a setting and a secret");
                return Err(wrong(&format!("supplier {name}"), message));
            }
        }
        for (name, entry) in &mut self.pools {
            for list in [&mut entry.labels, &mut entry.narrow_to, &mut entry.widen_to] {
                sorted(list);
            }
            if !entry.needs.is_empty() {
                let parsed: pennine_core::requirement::Requirement = entry.needs.parse().map_err(
                    |error: pennine_core::requirement::SyntaxError| {
                        let message = format!("column {}: {}", error.column, error.message);
                        wrong(&format!("pool {name}: needs"), message)
                    },
                )?;
                entry.needs = parsed.to_string();
            }
            same_size(&format!("pool {name}: jobs.memory"), &mut entry.jobs.memory)?;
            same_size(&format!("pool {name}: jobs.disk"), &mut entry.jobs.disk)?;
            let Some(machines) = &mut entry.machines else {
                continue;
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
        }
        for (name, entry) in &mut self.targets {
            entry.settle(name)?;
        }
        if let Some(alerts) = &mut self.alerts {
            alerts.settle()?;
        }
        Ok(self)
    }

    /// The yard as the service has it.
    pub async fn read(client: &Client) -> Result<Yard, ClientError> {
        let mut yard = Yard::default();
        let mut version = |kind: ThingKind, name: &str, version: &str| {
            yard.versions
                .insert((kind, name.to_owned()), version.to_owned());
        };
        for place in client.teams().await?.items {
            version(ThingKind::Team, &place.path, &place.settings_version);
            let entry = PlaceEntry::of(&place);
            yard.teams.insert(place.path, entry);
        }
        for place in client.projects().await?.items {
            version(ThingKind::Project, &place.path, &place.settings_version);
            let entry = PlaceEntry::of(&place);
            yard.projects.insert(place.path, entry);
        }
        for seat in client.seats().await?.items {
            version(ThingKind::Seat, &seat.name, &seat.settings_version);
            yard.seats.insert(seat.name.clone(), SeatEntry::of(seat));
        }
        for supplier in client.suppliers().await?.items {
            version(
                ThingKind::Supplier,
                &supplier.name,
                &supplier.settings_version,
            );
            let name = supplier.name.clone();
            yard.suppliers.insert(name, SupplierEntry::of(supplier));
        }
        for pool in client.pools().await?.items {
            version(ThingKind::Pool, &pool.name, &pool.settings_version);
            yard.pools.insert(pool.name.clone(), PoolEntry::of(pool));
        }
        for target in client.targets().await?.items {
            version(ThingKind::Target, &target.name, &target.settings_version);
            let entry = TargetEntry::of(&target);
            yard.targets.insert(target.name, entry);
        }
        let alerts = client.thresholds().await?;
        version(ThingKind::Alerts, THRESHOLDS, &alerts.settings_version);
        yard.alerts = Some(AlertsEntry::of(&alerts.thresholds));
        Ok(yard)
    }

    /// The names of what stands in it, by kind.
    pub fn things(&self) -> BTreeMap<String, BTreeSet<String>> {
        fn names<T>(entries: &BTreeMap<String, T>) -> BTreeSet<String> {
            entries.keys().cloned().collect()
        }
        [
            (ThingKind::Team, names(&self.teams)),
            (ThingKind::Project, names(&self.projects)),
            (ThingKind::Seat, names(&self.seats)),
            (ThingKind::Supplier, names(&self.suppliers)),
            (ThingKind::Pool, names(&self.pools)),
            (ThingKind::Target, names(&self.targets)),
            (
                ThingKind::Alerts,
                self.alerts.iter().map(|_| THRESHOLDS.to_owned()).collect(),
            ),
        ]
        .map(|(kind, names)| (kind.word().to_owned(), names))
        .into()
    }

    /// As a file.
    pub fn text(&self) -> Result<String, String> {
        let body = toml::to_string(self).map_err(|error| error.to_string())?;
        Ok(format!(
            "# The yard as code. Preview with: pennine yard diff FILE; apply with: pennine yard apply FILE\n\n{body}"
        ))
    }
}

impl PlaceEntry {
    fn of(place: &Place) -> PlaceEntry {
        PlaceEntry {
            weight: place.weight,
            limit: place.limit,
            give_up: place.give_up_us.map(view::exact),
            audiences: place.audiences.iter().cloned().collect(),
        }
    }
}

impl SeatEntry {
    fn of(seat: Seat) -> SeatEntry {
        SeatEntry {
            count: seat.count,
            description: seat.description,
        }
    }
}

impl SupplierEntry {
    fn of(supplier: Supplier) -> SupplierEntry {
        SupplierEntry {
            kind: supplier.kind,
            quota: supplier.quota,
            boot_limit: supplier.boot_limit_us.map(view::exact),
            settings: supplier.settings,
            secret_files: (supplier.secrets.into_iter())
                .map(|name| {
                    let file = PathBuf::from(format!("{}.{name}", supplier.name));
                    (name, file)
                })
                .collect(),
        }
    }
}

impl PoolEntry {
    fn of(pool: Pool) -> PoolEntry {
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
        };
        for list in [&mut entry.labels, &mut entry.narrow_to, &mut entry.widen_to] {
            sorted(list);
        }
        entry
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

    const FILE: &str = r#"
        [teams.shore]
        weight = 2
        give_up = "90m"
        [projects."shore/soundings"]
        [seats.compiler-licence]
        count = 3
        [pools.slipway]
        labels = ["on-demand", "fresh"]
        needs = "MEM >= 8gib"
        [pools.slipway.machines]
        supplier = "chandler"
        dwell = "90s"
        day_budget = "20.50"
        during = ["fri-mon 22:00-06:00 floor=2"]
        [targets.slipway-prompt]
        pool = "slipway"
        share = "95"
        within = "120s"
        days = 7
        [alerts]
        ceiling = "90s"
    "#;

    #[test]
    fn the_guide_shows_keys_that_exist() {
        let guide = include_str!("../../../../docs/yard-file.md");
        let blocks = guide.split("```toml\n").skip(1);
        let examples: Vec<&str> = blocks
            .filter_map(|block| Some(block.split_once("```")?.0))
            .collect();
        assert!(examples.len() > 3);
        let yard = Yard::parse(&examples.concat()).unwrap();
        assert_eq!(yard.pools["slipway"].widen_to, ["chartroom"]);
        assert_eq!(yard.alerts.as_ref().unwrap().budget, 80);
    }

    #[test]
    fn equivalent_notations_are_equal() {
        let yard = Yard::parse(FILE).unwrap();
        assert_eq!(yard.teams["shore"].give_up.as_deref(), Some("1h 30m"));
        let pool = &yard.pools["slipway"];
        assert_eq!(pool.labels, ["fresh", "on-demand"]);
        let machines = pool.machines.as_ref().unwrap();
        assert_eq!(machines.dwell, "1m 30s");
        assert_eq!(machines.during, ["mon,fri-sun 22:00-06:00 floor=2"]);
        let alerts = yard.alerts.as_ref().unwrap();
        assert_eq!((alerts.ceiling.as_str(), alerts.budget), ("1m 30s", 80));
        let target = &yard.targets["slipway-prompt"];
        assert_eq!((&*target.share, &*target.within), ("95 %", "2m"));
        // What is written out is read again as the same.
        assert_eq!(Yard::parse(&yard.text().unwrap()).unwrap(), yard);
        assert_eq!(MachinesEntry::of(machines.supply()), *machines);
    }

    #[test]
    fn errors_name_the_table_and_the_key() {
        for (text, place) in [
            ("[pools.a]\nlabel = ['x']", "label"),
            ("[pools.a]\nneeds = 'mem >='", "pool a: needs"),
            ("[pools.a.jobs]\nmemory = 'much'", "pool a: jobs.memory"),
            (
                "[pools.a.machines]\nsupplier = 's'\ndwell = 'soon'",
                "machines.dwell",
            ),
            (
                "[pools.a.machines]\nsupplier = 's'\nprice = '-1'",
                "machines.price",
            ),
            ("[pools.a.machines]\nsupplier = ''", "machines.supplier"),
            ("[teams.t]\ngive_up = 'never'", "team t: give_up"),
            ("[seats.s]", "count"),
            (
                "[targets.t]\nshare = '101'\nwithin = '1m'\ndays = 7",
                "target t: share",
            ),
            (
                "[targets.t]\nshare = '95'\nwithin = '1m'\ndays = 0",
                "target t",
            ),
            (
                "[targets.t]\npool = 'a'\nplace = 'b'\nshare = '95'\nwithin = '1m'\ndays = 1",
                "target t: place",
            ),
            ("[alerts]\nidle = '1m'", "alerts: idle: the time is an hour"),
            ("[alerts]\nceiling = 'soon'", "alerts: ceiling"),
            ("[pools", "line"),
        ] {
            let error = Yard::parse(text).unwrap_err().to_string();
            assert!(error.contains(place), "{text}: {error}");
        }
    }
}
