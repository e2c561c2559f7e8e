//! Whose variables and secrets are.

use crate::types::Db;
use pennine_core::id::{PlaceId, PoolId};

/// What gives its jobs a variable or a secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SettingOwner {
    /// The jobs of this place, and of the places below it.
    Place(PlaceId),
    /// The jobs that run in this pool.
    Pool(PoolId),
}

impl SettingOwner {
    /// Its values for the columns `place_id` and `pool_id`.
    pub(crate) fn columns(self) -> (Option<Db<PlaceId>>, Option<Db<PoolId>>) {
        match self {
            SettingOwner::Place(id) => (Some(Db(id)), None),
            SettingOwner::Pool(id) => (None, Some(Db(id))),
        }
    }
}
