//! How pools get machines, and from whom.

use pennine_core::capacity::{Money, Numbers, Offer, Supply, Week};
use pennine_core::dispatch::Price;
use pennine_core::fact::Facts;
use pennine_core::queue_sample::{LevelStep, QueueSample};
use pennine_core::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What to change of how a pool gets machines. What is not given stays, or is as it usually is where the pool got none.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SupplyChange {
    /// The supplier's name; needed for a pool that got no machines before. Empty: the pool is to get none any more.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub supplier: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<String>,
    /// Supplier-specific settings of each machine.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub settings: BTreeMap<String, String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub floor: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ceiling: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spare: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dwell_us: Option<Micros>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub single_use: Option<bool>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slots: Option<u32>,
    /// What an hour of a machine costs, in millionths of the currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub price: Option<Price>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub day_budget: Option<Money>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub month_budget: Option<Money>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub week: Option<Week>,
    /// What its machines are, where it is not to be found out.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<std::collections::BTreeMap<String, pennine_core::fact::FactValue>>)]
    pub facts: Option<Facts>,
    /// What is to be as if it had never been set: `price`, `day_budget`, `month_budget`, or settings by name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clear: Vec<String>,
}

impl From<Supply> for SupplyChange {
    fn from(supply: Supply) -> Self {
        SupplyChange {
            supplier: Some(supply.supplier),
            image: Some(supply.image),
            size: Some(supply.size),
            settings: supply.settings,
            floor: Some(supply.floor),
            ceiling: Some(supply.ceiling),
            spare: Some(supply.spare),
            dwell_us: Some(supply.dwell_us),
            single_use: Some(supply.single_use),
            slots: Some(supply.slots),
            price: supply.price,
            day_budget: supply.budget.day,
            month_budget: supply.budget.month,
            week: Some(supply.week),
            facts: Some(supply.facts),
            clear: Vec::new(),
        }
    }
}

/// How a pool that gets machines stands.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SupplyStanding {
    pub numbers: Numbers,
    /// What an hour of a machine costs, in millionths of the currency.
    pub price: Price,
    /// Why no further machine is available, where that is so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub short: Option<String>,
    /// Whether it has as many machines as its ceiling allows.
    pub full: bool,
    /// Whether it is known what its machines are.
    pub known: bool,
}

/// What was, or would be, decided of a pool.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CapacityDecision {
    pub at: Moment,
    pub pool: String,
    /// `order`, `probe`, `release`, `give-up`, `drain`, `hold-back`, `go-on`.
    pub verb: String,
    /// How many machines it is about.
    pub machines: u32,
    pub message: String,
    pub numbers: Numbers,
}

/// A pool's demand over its capacity, what was decided meanwhile, and what it cost.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Relief {
    /// How the pool stands, as a sentence or two.
    pub answer: String,
    pub now: Moment,
    pub window_us: Micros,
    pub step_us: Micros,
    /// Now: jobs that wait and that it could take, its slots.
    pub level: QueueSample,
    pub steps: Vec<LevelStep>,
    /// Newest first.
    pub decisions: Vec<CapacityDecision>,
    /// What its machines cost in each step of the window, the earliest first; in millionths of the currency.
    pub cost: Vec<Money>,
    /// Slots of as many machines as its ceiling allows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ceiling_slots: Option<u32>,
    pub spent_day: Money,
    pub spent_month: Money,
}

/// What to make a supplier from.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSupplier {
    /// Letters, digits, `-` and `_`; unique in the installation.
    pub name: String,
    /// `local`, `engine`, `command`, `standin-cloud`.
    pub kind: String,
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
    /// Settings that are kept locked and never shown again.
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    /// The most machines that it may make, instead of its own quota.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u32>,
    /// How long a machine may take to join before it is given up, whatever it says itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot_limit_us: Option<Micros>,
}

/// What to change of a supplier. What is not given stays; a setting or secret that is empty is taken away.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SupplierChange {
    #[serde(default)]
    pub settings: BTreeMap<String, String>,
    #[serde(default)]
    pub secrets: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot_limit_us: Option<Micros>,
    /// What is to be as if it had never been set: `quota`, `boot_limit`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub clear: Vec<String>,
}

/// A supplier.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Supplier {
    /// The version of its settings, for `If-Match` with a change.
    #[serde(default)]
    pub settings_version: String,
    pub name: String,
    pub kind: String,
    pub settings: BTreeMap<String, String>,
    /// The names of its secrets.
    pub secrets: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot_limit_us: Option<Micros>,
    /// What it says itself that it can do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offer: Option<Offer>,
    /// What is wrong with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<SupplierFailure>,
    /// Machines of it that exist.
    pub machines: u32,
    /// The pools that it makes machines for.
    pub pools: Vec<String>,
    pub created_at: Moment,
    pub created_by: String,
}

/// What is wrong with a supplier.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SupplierFailure {
    pub message: String,
    pub since: Moment,
    /// When it is retried.
    pub retry_at: Moment,
}

/// How to check a supplier.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct SupplierCheck {
    /// The trial machine's image; the supplier's own when not given.
    pub image: String,
    /// The trial machine's size.
    pub size: String,
    /// Supplier-specific settings.
    pub settings: BTreeMap<String, String>,
}

/// What the check of a supplier found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SupplierChecked {
    /// Whether everything went well.
    pub well: bool,
    pub steps: Vec<CheckStep>,
    /// What the trial machine is.
    #[serde(default, skip_serializing_if = "Facts::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, pennine_core::fact::FactValue>)]
    pub facts: Facts,
    /// From the order to the runner's first word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot_us: Option<Micros>,
    /// The end of what the trial machine printed, where it did not come.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub console: String,
}

/// One thing that was checked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckStep {
    pub what: String,
    pub well: bool,
    pub message: String,
    pub took_us: Micros,
}
