//! What one run does otherwise than its sheet says.

use super::check::replaced;
use super::error::nearest;
use super::{Sheet, SheetJob, Work};
use crate::dispatch::Band;
use crate::requirement::{Requirement, SyntaxError};
use crate::secret::requirement_in_pools;
use crate::time::{Micros, spoken};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// What one run does otherwise than its sheet says.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RunOverrides {
    /// Every job runs in this pool.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pool: Option<String>,
    /// The priority of every job.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub band: Option<Band>,
    /// Of single jobs, by their names in the sheet: `build` for all of its combinations, or `build (gcc)` for one.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub jobs: BTreeMap<String, JobOverrides>,
}

/// What a job of one run does otherwise than its sheet says.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JobOverrides {
    /// The requirement, in place of the sheet's.
    #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
    pub requirement: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_limit_us: Option<Micros>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub give_up_us: Option<Micros>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub band: Option<Band>,
    /// Commands that are left out, counted from 1.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub skip_commands: BTreeSet<u32>,
    /// The command with which it begins, counted from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from_command: Option<u32>,
}

/// Why overrides do not fit a sheet.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum InvalidOverride {
    #[error("the sheet has no job {job}{}", near.as_ref().map_or_else(String::new, |near| format!("; did you mean {near}?")))]
    UnknownJob { job: String, near: Option<String> },
    #[error("{0:?} is not the name of a pool")]
    Pool(String),
    #[error("where of {job}, column {}: {}", error.column, error.message)]
    Requirement { job: String, error: SyntaxError },
    #[error("where of {job}: {message}")]
    Value { job: String, message: String },
    #[error("{key} of {job} is more than 0")]
    NoLength { job: String, key: &'static str },
    #[error("{job} has a script, not a list of commands: none can be left out")]
    Script { job: String },
    #[error("{job} has no command {number}: its commands are 1 to {count}")]
    UnknownCommand {
        job: String,
        number: u32,
        count: usize,
    },
    #[error("{job} has no command left")]
    NothingLeft { job: String },
}

impl RunOverrides {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        *self == RunOverrides::default()
    }

    /// Each of them, in words: `build: where gcc >= 13`.
    pub fn describe(&self) -> Vec<String> {
        let mut lines = Vec::new();
        lines.extend((self.pool.as_ref()).map(|pool| format!("all jobs: pool {pool}")));
        lines.extend(
            self.band
                .map(|band| format!("all jobs: band {}", band.word())),
        );
        for (job, of_job) in &self.jobs {
            let length = |micros: Micros| spoken(micros.into());
            let skipped: Vec<String> = of_job.skip_commands.iter().map(u32::to_string).collect();
            let parts = [
                (of_job.requirement.as_ref()).map(|text| match text.trim() {
                    "" => "where: any runner".to_owned(),
                    text => format!("where {text}"),
                }),
                (of_job.time_limit_us).map(|limit| format!("time limit {}", length(limit))),
                (of_job.give_up_us).map(|give_up| format!("gives up after {}", length(give_up))),
                of_job.band.map(|band| format!("band {}", band.word())),
                (!skipped.is_empty()).then(|| format!("without command {}", skipped.join(", "))),
                (of_job.from_command).map(|number| format!("from command {number}")),
            ];
            lines.extend(
                parts
                    .into_iter()
                    .flatten()
                    .map(|part| format!("{job}: {part}")),
            );
        }
        lines
    }
}

impl Sheet {
    /// The sheet with these overrides.
    ///
    /// # Errors
    /// Where a job or a command is unknown, a value cannot be read, or a job would do nothing.
    pub fn overridden(mut self, overrides: &RunOverrides) -> Result<Sheet, InvalidOverride> {
        for name in overrides.jobs.keys() {
            let is_named = |job: &SheetJob| job.base == *name || job.name == *name;
            if !self.jobs.iter().any(is_named) {
                let known = self
                    .jobs
                    .iter()
                    .flat_map(|job| [job.base.as_str(), job.name.as_str()]);
                let near = nearest(name, known);
                let job = name.clone();
                return Err(InvalidOverride::UnknownJob { job, near });
            }
        }
        let values = &self.values;
        for job in &mut self.jobs {
            // One combination's own come after those of all combinations.
            for name in [job.base.clone(), job.name.clone()] {
                if let Some(of_job) = overrides.jobs.get(&name) {
                    apply(job, of_job, values)?;
                }
                if job.base == job.name {
                    break;
                }
            }
            if let Some(band) = overrides.band {
                job.band = band;
            }
            if let Some(pool) = &overrides.pool {
                job.requirement = in_pool(&job.requirement, pool)?;
            }
        }
        Ok(self)
    }
}

