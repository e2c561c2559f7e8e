//! What keeps a job from its machine: mounts and users of its own, a sandbox around it, limits on what it uses.
//!
//! A keeper (see [`keeper`](super::keeper)) sets all of it up ahead of time, for the folder in which the next job will run.

pub mod control_group;
pub mod folder;
mod mechanism;
pub mod mounts;
pub mod sandbox;
pub mod sized_disk;
pub mod usage;
pub mod users;

pub use mechanism::Mechanism;
use pennine_core::size::ByteSize;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;

/// The parts of a job's folder.
const PARTS: [&str; 3] = ["workspace", "home", "tmp"];

/// What a keeper makes around its job.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Enclosure {
    /// The job's own folder, with `workspace`, `home` and `tmp` in it.
    pub folder: PathBuf,
    /// The size of a disk of its own, on the folder.
    pub disk: Option<ByteSize>,
    /// Folders in which the job sees nothing, its own folder excepted.
    pub hidden: Vec<PathBuf>,
    /// What it sees all the same.
    pub exposed: Vec<PathBuf>,
    /// The sandbox around it, if any.
    pub sandbox: Option<Sandbox>,
}

/// A user that a job is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct JobUser {
    /// Its number, also that of its group.
    pub uid: u32,
    /// The number that owns its files on disk: the same for all jobs, so that a folder can go from one to the next.
    pub disk: u32,
}

/// A sandbox.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sandbox {
    /// Whether the job reaches the machine's network.
    pub network: bool,
}
