//! Has the service make the yard as a file says: additions and changes in the order in which they can be made, then
//! removals the other way round. Each step is one request, and all of it can be repeated.

use super::difference::{Difference, DifferenceAction};
use super::document::{SupplierEntry, Yard};
use super::kind::ThingKind;
use super::place::{InstallationEntry, PlaceEntry};
use super::pool::{MachinesEntry, PoolEntry};
use crate::error::Error;
use crate::view;
use pennine_client::Client;
use pennine_core::access::Role;
use pennine_core::alert::Thresholds;
use pennine_core::time::Micros;
use pennine_wire::{
    ChangedPool, GroupGrantRemoval, NewGroupGrant, NewPool, NewProject, NewSeat, NewSupplier,
    NewTeam, NewVariable, PlaceChange, PoolChange, PoolRemoval, SeatChange, SupplierChange,
    SupplyChange, TargetChange, VariableRemoval,
};
use std::collections::BTreeMap;
use std::path::Path;

/// How far to go.
#[derive(Clone, Copy, Default)]
pub struct Leave {
    /// Proceed although jobs would be left without a runner.
    pub accept_losses: bool,
    /// Take away what is busy.
    pub force: bool,
}

/// The wanted yard, where secrets are read from, and the service.
pub struct Reach<'a> {
    pub client: &'a Client,
    pub there: &'a Yard,
    pub wanted: &'a Yard,
    /// The folder to which the files of secrets are relative.
    pub folder: &'a Path,
    pub leave: Leave,
}

/// The changed settings; a setting to remove is empty.
fn changed_settings(
    is: &BTreeMap<String, String>,
    wanted: &BTreeMap<String, String>,
) -> BTreeMap<String, String> {
    let gone = is.keys().filter(|key| !wanted.contains_key(*key));
    let mut all: BTreeMap<String, String> = gone.map(|key| (key.clone(), String::new())).collect();
    all.extend(wanted.clone());
    all
}

fn time(text: Option<&String>) -> Option<Micros> {
    text.and_then(|text| view::time(text).ok())
        .map(Micros::from)
}

fn split(path: &str) -> (Option<String>, String) {
    match path.rsplit_once('/') {
        Some((parent, name)) => (Some(parent.to_owned()), name.to_owned()),
        None => (None, path.to_owned()),
    }
}

