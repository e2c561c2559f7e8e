//! A job's environment variables, and the head of its log.

use super::identity::{SOCKET_VARIABLE, socket_path};
use crate::environment::RunnerEnvironment;
use crate::system::isolation::folder::JobFolder;
use crate::system::keeper;
use pennine_core::fact::Subject;
use pennine_core::job_policy::IsolationLevel;
use pennine_core::requirement::Requirement;
use pennine_core::trust::Trust;
use pennine_wire::runner_protocol::Assigned;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// The command's whole environment, with the variables of its secrets.
pub(super) fn variables(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    folder: Option<&JobFolder>,
    secrets: BTreeMap<String, String>,
) -> BTreeMap<String, String> {
    let place = |of: fn(&JobFolder) -> PathBuf| {
        folder.map_or_else(|| "/".to_owned(), |folder| of(folder).display().to_string())
    };
    // Private mounts put the job's own folder there.
    let has_mounts = assigned.policy.isolation > IsolationLevel::None;
    let is_runners_user = folder.is_none_or(|folder| folder.user().is_none());
    let home = std::env::var("HOME")
        .ok()
        .filter(|_| is_runners_user && !has_mounts);
    let temporary = if has_mounts {
        "/tmp".to_owned()
    } else {
        place(JobFolder::temporary)
    };
    let own = [
        ("PATH", environment.path()),
        ("HOME", home.unwrap_or_else(|| place(JobFolder::home))),
        ("TMPDIR", temporary),
        ("USER", environment.user.clone()),
        ("LANG", "C.UTF-8".to_owned()),
        ("CI", "true".to_owned()),
        ("PENNINE_JOB", assigned.job.clone()),
        ("PENNINE_PROJECT", assigned.project.clone()),
        ("PENNINE_POOL", assigned.pool.clone()),
        ("PENNINE_RUNNER", assigned.runner.clone()),
        ("PENNINE_ATTEMPT_NUMBER", assigned.number.to_string()),
        ("PENNINE_WORKSPACE", place(JobFolder::workspace)),
    ];
    let mut variables: BTreeMap<String, String> = own
        .into_iter()
        .map(|(name, value)| (name.to_owned(), value))
        .collect();
    if let Ok(program) = std::env::current_exe() {
        let program = program.display().to_string();
        variables.insert("PENNINE_RUNNER_PROGRAM".to_owned(), program);
    }
    if let Some(folder) = folder {
        let socket = socket_path(folder).display().to_string();
        variables.insert(SOCKET_VARIABLE.to_owned(), socket);
    }
    variables.extend(assigned.inherited_variables.clone());
    variables.extend(environment.own.borrow().variables.clone());
    variables.extend(assigned.variables.clone());
    variables.extend(secrets);
    variables.insert(keeper::MARKER.to_owned(), assigned.attempt.to_string());
    variables
}

/// The first lines of the log: where the job runs, so that jobs need no commands to print it.
pub(super) fn heading(
    environment: &RunnerEnvironment,
    assigned: &Assigned,
    folder: Option<&JobFolder>,
) -> Vec<String> {
    let own = environment.own.borrow();
    let labels = own.labels.iter().chain(&assigned.pool_labels);
    let mut facts = environment.facts.borrow().clone();
    facts.extend(own.facts.clone());
    let subject = Subject::new(
        &assigned.runner,
        &assigned.pool,
        labels.map(String::as_str),
        &facts,
    );
    let clauses = match assigned.requirement.parse::<Requirement>() {
        Ok(requirement) if requirement.is_any() => "no requirement".to_owned(),
        Ok(requirement) if requirement.satisfied_by(&subject) => {
            format!("satisfied here: {requirement}")
        }
        _ => format!("requirement: {}", assigned.requirement),
    };
    let policy = &assigned.policy;
    let place = folder.map(|folder| format!("in {}", folder.workspace().display()));
    let limits = environment.abilities.limits(policy);
    let lines = [
        format!(
            "{} \"{}\" of {}, attempt {}",
            assigned.job, assigned.title, assigned.project, assigned.number
        ),
        format!(
            "runner {} in the pool {}, on {}, pennine-runner {}",
            assigned.runner,
            assigned.pool,
            environment.host,
            env!("CARGO_PKG_VERSION")
        ),
        match assigned.trust {
            Trust::Trusted => String::new(),
            Trust::Untrusted => "untrusted job".to_owned(),
        },
        environment
            .abilities
            .describe(policy.isolation, policy.network),
        limits,
        place.unwrap_or_default(),
        clauses,
        format!("$ {}", shown(&assigned.command)),
    ];
    lines.into_iter().filter(|line| !line.is_empty()).collect()
}

/// A command as one would type it into a shell.
fn shown(command: &[String]) -> String {
    let words = command.iter().map(String::as_str);
    // Only a NUL could not be quoted, and that is allowed here: the text is read, not run.
    let quoted = shlex::Quoter::new().allow_nul(true).join(words.clone());
    quoted.unwrap_or_else(|_| words.collect::<Vec<_>>().join(" "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_is_shown_as_one_would_type_it() {
        let command = ["make", "-j2", "CFLAGS=-O2 -g", "it's", ""].map(str::to_owned);
        assert_eq!(shown(&command), "make -j2 'CFLAGS=-O2 -g' \"it's\" ''");
    }
}
