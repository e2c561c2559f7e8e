//! PostgreSQL through Diesel: the record of everything.
//!
//! One file of queries per noun. Queries take a connection, so that they work inside a transaction and outside one;
//! most are a single statement, which is its own transaction and costs one round trip. Every change of a state row
//! writes its [`outbox`] row in the same statement or transaction. States are guarded by the core's transition
//! functions: a write names the states from which the event is allowed, and changes nothing otherwise.
//!
//! This crate never reads a clock: times come in.

pub mod address;
pub mod alert;
pub mod attempt;
pub mod audit;
pub mod audit_seal;
pub mod bulk;
pub mod capacity;
pub mod change;
pub mod change_lock;
pub mod connect;
pub mod credential;
pub mod decision_input;
pub mod encrypted_text;
pub mod error;
pub mod group_grant;
pub mod history;
pub mod idempotency;
pub mod installation;
pub mod job;
pub mod job_selection;
pub mod leadership;
pub mod line;
pub mod listener;
pub mod log;
pub mod machine;
pub mod maintenance;
pub mod measure;
pub mod migration;
pub mod outbox;
pub mod partition;
pub mod person;
pub mod place;
pub mod pool;
pub mod queue_sample;
pub mod rollup;
pub mod run;
pub mod runner;
pub mod runner_facts;
pub mod runner_presence;
mod schema;
pub mod seat;
pub mod secret;
pub mod set_aside;
pub mod setting_owner;
pub mod share;
pub mod sign_in;
pub mod signing_key;
pub mod source_archive;
pub mod statement;
pub mod strand;
pub mod strand_visit;
pub mod supplier;
pub mod target;
pub mod ticket;
pub mod timeline;
pub mod token;
pub mod traced;
pub mod trial;
pub mod types;
pub mod variable;
pub mod waiting_line;
pub mod work_span;
pub mod yard_file;

pub use connect::{Connection, Pool, PooledConnection, Store};
pub use error::{Error, Result};
pub use types::Db;