impl Reach<'_> {
    /// The client for a change of this thing, which is refused if its settings have changed since they were read.
    fn client_for(&self, kind: ThingKind, name: &str) -> Client {
        let version = self.there.versions.get(&(kind, name.to_owned()));
        self.client.if_version(version.map(String::as_str))
    }

    /// Makes one thing as the file says.
    pub async fn make(&self, one: &Difference) -> Result<(), Error> {
        let (name, new) = (one.name.as_str(), one.what == DifferenceAction::New);
        match one.kind {
            ThingKind::Team => {
                let Some(entry) = self.wanted.teams.get(name) else {
                    return Ok(());
                };
                if new {
                    let (parent, name) = split(name);
                    self.client.add_team(&NewTeam { name, parent }).await?;
                }
                self.place(one.kind, name, entry).await
            }
            ThingKind::Project => {
                let Some(entry) = self.wanted.projects.get(name) else {
                    return Ok(());
                };
                if new {
                    let (team, name) = split(name);
                    let team = team.ok_or_else(|| {
                        Error::Usage(format!(
                            "project {name}: a project is in a team, such as shore/{name}"
                        ))
                    })?;
                    self.client.add_project(&NewProject { name, team }).await?;
                }
                self.place(one.kind, name, entry).await
            }
            ThingKind::Seat => {
                let Some(entry) = self.wanted.seats.get(name) else {
                    return Ok(());
                };
                let (count, description) = (entry.count, entry.description.clone());
                if new {
                    let name = name.to_owned();
                    let new = NewSeat {
                        name,
                        count,
                        description,
                    };
                    self.client.add_seat(&new).await?;
                } else {
                    let change = SeatChange {
                        count: Some(count),
                        description: Some(description),
                    };
                    self.client_for(one.kind, name)
                        .change_seat(name, &change)
                        .await?;
                }
                Ok(())
            }
            ThingKind::Supplier => self.supplier(name, new).await,
            ThingKind::Pool => {
                if new {
                    self.add_pool(name).await?;
                }
                self.change_pool(name, false).await?;
                self.pool_variables(name).await
            }
            ThingKind::Target => self.target(name).await,
            ThingKind::Alerts => {
                if let Some(entry) = &self.wanted.alerts {
                    self.client_for(one.kind, name)
                        .change_thresholds(&entry.change())
                        .await?;
                }
                Ok(())
            }
            ThingKind::Token => self.token(name).await,
            ThingKind::Installation => {
                let all = self.wanted.installation.clone().unwrap_or_default();
                self.everywhere(&all).await
            }
        }
    }

    async fn target(&self, name: &str) -> Result<(), Error> {
        let Some(entry) = self.wanted.targets.get(name) else {
            return Ok(());
        };
        let new = entry.new_target(name);
        match self.there.targets.get(name) {
            Some(is) if is.of_the_same(entry) => {
                let change = TargetChange {
                    share: Some(new.share),
                    within_us: Some(new.within_us),
                    days: Some(new.days),
                };
                self.client_for(ThingKind::Target, name)
                    .change_target(name, &change)
                    .await?;
            }
            is => {
                if is.is_some() {
                    self.client.remove_target(name).await?;
                }
                self.client.add_target(&new).await?;
            }
        }
        Ok(())
    }

    async fn token(&self, name: &str) -> Result<(), Error> {
        let Some(entry) = self.wanted.tokens.get(name) else {
            return Ok(());
        };
        match self.there.tokens.get(name) {
            Some(is) => {
                let change = entry.change(is);
                self.client.change_token(name, &change).await?;
            }
            // Its first secret is shown nowhere: a terminal or a log in which a file is applied is no place for it.
            None => {
                self.client.add_token(&entry.new_token(name)).await?;
                view::note(format!(
                    "note: to get the secret of the token {name}: pennine token rotate {name} --overlap 0s"
                ));
            }
        }
        Ok(())
    }

    async fn everywhere(&self, wanted: &InstallationEntry) -> Result<(), Error> {
        let nothing = InstallationEntry::default();
        let is = self.there.installation.as_ref().unwrap_or(&nothing);
        self.groups("", &is.groups, &wanted.groups).await?;
        let owner = ("", None);
        self.variables(owner, &is.variables, &wanted.variables)
            .await
    }

    async fn pool_variables(&self, name: &str) -> Result<(), Error> {
        let nothing = PoolEntry::default();
        let is = self.there.pools.get(name).unwrap_or(&nothing);
        let wanted = self.wanted.pools.get(name).unwrap_or(&nothing);
        let owner = ("", Some(name));
        self.variables(owner, &is.variables, &wanted.variables)
            .await
    }

    /// Sets and removes variables of a place or of a pool.
    async fn variables(
        &self,
        (place, pool): (&str, Option<&str>),
        is: &BTreeMap<String, String>,
        wanted: &BTreeMap<String, String>,
    ) -> Result<(), Error> {
        let pool = pool.map(str::to_owned);
        for name in is.keys().filter(|name| !wanted.contains_key(*name)) {
            let removal = VariableRemoval {
                place: place.to_owned(),
                pool: pool.clone(),
                name: name.clone(),
            };
            self.client.remove_variable(&removal).await?;
        }
        let changed = wanted
            .iter()
            .filter(|(name, value)| is.get(*name) != Some(*value));
        for (name, value) in changed {
            let new = NewVariable {
                place: place.to_owned(),
                pool: pool.clone(),
                name: name.clone(),
                value: value.clone(),
            };
            self.client.set_variable(&new).await?;
        }
        Ok(())
    }

    /// Grants roles at a place to groups, and takes them away.
    async fn groups(
        &self,
        place: &str,
        is: &BTreeMap<String, Role>,
        wanted: &BTreeMap<String, Role>,
    ) -> Result<(), Error> {
        for group in is.keys().filter(|group| !wanted.contains_key(*group)) {
            let removal = GroupGrantRemoval {
                group: group.clone(),
                place: place.to_owned(),
            };
            self.client.revoke_from_group(&removal).await?;
        }
        let changed = wanted
            .iter()
            .filter(|(group, role)| is.get(*group) != Some(*role));
        for (group, role) in changed {
            let new = NewGroupGrant {
                group: group.clone(),
                role: *role,
                place: place.to_owned(),
            };
            self.client.grant_to_group(&new).await?;
        }
        Ok(())
    }

    async fn place(&self, kind: ThingKind, path: &str, entry: &PlaceEntry) -> Result<(), Error> {
        let change = PlaceChange {
            weight: Some(entry.weight),
            limit: Some(entry.limit),
            give_up_us: Some(time(entry.give_up.as_ref())),
            parent: None,
            audiences: Some(entry.audiences.iter().cloned().collect()),
        };
        self.client_for(kind, path)
            .change_place(path, &change)
            .await?;
        let nothing = PlaceEntry::default();
        let places = match kind {
            ThingKind::Team => &self.there.teams,
            _ => &self.there.projects,
        };
        let is = places.get(path).unwrap_or(&nothing);
        self.groups(path, &is.groups, &entry.groups).await?;
        let owner = (path, None);
        self.variables(owner, &is.variables, &entry.variables).await
    }

    async fn supplier(&self, name: &str, new: bool) -> Result<(), Error> {
        let Some(entry) = self.wanted.suppliers.get(name) else {
            return Ok(());
        };
        let nothing = SupplierEntry::default();
        let is = self.there.suppliers.get(name).unwrap_or(&nothing);
        if !new && is.kind != entry.kind {
            return Err(Error::Usage(format!(
                "supplier {name}: its kind is {} and cannot become {}; add one under another name",
                is.kind, entry.kind
            )));
        }
        let mut secrets = BTreeMap::new();
        for (key, file) in &entry.secret_files {
            if is.secret_files.contains_key(key) {
                continue;
            }
            let path = self.folder.join(file);
            let secret = std::fs::read_to_string(&path).map_err(|error| {
                Error::Here(format!("supplier {name}: {}: {error}", path.display()))
            })?;
            secrets.insert(key.clone(), secret.trim_end().to_owned());
        }
        let boot_limit_us = time(entry.boot_limit.as_ref());
        if new {
            let new = NewSupplier {
                name: name.to_owned(),
                kind: entry.kind.clone(),
                settings: entry.settings.clone(),
                secrets,
                quota: entry.quota,
                boot_limit_us,
            };
            self.client.add_supplier(&new).await?;
            return Ok(());
        }
        for key in is.secret_files.keys() {
            if !entry.secret_files.contains_key(key) {
                secrets.insert(key.clone(), String::new());
            }
        }
        let change = SupplierChange {
            settings: changed_settings(&is.settings, &entry.settings),
            secrets,
            quota: entry.quota,
            boot_limit_us,
            clear: unset([
                ("quota", entry.quota.is_none()),
                ("boot_limit", boot_limit_us.is_none()),
            ]),
        };
        self.client_for(ThingKind::Supplier, name)
            .change_supplier(name, &change)
            .await?;
        Ok(())
    }

    async fn add_pool(&self, name: &str) -> Result<(), Error> {
        let Some(entry) = self.wanted.pools.get(name) else {
            return Ok(());
        };
        let new = NewPool {
            name: name.to_owned(),
            description: entry.description.clone(),
            labels: entry.labels.clone(),
            open: Some(entry.open),
            owner: Some(entry.owner.clone()),
            needs: Some(entry.needs.clone()),
            supply: entry.machines.as_ref().map(|one| one.supply().into()),
            jobs: Some(entry.jobs.change()),
            like: None,
        };
        self.client.add_pool(&new).await?;
        Ok(())
    }

    /// Changes a pool that is there, or only says what that would do.
    pub async fn change_pool(&self, name: &str, preview: bool) -> Result<ChangedPool, Error> {
        let usual = PoolEntry::default();
        let wanted = self.wanted.pools.get(name).unwrap_or(&usual);
        let is = self
            .there
            .pools
            .get(name)
            .and_then(|pool| pool.machines.as_ref());
        let change = PoolChange {
            description: Some(wanted.description.clone()),
            labels: Some(wanted.labels.clone()),
            open: Some(wanted.open),
            owner: Some(wanted.owner.clone()),
            narrow_to: Some(wanted.narrow_to.clone()),
            widen_to: Some(wanted.widen_to.clone()),
            takes_untrusted: Some(wanted.takes_untrusted),
            asks_approval: Some(wanted.asks_approval),
            paused: wanted.paused,
            needs: Some(wanted.needs.clone()),
            supply: supply_change(is, wanted.machines.as_ref()),
            jobs: Some(wanted.jobs.change()),
            preview,
            accept_losses: self.leave.accept_losses,
        };
        let client = self.client_for(ThingKind::Pool, name);
        Ok(client.change_pool(name, &change).await?)
    }

    /// Takes one thing away that the file does not mention. False where that cannot be.
    pub async fn remove(&self, one: &Difference) -> Result<bool, Error> {
        match one.kind {
            ThingKind::Team | ThingKind::Project => self.client.remove_place(&one.name).await?,
            ThingKind::Supplier => self.client.remove_supplier(&one.name).await?,
            ThingKind::Pool => {
                let how = PoolRemoval {
                    force: self.leave.force,
                    accept_losses: self.leave.accept_losses,
                };
                self.client.remove_pool(&one.name, &how).await?;
            }
            ThingKind::Target => self.client.remove_target(&one.name).await?,
            // As they usually are.
            ThingKind::Alerts => {
                let usual = Thresholds::default().into();
                self.client.change_thresholds(&usual).await?;
            }
            ThingKind::Installation => self.everywhere(&InstallationEntry::default()).await?,
            // Jobs on record name a seat; and a program that uses a token would break without a word, or the token is the one
            // with which the file is applied.
            ThingKind::Seat | ThingKind::Token => return Ok(false),
        }
        Ok(true)
    }
}

/// The names of what is not set.
fn unset<const N: usize>(all: [(&str, bool); N]) -> Vec<String> {
    let unset = all.into_iter().filter(|(_, unset)| *unset);
    unset.map(|(name, _)| name.to_owned()).collect()
}

fn supply_change(
    is: Option<&MachinesEntry>,
    wanted: Option<&MachinesEntry>,
) -> Option<SupplyChange> {
    let Some(wanted) = wanted else {
        return is.map(|_| SupplyChange {
            supplier: Some(String::new()),
            ..SupplyChange::default()
        });
    };
    let mut change = SupplyChange::from(wanted.supply());
    change.clear = unset([
        ("price", change.price.is_none()),
        ("day_budget", change.day_budget.is_none()),
        ("month_budget", change.month_budget.is_none()),
    ]);
    let gone = is.into_iter().flat_map(|is| is.settings.keys());
    let gone = gone.filter(|key| !wanted.settings.contains_key(*key));
    change.clear.extend(gone.cloned());
    Some(change)
}