fn in_pool(requirement: &Requirement, pool: &str) -> Result<Requirement, InvalidOverride> {
    let wrong = || InvalidOverride::Pool(pool.to_owned());
    let is_name = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
    if pool.is_empty() || !pool.chars().all(is_name) {
        return Err(wrong());
    }
    let text = requirement_in_pools(&requirement.to_string(), &[vec![pool.to_owned()]]);
    text.parse().map_err(|_| wrong())
}

fn apply(
    job: &mut SheetJob,
    of_job: &JobOverrides,
    values: &BTreeMap<String, String>,
) -> Result<(), InvalidOverride> {
    let name = || job.name.clone();
    if let Some(text) = &of_job.requirement {
        let mut known = values.clone();
        known.extend(job.varied.clone());
        let whole = replaced(text, &known).map_err(|(_, message)| InvalidOverride::Value {
            job: name(),
            message,
        })?;
        let parsed = whole.parse();
        job.requirement =
            parsed.map_err(|error| InvalidOverride::Requirement { job: name(), error })?;
    }
    let lengths = [
        ("time_limit", of_job.time_limit_us, &mut job.time_limit),
        ("give_up", of_job.give_up_us, &mut job.give_up),
    ];
    for (key, length, of) in lengths {
        match length {
            None => {}
            Some(Micros(0)) => {
                let job = job.name.clone();
                return Err(InvalidOverride::NoLength { job, key });
            }
            Some(length) => *of = Some(length.into()),
        }
    }
    if let Some(band) = of_job.band {
        job.band = band;
    }
    commands(job, of_job)
}

