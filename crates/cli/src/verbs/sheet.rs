//! `pennine sheet`: the job sheet of a project.

use crate::connection::{self, GlobalArguments};
use crate::error::Error;
use crate::view;
use clap::Subcommand;
use pennine_core::sheet::{MOST_BYTES, ProjectFiles, Sheet, SheetJob, guess, schema};
use pennine_wire::{NewTrial, Trial};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

#[derive(Subcommand)]
pub enum Verb {
    /// Check a job sheet: its keys, what waits for what, and whether runners satisfy each job's requirement.
    Check {
        /// The sheet; - for standard input.
        #[arg(default_value = "pennine.toml")]
        file: PathBuf,
        /// Count only the pools that this project may use.
        #[arg(long)]
        project: Option<String>,
        /// Check the sheet alone, without asking the service about runners.
        #[arg(long)]
        offline: bool,
    },
    /// Write a first job sheet for a folder, guessed from its build files (Makefile, Cargo.toml, package.json and others).
    New {
        /// The folder.
        #[arg(default_value = ".")]
        dir: PathBuf,
    },
    /// Print the format of job sheets as a JSON Schema, for editors.
    Schema,
}

/// A job of a sheet, as JSON.
#[derive(Serialize)]
struct CheckedJob {
    job: String,
    /// From 1: the jobs of a step wait only for jobs of earlier ones.
    step: usize,
    line: usize,
    after: Vec<String>,
    #[serde(rename = "where")]
    requirement: String,
    /// Runners that satisfy the requirement, of how many; none where the service was not asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    runners: Option<(u64, u64)>,
}

/// `pennine sheet`.
pub async fn run(whole: &GlobalArguments, verb: Verb) -> Result<(), Error> {
    let (file, project, offline) = match verb {
        Verb::Check {
            file,
            project,
            offline,
        } => (file, project, offline),
        Verb::New { dir } => return first(whole, &dir),
        Verb::Schema => return view::json(&schema()),
    };
    let sheet = parse(&file, &read(&file)?, &BTreeMap::new())?;
    let trials = match offline {
        true => BTreeMap::new(),
        false => tried(whole, &sheet, project).await?,
    };
    let jobs = checked(&sheet, &trials);
    if whole.json {
        return view::json(&jobs);
    }
    view::print(&text(&file, &sheet, &jobs, &trials))
}

/// A first sheet that was written, as JSON.
#[derive(Serialize)]
struct WrittenSheet {
    file: PathBuf,
    /// The files that it was guessed from.
    from: Vec<&'static str>,
}

/// Writes a first sheet for a folder.
fn first(whole: &GlobalArguments, folder: &Path) -> Result<(), Error> {
    let file = folder.join("pennine.toml");
    let wrong = |error: std::io::Error| match error.kind() {
        ErrorKind::AlreadyExists => Error::Usage(format!(
            "{} is there already; check it with: pennine sheet check {0}",
            file.display()
        )),
        _ => Error::Usage(format!("{}: {error}", file.display())),
    };
    let entries = std::fs::read_dir(folder).map_err(wrong)?;
    let names = entries
        .flatten()
        .map(|entry| entry.file_name().to_string_lossy().into_owned());
    let text = |name: &str| read(&folder.join(name)).ok();
    let guessed = guess(&ProjectFiles {
        names: names.collect(),
        makefile: text("Makefile"),
        package: text("package.json"),
    });
    let mut written = File::create_new(&file).map_err(wrong)?;
    written.write_all(guessed.text.as_bytes()).map_err(wrong)?;
    if whole.json {
        let from = guessed.from;
        return view::json(&WrittenSheet { file, from });
    }
    let shown = file.display();
    view::line(match guessed.from.as_slice() {
        [] => format!(
            "Wrote {shown} with an example: no known build file was found. Replace its command, then: pennine sheet check {shown}"
        ),
        from => format!(
            "Wrote {shown}, guessed from {}. Correct what is wrong, then: pennine sheet check {shown}",
            from.join(", ")
        ),
    })
}

/// The text of a sheet.
pub(super) fn read(file: &Path) -> Result<String, Error> {
    let wrong = |error: std::io::Error| Error::Usage(format!("{}: {error}", file.display()));
    let most = MOST_BYTES as u64 + 1;
    let mut text = String::new();
    if file == Path::new("-") {
        std::io::stdin().take(most).read_to_string(&mut text)
    } else {
        let opened = std::fs::File::open(file).map_err(wrong)?;
        opened.take(most).read_to_string(&mut text)
    }
    .map_err(wrong)?;
    Ok(text)
}

