//! Teams, projects and the whole installation in a yard file.

use super::invalid::{FieldError, same_time};
use crate::view;
use pennine_core::access::Role;
use pennine_wire::Place;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

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
    /// Environment variables of its jobs.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
    /// The roles of the OpenID provider's groups here, by the group's name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub groups: BTreeMap<String, Role>,
}

impl Default for PlaceEntry {
    fn default() -> Self {
        PlaceEntry {
            weight: 1,
            limit: None,
            give_up: None,
            audiences: BTreeSet::new(),
            variables: BTreeMap::new(),
            groups: BTreeMap::new(),
        }
    }
}

/// What holds for all teams.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct InstallationEntry {
    /// Environment variables of all jobs.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
    /// The roles of the OpenID provider's groups everywhere, by the group's name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub groups: BTreeMap<String, Role>,
}

impl PlaceEntry {
    /// As the service has it, without its variables and groups.
    pub fn of(place: &Place) -> PlaceEntry {
        PlaceEntry {
            weight: place.weight,
            limit: place.limit,
            give_up: place.give_up_us.map(view::exact),
            audiences: place.audiences.iter().cloned().collect(),
            ..PlaceEntry::default()
        }
    }

    /// Checked, and written in its usual form.
    ///
    /// # Errors
    /// Where a value cannot be read.
    pub fn settle(&mut self, kind: &str, path: &str) -> Result<(), FieldError> {
        match &mut self.give_up {
            Some(text) => same_time(&format!("{kind} {path}: give_up"), text),
            None => Ok(()),
        }
    }
}
