//! Submitting a run, and following it.

use super::exit_code;
use super::overrides::OverrideArguments;
use super::text::{ended, summary};
use crate::error::Error;
use crate::verbs::sheet;
use crate::{repository, source_archive, view};
use clap::Args;
use pennine_client::Client;
use pennine_core::id::SourceId;
use pennine_core::lifecycle::job::JobState;
use pennine_core::run::RunState;
use pennine_core::trust::Trust;
use pennine_wire::NewRun;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

#[derive(Args)]
pub struct Submit {
    /// The folder with the job sheet, pennine.toml. Its files are sent: each job begins with them.
    #[arg(default_value = ".", conflicts_with = "repo")]
    dir: PathBuf,
    /// Submit a revision of this repository instead, which each job fetches with git: https://forge.example/shore/soundings.git
    #[arg(long, value_name = "URL")]
    repo: Option<String>,
    /// The revision: a branch, a tag or the whole hash of a commit.
    #[arg(long, value_name = "REV", default_value = "HEAD", requires = "repo")]
    at: String,
    /// The project's path, or its name if that is unique.
    #[arg(long)]
    project: String,
    /// What to call it [default: the names of its jobs]
    #[arg(long)]
    title: Option<String>,
    /// The branch that it is of. A newer run of the same branch can overtake it.
    #[arg(long)]
    branch: Option<String>,
    /// The revision that it is of.
    #[arg(long, conflicts_with = "repo")]
    revision: Option<String>,
    /// Why it is submitted, for the sheet's applies [default: manual]
    #[arg(long)]
    event: Option<String>,
    /// A value in place of the sheet's own; may be given several times.
    #[arg(long = "value", value_name = "NAME=VALUE", value_parser = crate::verbs::job::pair)]
    values: Vec<(String, String)>,
    #[command(flatten)]
    overrides: OverrideArguments,
    /// Its code is not trusted: its jobs take no seats, are given no secrets, and run only in pools that take untrusted jobs.
    #[arg(long)]
    untrusted: bool,
    /// Send no files: each job begins with an empty workspace.
    #[arg(long)]
    no_files: bool,
    /// Report the end of each job; exit with 0 if the run succeeds and 1 if not.
    #[arg(long)]
    follow: bool,
}

/// How long a follower waits between two looks at a run.
const LOOK: Duration = Duration::from_secs(1);

/// Submits a folder, or a revision of a repository.
pub(super) async fn submit(client: &Client, json: bool, submit: Submit) -> Result<ExitCode, Error> {
    let values: BTreeMap<String, String> = submit.values.into_iter().collect();
    let mut new = NewRun {
        project: submit.project,
        title: submit.title,
        branch: submit.branch,
        revision: submit.revision,
        event: submit.event,
        trust: match submit.untrusted {
            true => Trust::Untrusted,
            false => Trust::Trusted,
        },
        ..NewRun::default()
    };
    match submit.repo {
        Some(url) => {
            let resolved = repository::resolve(&url, &submit.at)?;
            // Mistakes are shown with their places before anything is sent.
            let checked = sheet::parse(Path::new("pennine.toml"), &resolved.sheet, &values)?;
            new.overrides = submit.overrides.of(&checked)?;
            new.sheet = resolved.sheet;
            new.branch = new.branch.or(resolved.branch);
            new.repository = Some(resolved.repository);
        }
        None => {
            let file = submit.dir.join("pennine.toml");
            new.sheet = sheet::read(&file)?;
            let checked = sheet::parse(&file, &new.sheet, &values)?;
            new.overrides = submit.overrides.of(&checked)?;
            if !submit.no_files {
                new.source = Some(upload(client, &submit.dir, &new.project).await?);
            }
        }
    }
    new.values = values;
    let taken = client.submit_run(&new).await?;
    for hint in &taken.hints {
        view::note(format!("note: {}: {}", hint.job, hint.hint.describe()));
    }
    let name = &taken.run.line.name;
    if submit.follow {
        if !json {
            view::note(format!("{name} is submitted"));
        }
        return follow(client, json, name).await;
    }
    if json {
        view::json(&taken)?;
    } else {
        let count = taken.run.graph.len();
        let s = if count == 1 { "" } else { "s" };
        view::line(format!(
            "{name} is submitted, with {count} job{s}. Watch it with: pennine run watch {name}"
        ))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// Sends a folder's files.
async fn upload(client: &Client, folder: &Path, project: &str) -> Result<SourceId, Error> {
    let packed = source_archive::pack(folder)?;
    let file = tokio::fs::File::from_std(packed.archive);
    let uploaded = client.upload_source(project, file, packed.bytes).await?;
    let s = if packed.files == 1 { "" } else { "s" };
    view::note(format!(
        "Sent {} file{s} ({})",
        packed.files, uploaded.bytes
    ));
    Ok(uploaded.id)
}

/// Reports the end of each job, until the run is done.
async fn follow(client: &Client, json: bool, name: &str) -> Result<ExitCode, Error> {
    let mut told: BTreeSet<String> = BTreeSet::new();
    loop {
        let run = client.run(name).await?;
        for job in &run.graph {
            let waits = job.needs_release.then(|| format!("{}/held", job.job.name));
            if let Some(waits) = waits.filter(|waits| !told.contains(waits)) {
                let release = format!("pennine run release {}", job.job.name);
                view::note(format!(
                    "{}: held until a person releases it: {release}",
                    job.job.title
                ));
                told.insert(waits);
            }
            if job.job.state == JobState::Done && told.insert(job.job.name.clone()) && !json {
                view::note(ended(job));
            }
        }
        if run.line.state == RunState::Done {
            if json {
                view::json(&run)?;
            } else {
                view::note(format!("{}: {}", run.line.name, summary(&run.line)));
            }
            return Ok(exit_code(&run.line));
        }
        tokio::time::sleep(LOOK).await;
    }
}
