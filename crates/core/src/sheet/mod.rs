//! The job sheet: `pennine.toml` in a project, which describes its jobs.
//!
//! [`Sheet::parse`] reads and checks a sheet. It finds every mistake at once, each with its line and column, and makes one job of
//! each combination of a job's `vary`. What it returns needs no further checks of its own: every job that another waits for exists,
//! there is no cycle, and every requirement can be read.
//!
//! ```
//! use pennine_core::sheet::Sheet;
//!
//! let sheet = Sheet::parse(r#"
//! [jobs.build]
//! where = "linux and {cc} >= 12"
//! commands = ["make", "make check"]
//! vary = { cc = ["gcc", "clang"] }
//!
//! [jobs.package]
//! commands = ["make package"]
//! after = ["build"]
//! "#).unwrap();
//! let names: Vec<_> = sheet.jobs.iter().map(|job| job.name.as_str()).collect();
//! assert_eq!(names, ["build (gcc)", "build (clang)", "package"]);
//! assert_eq!(sheet.jobs[2].after.len(), 2);
//! assert_eq!(sheet.steps(), [vec![0, 1], vec![2]]);
//! ```

mod check;
mod error;
mod format;
mod graph;
mod guess;
mod occasion;
mod overrides;
mod schema;
mod vary;

pub use error::SheetError;
pub use format::{NewerRun, OnFailure, Scalar, WorkspaceUse};
pub use graph::depths;
pub use guess::{GuessedSheet, ProjectFiles, guess};
pub use occasion::Occasion;
pub use overrides::{InvalidOverride, JobOverrides, RunOverrides};
pub use schema::schema;

use crate::dispatch::Band;
use crate::requirement::Requirement;
use crate::secret::SecretUses;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// The largest sheet, in bytes.
pub const MOST_BYTES: usize = 1 << 20;
/// The most jobs of a sheet, after `vary`.
pub const MOST_JOBS: usize = 2000;

/// A job sheet that was checked.
#[derive(Clone, PartialEq, Debug)]
pub struct Sheet {
    /// Values that jobs get as variables and refer to as `{name}`; a run can set others.
    pub values: BTreeMap<String, String>,
    /// What a newer run of the same branch does to one of this sheet.
    pub newer_run: NewerRun,
    /// In the order of the sheet; one for each combination of `vary`.
    pub jobs: Vec<SheetJob>,
}

/// A job of a sheet.
#[derive(Clone, PartialEq, Debug)]
pub struct SheetJob {
    /// `build (gcc, linux)`: its name in the sheet, with its values where it varies.
    pub name: String,
    /// Its name in the sheet.
    pub base: String,
    /// The values of its combination, by name.
    pub varied: BTreeMap<String, String>,
    pub requirement: Requirement,
    pub work: Work,
    /// The jobs that it waits for, by their positions in [`Sheet::jobs`].
    pub after: Vec<Need>,
    /// To which runs it belongs; all where there is none. An expression over the branch, the event and the values.
    pub applies: Option<Requirement>,
    pub time_limit: Option<Duration>,
    pub give_up: Option<Duration>,
    pub band: Band,
    pub seats: BTreeMap<String, u32>,
    pub variables: BTreeMap<String, String>,
    pub secrets: SecretUses,
    pub workspace: WorkspaceUse,
    pub on_failure: OnFailure,
    /// How many attempts it may have in all, where `on_failure` tries again.
    pub tries: u32,
    /// Whether it waits until a person releases it.
    pub is_held: bool,
    /// Whether it fails at once when no runner could ever execute it.
    pub fail_unmatched: bool,
    /// The line on which it begins, from 1.
    pub line: usize,
}

/// What a job does.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Work {
    /// Lines for the shell, one after another until one fails.
    Commands(Vec<String>),
    /// A file of the project.
    Script(String),
}

impl Work {
    /// The program and its arguments. The lines are one script for the shell, which ends at the first that fails; a script that is
    /// not executable is read by the shell.
    pub fn command(&self) -> Vec<String> {
        const SCRIPT: &str = r#"if [ -x "./$0" ]; then exec "./$0"; else exec sh "./$0"; fi"#;
        let shell = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
        match self {
            Work::Commands(lines) => shell(&["sh", "-ec", &lines.join("\n")]),
            Work::Script(file) => shell(&["sh", "-c", SCRIPT, file]),
        }
    }
}

/// A job that another waits for.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct Need {
    /// Its position in [`Sheet::jobs`].
    pub job: usize,
    /// Whether it has to end with success; its end is enough otherwise.
    pub success: bool,
}

impl Sheet {
    /// Reads and checks a sheet.
    ///
    /// # Errors
    /// Every mistake that was found, in the order of the text. Where it is not TOML, that alone.
    pub fn parse(text: &str) -> Result<Sheet, Vec<SheetError>> {
        check::sheet(text, &BTreeMap::new())
    }

    /// Reads and checks a sheet for a run with these values in place of the sheet's own.
    ///
    /// # Errors
    /// As [`Sheet::parse`], and where the sheet has no value of a name.
    pub fn with_values(
        text: &str,
        values: &BTreeMap<String, String>,
    ) -> Result<Sheet, Vec<SheetError>> {
        check::sheet(text, values)
    }

    /// The jobs by how many others, one after another, come before them: positions in [`Sheet::jobs`].
    pub fn steps(&self) -> Vec<Vec<usize>> {
        graph::steps(self.jobs.iter().map(|job| job.after.as_slice()))
    }
}

#[cfg(test)]
mod tests;
