//! The place that a command is about.

use clap::Args;

/// A place.
#[derive(Args)]
pub struct PlaceArgument {
    /// The team or project, with everything below it [default: the whole installation]
    #[arg(
        long,
        value_name = "PLACE",
        default_value = "",
        hide_default_value = true
    )]
    pub at: String,
}
