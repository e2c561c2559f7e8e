//! Machines.

use pennine_core::capacity::Money;
use pennine_core::dispatch::Price;
use pennine_core::id::{MachineId, RunnerId};
use pennine_core::lifecycle::machine::MachineState;
use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One thing that a supplier made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Machine {
    pub id: MachineId,
    /// Its short name.
    pub short: String,
    /// What the supplier and its runner call it.
    pub name: String,
    pub pool: String,
    pub supplier: String,
    pub state: MachineState,
    pub since: Moment,
    /// Why it is in that state.
    pub reason: String,
    /// Its runner's record.
    pub runner: RunnerId,
    pub runner_short: String,
    pub single_use: bool,
    /// What an hour of it costs, in millionths of the currency.
    pub price: Price,
    /// What it has cost so far.
    pub cost: Money,
    pub ordered_at: Moment,
    pub ordered_by: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub joined_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub released_at: Option<Moment>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_at: Option<Moment>,
    /// Whether it never came to be what it was ordered for.
    pub failed: bool,
    /// Where it is, where its supplier has several places.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub zone: String,
    /// What its supplier calls it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub reference: String,
}

/// The end of what a machine printed while it came up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MachineConsole {
    pub text: String,
    /// Whether its supplier was asked just now; what was kept when it was given up otherwise.
    pub live: bool,
}

/// Machines to start by hand.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewMachines {
    /// How many; 1 when not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u32>,
}

/// How to stop a machine.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct StopMachine {
    /// End its jobs; they are retried elsewhere. It finishes them first otherwise.
    pub force: bool,
}
