//! The computation at the heart of Pennine.
//!
//! Nothing here reads a clock, a file, a socket or a random number: time, ids and seeds come in as
//! arguments, and answers go out as values. The service, the simulation and the tests therefore run
//! exactly the same code. A test in `tests/purity.rs` keeps the list of dependencies short.
//!
//! - [`requirement`]: the language in which a job asks for a machine, and why a machine does not satisfy it.
//! - [`fact`], [`size`], [`version`]: what a runner is known to be.
//! - [`finding`]: what was found out about a machine, good or bad.
//! - [`overrides`]: what people set of a runner over what its machine says.
//! - [`job_policy`]: what the jobs of a pool may reach and use on their machine.
//! - [`lifecycle`]: the states of jobs, attempts and runners, one transition function each.
//! - [`dispatch`]: which job goes to which runner, and why each of the others waits.
//! - [`capacity`]: how many machines each pool should have, and what to order and release for it.
//! - [`engine`]: dispatch, capacity and leases behind one set of events and stages.
//! - [`simulate`]: the engine in a made-up world, with a clock of its own.
//! - [`trust`]: whether a job is trusted.
//! - [`access`], [`visibility`]: who may do what at which place, and what they see.
//! - [`password`], [`sign_in`]: which passwords are accepted, and how guessing is slowed.
//! - [`wait`]: a job's wait, split into reasons that add up.
//! - [`measure`]: waits, work, machines and money, added up.
//! - [`target`]: what is promised of waits, how the promise stands, and when it will be broken.
//! - [`alert`]: when alerts are raised and ended.
//! - [`queue_sample`]: demand over capacity at one moment.
//! - [`sheet`]: the job sheet of a project, read and checked.
//! - [`answer`]: the one plain sentence that says how things stand.

pub mod access;
pub mod alert;
pub mod answer;
pub mod capacity;
pub mod comparison;
pub mod count;
pub mod dispatch;
pub mod engine;
pub mod fact;
pub mod finding;
pub mod id;
pub mod identity;
pub mod job_policy;
pub mod lifecycle;
pub mod measure;
pub mod missing_program;
pub mod overrides;
pub mod password;
pub mod phase;
pub mod queue_sample;
pub mod requirement;
pub mod run;
pub mod secret;
pub mod sheet;
pub mod sign_in;
pub mod simulate;
pub mod size;
pub mod sizing;
pub mod source;
pub mod target;
pub mod time;
pub mod trust;
pub mod version;
pub mod visibility;
pub mod wait;
