//! The secrets of an attempt: asked for when it starts, given to its command, hidden in its log.

use crate::backoff::Backoff;
use crate::environment::RunnerEnvironment;
use crate::handle::AttemptHandle;
use crate::masking::Masker;
use crate::system::isolation::folder::JobFolder;
use pennine_core::job_policy::IsolationLevel;
use pennine_core::secret::{SecretText, SecretUse};
use pennine_wire::runner_protocol::{Assigned, SecretsRequest, StopCause};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Where the files of secrets are where the job has mounts of its own: in memory.
const FOLDER: &str = "/dev/shm/secrets";
/// What they are called where it has none.
const FOLDER_OF_JOB: &str = "secrets";

/// The values of an attempt's secrets.
#[derive(Default)]
pub(super) struct JobSecrets {
    values: BTreeMap<String, SecretText>,
}

/// Why an attempt does not start.
pub(super) enum SecretsError {
    /// It was ended meanwhile.
    Stopped,
    /// The service gives them not, for people.
    Refused(String),
}

impl JobSecrets {
    /// Asks the service for them, until it answers.
    pub(super) async fn fetch(
        environment: &RunnerEnvironment,
        assigned: &Assigned,
        handle: &AttemptHandle,
    ) -> Result<JobSecrets, SecretsError> {
        if assigned.secrets.is_empty() {
            return Ok(JobSecrets::default());
        }
        let asked = SecretsRequest {
            lease: assigned.lease,
        };
        let mut pace = Backoff::default();
        loop {
            if handle.stopped_as().is_some() {
                return Err(SecretsError::Stopped);
            }
            match environment.client.secrets(assigned.attempt, &asked).await {
                Ok(given) => {
                    let missing = assigned.secrets.keys();
                    let missing = missing.filter(|name| !given.values.contains_key(*name));
                    return match missing.count() {
                        0 => Ok(JobSecrets {
                            values: given.values,
                        }),
                        count => Err(SecretsError::Refused(format!(
                            "the service gave no value for {count} of the job's secrets"
                        ))),
                    };
                }
                Err(error) if error.passes() => pace.pause().await,
                Err(error) => {
                    let Some(problem) = error.problem() else {
                        return Err(SecretsError::Refused(error.to_string()));
                    };
                    if problem.word() == "stale-lease" {
                        handle.stop(StopCause::Over, "the attempt has ended for the service");
                        return Err(SecretsError::Stopped);
                    }
                    let detail = problem.detail.clone();
                    return Err(SecretsError::Refused(match &problem.remedy {
                        Some(remedy) => format!("{detail}. {remedy}"),
                        None => detail,
                    }));
                }
            }
        }
    }

    /// Where the files of the job's secrets are, as the job sees them.
    pub(super) fn folder(assigned: &Assigned, folder: Option<&JobFolder>) -> PathBuf {
        match folder {
            Some(folder) if assigned.policy.isolation == IsolationLevel::None => {
                folder.path().join(FOLDER_OF_JOB)
            }
            _ => PathBuf::from(FOLDER),
        }
    }

    /// The environment variables of the job's secrets, whose files are in a folder.
    pub(super) fn variables(&self, assigned: &Assigned, folder: &Path) -> BTreeMap<String, String> {
        let uses = assigned.secrets.iter();
        uses.filter_map(|(name, given_as)| {
            let value = match given_as {
                SecretUse::Variable => self.values.get(name)?.0.clone(),
                SecretUse::File => folder.join(name).display().to_string(),
            };
            Some((name.clone(), value))
        })
        .collect()
    }

    /// The contents of the files, by name.
    pub(super) fn files(&self, assigned: &Assigned) -> BTreeMap<String, String> {
        let uses = assigned.secrets.iter();
        let files = uses.filter(|(_, given_as)| **given_as == SecretUse::File);
        files
            .filter_map(|(name, _)| Some((name.clone(), self.values.get(name)?.0.clone())))
            .collect()
    }

    /// What hides them in the job's output.
    pub(super) fn masker(&self) -> Masker {
        Masker::new(self.values.values().map(|value| value.0.as_str()))
    }
}
