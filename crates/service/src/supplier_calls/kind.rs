//! The kinds of supplier that come with the service.

use pennine_core::capacity::MachineSeparation;
use pennine_suppliers::{cloud, command, engine, local};
use std::str::FromStr;

/// A kind of supplier.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum SupplierKind {
    /// Processes on the service's own host.
    Local,
    /// Containers of an engine with the Engine API.
    Engine,
    /// A program of the operator's own (docs/suppliers.md).
    Command,
    /// The simulated cloud that comes with Pennine.
    StandinCloud,
}

impl SupplierKind {
    const ALL: [SupplierKind; 4] = [
        SupplierKind::Local,
        SupplierKind::Engine,
        SupplierKind::Command,
        SupplierKind::StandinCloud,
    ];

    /// The name by which people choose it.
    pub fn name(self) -> &'static str {
        match self {
            SupplierKind::Local => "local",
            SupplierKind::Engine => "engine",
            SupplierKind::Command => "command",
            SupplierKind::StandinCloud => "standin-cloud",
        }
    }

    /// Its settings by name, with what they are.
    pub fn settings(self) -> &'static [(&'static str, &'static str)] {
        match self {
            SupplierKind::Local => &local::SETTINGS,
            SupplierKind::Engine => &engine::SETTINGS,
            SupplierKind::Command => &command::SETTINGS,
            SupplierKind::StandinCloud => &cloud::SETTINGS,
        }
    }

    /// Whether it accepts settings that it does not know.
    pub fn takes_any(self) -> bool {
        self == SupplierKind::Command
    }

    /// What its machines share with each other.
    pub fn separation(self) -> MachineSeparation {
        match self {
            SupplierKind::Local | SupplierKind::Engine => MachineSeparation::SharedHost,
            SupplierKind::Command | SupplierKind::StandinCloud => MachineSeparation::Own,
        }
    }
}

/// No kind of supplier has this name.
#[derive(Debug, thiserror::Error)]
#[error("unknown kind of supplier {0:?}; known: {known}", known = SupplierKind::ALL.map(SupplierKind::name).join(", "))]
pub struct UnknownKind(String);

impl FromStr for SupplierKind {
    type Err = UnknownKind;

    fn from_str(name: &str) -> Result<Self, UnknownKind> {
        let known = SupplierKind::ALL
            .into_iter()
            .find(|kind| kind.name() == name);
        known.ok_or_else(|| UnknownKind(name.to_owned()))
    }
}