/// The checked sheet, with these values in place of its own. Mistakes are printed one to a line, as editors read them.
pub(super) fn parse(
    file: &Path,
    text: &str,
    values: &BTreeMap<String, String>,
) -> Result<Sheet, Error> {
    Sheet::with_values(text, values).map_err(|mistakes| {
        for one in &mistakes {
            view::mistake(file, one.line, one.column, &one.message);
        }
        let s = if mistakes.len() == 1 { "" } else { "s" };
        Error::Usage(format!(
            "{} has {} mistake{s}",
            file.display(),
            mistakes.len()
        ))
    })
}

/// Tries each requirement of the sheet against the yard, once.
async fn tried(
    whole: &GlobalArguments,
    sheet: &Sheet,
    project: Option<String>,
) -> Result<BTreeMap<String, Trial>, Error> {
    let client = connection::connect(whole)?;
    let mut trials = BTreeMap::new();
    for job in &sheet.jobs {
        let requirement = job.requirement.to_string();
        if trials.contains_key(&requirement) {
            continue;
        }
        let new = NewTrial {
            requirement: requirement.clone(),
            project: project.clone(),
        };
        trials.insert(requirement, client.try_requirement(&new).await?);
    }
    Ok(trials)
}

fn checked(sheet: &Sheet, trials: &BTreeMap<String, Trial>) -> Vec<CheckedJob> {
    let name = |position: &usize| sheet.jobs.get(*position).map(|job| job.name.clone());
    let mut checked = Vec::new();
    for (step, positions) in sheet.steps().iter().enumerate() {
        for job in positions
            .iter()
            .filter_map(|position| sheet.jobs.get(*position))
        {
            let requirement = job.requirement.to_string();
            let runners = trials.get(&requirement);
            checked.push(CheckedJob {
                job: job.name.clone(),
                step: step + 1,
                line: job.line,
                after: job
                    .after
                    .iter()
                    .filter_map(|need| name(&need.job))
                    .collect(),
                runners: runners.map(|trial| {
                    (
                        u64::from(trial.standing.satisfying),
                        trial.explanation.runners,
                    )
                }),
                requirement,
            });
        }
    }
    checked
}

fn counted(count: usize, noun: &str) -> String {
    let s = if count == 1 { "" } else { "s" };
    format!("{count} {noun}{s}")
}

/// The names of jobs by their base, so that combinations of one job are one word.
fn after(job: &SheetJob, sheet: &Sheet) -> String {
    let mut names: Vec<&str> = Vec::new();
    for need in &job.after {
        let base = sheet
            .jobs
            .get(need.job)
            .map_or("", |other| other.base.as_str());
        if !names.contains(&base) {
            names.push(base);
        }
    }
    names.join(", ")
}

fn text(
    file: &Path,
    sheet: &Sheet,
    jobs: &[CheckedJob],
    trials: &BTreeMap<String, Trial>,
) -> String {
    let steps = jobs.iter().map(|job| job.step).max().unwrap_or(0);
    let mut text = format!(
        "{}: {} in {}, no mistakes.\n\n",
        file.display(),
        counted(jobs.len(), "job"),
        counted(steps, "step")
    );
    let after: BTreeMap<&str, String> = (sheet.jobs.iter())
        .map(|job| (job.name.as_str(), after(job, sheet)))
        .collect();
    let rows = jobs.iter().map(|job| {
        vec![
            job.step.to_string(),
            view::cut(&job.job, 30),
            view::cut(after.get(job.job.as_str()).map_or("", String::as_str), 24),
            view::cut(&job.requirement, view::roomy(40)),
            match job.runners {
                Some((satisfying, all)) => format!("{satisfying} of {all}"),
                None => "not asked".to_owned(),
            },
        ]
    });
    text += &view::table(&["step", "job", "after", "where", "runners"], rows);
    for (requirement, trial) in trials {
        let names = jobs.iter().filter(|job| job.requirement == *requirement);
        let names: Vec<&str> = names.map(|job| job.job.as_str()).collect();
        if trial.standing.satisfying == 0 {
            text += &format!(
                "\n{}: {}\n",
                view::cut(&names.join(", "), 60),
                trial.message
            );
        }
        if let Some(near) = &trial.explanation.nearest {
            let fails = near.fails.join(", ");
            text += &format!(
                "  nearest runner: {}, which fails only: {fails}\n",
                near.runner
            );
        }
        for hint in &trial.hints {
            text += &format!("  {}\n", hint.describe());
        }
    }
    text
}