/// Leaves out commands.
fn commands(job: &mut SheetJob, of_job: &JobOverrides) -> Result<(), InvalidOverride> {
    let named: Vec<u32> = (of_job.skip_commands.iter().copied())
        .chain(of_job.from_command)
        .collect();
    if named.is_empty() {
        return Ok(());
    }
    let name = job.name.clone();
    let Work::Commands(lines) = &mut job.work else {
        return Err(InvalidOverride::Script { job: name });
    };
    let count = lines.len();
    let is_one = |number: &u32| *number > 0 && usize::try_from(*number).is_ok_and(|n| n <= count);
    if let Some(number) = named.into_iter().find(|number| !is_one(number)) {
        let job = name;
        return Err(InvalidOverride::UnknownCommand { job, number, count });
    }
    let from = of_job.from_command.unwrap_or(1);
    let mut number = 0;
    lines.retain(|_| {
        number += 1;
        number >= from && !of_job.skip_commands.contains(&number)
    });
    match lines.iter().all(|line| line.trim().is_empty()) {
        true => Err(InvalidOverride::NothingLeft { job: name }),
        false => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SHEET: &str = r#"
        [values]
        level = 2
        [jobs.build]
        where = "linux and {cc} >= 12"
        commands = ["configure", "make", "make check"]
        vary = { cc = ["gcc", "clang"] }
        [jobs.release]
        script = "release.sh"
        band = "urgent"
    "#;

    fn of_build(change: JobOverrides) -> RunOverrides {
        RunOverrides {
            jobs: [("build".to_owned(), change)].into(),
            ..RunOverrides::default()
        }
    }

    fn overridden(overrides: &RunOverrides) -> Result<Sheet, InvalidOverride> {
        Sheet::parse(SHEET).unwrap().overridden(overrides)
    }

    #[test]
    fn a_pool_and_a_band_are_those_of_every_job() {
        let overrides = RunOverrides {
            pool: Some("boathouse".into()),
            band: Some(Band::Background),
            ..RunOverrides::default()
        };
        let sheet = overridden(&overrides).unwrap();
        let shown: Vec<String> = sheet
            .jobs
            .iter()
            .map(|job| job.requirement.to_string())
            .collect();
        assert_eq!(
            shown,
            [
                "linux and gcc >= 12 and pool = boathouse",
                "linux and clang >= 12 and pool = boathouse",
                "pool = boathouse"
            ]
        );
        assert!(sheet.jobs.iter().all(|job| job.band == Band::Background));
        assert_eq!(
            overrides.describe(),
            ["all jobs: pool boathouse", "all jobs: band background"]
        );
    }

    #[test]
    fn keys_of_a_job_are_those_of_all_its_combinations_or_of_one() {
        let mut overrides = of_build(JobOverrides {
            requirement: Some("{cc} and mem >= 8GiB".into()),
            time_limit_us: Some(Micros(7_200_000_000)),
            ..JobOverrides::default()
        });
        overrides.jobs.insert(
            "build (clang)".into(),
            JobOverrides {
                requirement: Some(String::new()),
                ..JobOverrides::default()
            },
        );
        let sheet = overridden(&overrides).unwrap();
        assert_eq!(
            sheet.jobs[0].requirement,
            "gcc and mem >= 8GiB".parse().unwrap()
        );
        assert!(sheet.jobs[1].requirement.is_any());
        assert_eq!(sheet.jobs[1].time_limit.unwrap().as_secs(), 7200);
        assert_eq!(sheet.jobs[2], Sheet::parse(SHEET).unwrap().jobs[2]);
        assert_eq!(
            overrides.describe(),
            [
                "build: where {cc} and mem >= 8GiB",
                "build: time limit 2 h",
                "build (clang): where: any runner"
            ]
        );
    }

    #[test]
    fn commands_are_left_out_by_their_numbers() {
        let left = |skip: &[u32], from: Option<u32>| {
            let change = JobOverrides {
                skip_commands: skip.iter().copied().collect(),
                from_command: from,
                ..JobOverrides::default()
            };
            match &overridden(&of_build(change))?.jobs[0].work {
                Work::Commands(lines) => Ok(lines.join("; ")),
                Work::Script(_) => unreachable!("it has commands"),
            }
        };
        assert_eq!(left(&[1], None).unwrap(), "make; make check");
        assert_eq!(left(&[], Some(3)).unwrap(), "make check");
        assert_eq!(left(&[2], Some(2)).unwrap(), "make check");
        let unknown = |number| InvalidOverride::UnknownCommand {
            job: "build (gcc)".into(),
            number,
            count: 3,
        };
        assert_eq!(left(&[4], None), Err(unknown(4)));
        assert_eq!(left(&[0], None), Err(unknown(0)));
        assert_eq!(
            left(&[1, 2, 3], None),
            Err(InvalidOverride::NothingLeft {
                job: "build (gcc)".into()
            })
        );
    }

    #[test]
    fn overrides_that_do_not_fit_the_sheet_are_refused() {
        let of = |name: &str, change: JobOverrides| RunOverrides {
            jobs: [(name.to_owned(), change)].into(),
            ..RunOverrides::default()
        };
        let asks = |text: &str| JobOverrides {
            requirement: Some(text.into()),
            ..JobOverrides::default()
        };
        let first = JobOverrides {
            from_command: Some(1),
            ..JobOverrides::default()
        };
        let cases = [
            (
                of("biuld", asks("linux")),
                "the sheet has no job biuld; did you mean build?",
            ),
            (
                of("build", asks("linux and")),
                "where of build (gcc), column 10",
            ),
            (
                of("build", asks("{dd}")),
                "where of build (gcc): {dd} is neither",
            ),
            (of("release", first), "release has a script"),
            (
                of(
                    "build",
                    JobOverrides {
                        give_up_us: Some(Micros(0)),
                        ..JobOverrides::default()
                    },
                ),
                "give_up of build (gcc) is more than 0",
            ),
            (
                RunOverrides {
                    pool: Some("a or linux".into()),
                    ..RunOverrides::default()
                },
                "\"a or linux\" is not the name of a pool",
            ),
        ];
        for (overrides, expected) in cases {
            let error = overridden(&overrides).expect_err(expected).to_string();
            assert!(error.starts_with(expected), "{error}");
        }
    }
}
