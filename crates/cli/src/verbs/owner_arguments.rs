//! Whose a variable or a secret is.

use super::place_argument::PlaceArgument;
use clap::Args;
use pennine_core::access::place_name;

/// A place or a pool.
#[derive(Args)]
pub struct OwnerArguments {
    #[command(flatten)]
    pub place: PlaceArgument,
    /// The pool, whose jobs get it, instead of a place.
    #[arg(long, conflicts_with = "at")]
    pub pool: Option<String>,
}

/// What people call an owner.
pub fn owner_name(place: &str, pool: Option<&str>) -> String {
    match pool {
        Some(pool) => format!("the pool {pool}"),
        None => place_name(place).to_owned(),
    }
}
