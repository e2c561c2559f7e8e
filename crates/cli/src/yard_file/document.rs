//! What stands in a yard file.

use super::alerts::AlertsEntry;
use super::invalid::{FieldError, same_time, wrong};
use super::kind::{EVERYWHERE, THRESHOLDS, ThingKind};
use super::place::{InstallationEntry, PlaceEntry};
use super::pool::PoolEntry;
use super::target::TargetEntry;
use super::token::TokenEntry;
use crate::view;
use pennine_client::{Client, ClientError};
use pennine_core::access::Role;
use pennine_wire::{Seat, Supplier};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

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
    /// Of programs; a person's own tokens are not in a file.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub tokens: BTreeMap<String, TokenEntry>,
    /// What holds for all teams.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub installation: Option<InstallationEntry>,
    /// The versions of the settings, where the yard was read from the service: a later change is not
    /// overwritten.
    #[serde(skip)]
    pub versions: Versions,
}

/// Versions of settings, by what they are of.
pub type Versions = BTreeMap<(ThingKind, String), String>;

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
                entry.settle(kind, path)?;
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
            entry.settle(name)?;
        }
        for (name, entry) in &mut self.targets {
            entry.settle(name)?;
        }
        if let Some(alerts) = &mut self.alerts {
            alerts.settle()?;
        }
        for (name, entry) in &mut self.tokens {
            entry.settle(name)?;
        }
        self.omit_usual();
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
        for token in client.tokens(None).await?.items {
            if let Some(entry) = TokenEntry::of(&token) {
                yard.tokens.insert(token.name, entry);
            }
        }
        yard.installation = Some(InstallationEntry::default());
        for variable in client.variables(None).await?.items {
            let variables = match &variable.pool {
                Some(pool) => yard.pools.get_mut(pool).map(|pool| &mut pool.variables),
                None => yard.variables_of(&variable.place),
            };
            variables.map(|all| all.insert(variable.name, variable.value));
        }
        for grant in client.group_grants().await?.items {
            let groups = yard.groups_of(&grant.place);
            groups.map(|all| all.insert(grant.group, grant.role));
        }
        yard.omit_usual();
        Ok(yard)
    }

    /// Leaves out what is as it is where nothing is said.
    fn omit_usual(&mut self) {
        self.installation = self
            .installation
            .take()
            .filter(|entry| *entry != InstallationEntry::default());
    }

    fn place_mut(&mut self, path: &str) -> Option<&mut PlaceEntry> {
        match self.teams.get_mut(path) {
            Some(team) => Some(team),
            None => self.projects.get_mut(path),
        }
    }

    fn variables_of(&mut self, path: &str) -> Option<&mut BTreeMap<String, String>> {
        if path.is_empty() {
            return self.installation.as_mut().map(|all| &mut all.variables);
        }
        self.place_mut(path).map(|place| &mut place.variables)
    }

    fn groups_of(&mut self, path: &str) -> Option<&mut BTreeMap<String, Role>> {
        if path.is_empty() {
            return self.installation.as_mut().map(|all| &mut all.groups);
        }
        self.place_mut(path).map(|place| &mut place.groups)
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
            (ThingKind::Token, names(&self.tokens)),
            (
                ThingKind::Installation,
                (self.installation.iter())
                    .map(|_| EVERYWHERE.to_owned())
                    .collect(),
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
