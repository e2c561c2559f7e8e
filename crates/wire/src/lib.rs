//! The types that cross the network, shared by the service, the client, the command line and the runner.
//!
//! One file per noun. The service's OpenAPI description derives from these types. What people send is strict
//! (an unknown field is refused, since it is usually misspelt); what programs answer is read tolerantly, so that an
//! older reader understands a newer writer.

pub mod alert;
pub mod audit;
pub mod bulk;
pub mod history;
pub mod job;
pub mod listener;
pub mod log;
pub mod machine;
pub mod maintenance;
pub mod person;
pub mod place;
pub mod pool;
pub mod problem;
pub mod queue;
pub mod run;
pub mod runner;
pub mod runner_protocol;
pub mod seat;
pub mod secret;
pub mod session;
pub mod status;
pub mod supply;
pub mod target;
pub mod ticket;
pub mod token;
pub mod trends;
pub mod trial;
pub mod variable;
pub mod yard_file;

pub use alert::*;
pub use audit::*;
pub use bulk::*;
pub use history::*;
pub use job::*;
pub use listener::*;
pub use log::*;
pub use machine::*;
pub use maintenance::*;
pub use person::*;
pub use place::*;
pub use pool::*;
pub use problem::*;
pub use queue::*;
pub use run::*;
pub use runner::*;
pub use seat::*;
pub use secret::*;
pub use session::*;
pub use status::*;
pub use supply::*;
pub use target::*;
pub use ticket::*;
pub use token::*;
pub use trends::*;
pub use trial::*;
pub use variable::*;
pub use yard_file::*;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A page of a list, with the cursor of the next page if there is one. The same cursor stands in the `Link` header
/// (RFC 8288).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// The things.
    pub items: Vec<T>,
    /// Send it as `after` to get the next page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}
