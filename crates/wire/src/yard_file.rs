//! The yard file: what of the yard is kept as code.

use pennine_core::time::Moment;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// That a yard file was applied, and what stands in it.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AppliedYardFile {
    /// What the file is called: `yard.toml`.
    pub name: String,
    /// The names of what stands in it, by kind: team, project, seat, supplier, pool, target, alerts, token, installation.
    #[schema(value_type = BTreeMap<String, Vec<String>>)]
    pub things: BTreeMap<String, BTreeSet<String>>,
}

/// The yard file that was applied last. What stands in it is put back as the file says when it is applied again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct YardFile {
    pub name: String,
    #[schema(value_type = BTreeMap<String, Vec<String>>)]
    pub things: BTreeMap<String, BTreeSet<String>>,
    pub applied_at: Moment,
    pub applied_by: String,
}

impl YardFile {
    /// Whether something stands in it.
    pub fn holds(&self, kind: &str, name: &str) -> bool {
        self.things
            .get(kind)
            .is_some_and(|names| names.contains(name))
    }
}
