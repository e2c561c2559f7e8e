//! `pennine yard`: the yard as a file.

use super::capacity::decisions;
use crate::error::Error;
use crate::view;
use crate::yard_file::difference::{self, Difference, DifferenceAction};
use crate::yard_file::document::{MOST_BYTES, Yard};
use crate::yard_file::kind::ThingKind;
use crate::yard_file::reach::{Leave, Reach};
use clap::Subcommand;
use pennine_client::Client;
use pennine_wire::AppliedYardFile;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

#[derive(Subcommand)]
pub enum Verb {
    /// Print the yard as a file: teams, projects, seats, suppliers, pools, targets, variables, and the roles of groups and tokens.
    /// Secrets are not in it.
    Export,
    /// Show the differences between the yard and a file, and what applying it would do.
    Diff {
        /// The file; - for standard input.
        file: PathBuf,
        /// Exit with status 1 if anything differs.
        #[arg(long)]
        check: bool,
    },
    /// Make the yard match a file. It can be repeated: what already matches is left alone. Everything in the
    /// file is marked as managed by it.
    Apply {
        /// The file; - for standard input.
        file: PathBuf,
        /// Remove what the file does not mention.
        #[arg(long)]
        remove: bool,
        /// With --remove, also remove what is busy: its jobs end and are retried elsewhere.
        #[arg(long, requires = "remove")]
        force: bool,
        /// Proceed although jobs would be left without a runner.
        #[arg(long)]
        yes: bool,
    },
    /// Forget the applied yard file: nothing is marked as managed any more.
    Forget,
}

/// Notes after a manual change that the thing is managed by the yard file.
pub async fn remind(client: &Client, kind: ThingKind, name: &str) {
    // The change is made: a failure to print the note does not matter.
    let Ok(Some(file)) = client.yard_file().await else {
        return;
    };
    if file.holds(kind.word(), name) {
        view::note(format!(
            "note: the {} {name} is managed by {} (applied by {} at {}): the next apply overwrites this change",
            kind.word(),
            file.name,
            file.applied_by,
            file.applied_at
        ));
    }
}

fn read(file: &Path) -> Result<Yard, Error> {
    let broken = |error: std::io::Error| Error::Usage(format!("{}: {error}", file.display()));
    let mut text = String::new();
    let read = if file == Path::new("-") {
        std::io::stdin()
            .take(MOST_BYTES + 1)
            .read_to_string(&mut text)
    } else {
        let opened = std::fs::File::open(file).map_err(broken)?;
        opened.take(MOST_BYTES + 1).read_to_string(&mut text)
    };
    read.map_err(broken)?;
    if text.len() as u64 > MOST_BYTES {
        let message = format!(
            "{}: a yard file has at most {MOST_BYTES} bytes",
            file.display()
        );
        return Err(Error::Usage(message));
    }
    Yard::parse(&text).map_err(|wrong| Error::Usage(format!("{}: {wrong}", file.display())))
}

/// `pennine yard`.
pub async fn run(client: &Client, json: bool, verb: Verb) -> Result<ExitCode, Error> {
    match verb {
        Verb::Export => {
            let yard = Yard::read(client).await?;
            if json {
                view::json(&yard)?;
            } else {
                view::print(&yard.text().map_err(Error::Here)?)?;
            }
        }
        Verb::Diff { file, check } => {
            let wanted = read(&file)?;
            let there = Yard::read(client).await?;
            let found = difference::between(&there, &wanted);
            let differs = found
                .iter()
                .any(|one| one.what != DifferenceAction::Unmentioned);
            if json {
                view::json(&found)?;
            } else {
                let reach = Reach {
                    client,
                    there: &there,
                    wanted: &wanted,
                    folder: Path::new("."),
                    leave: Leave::default(),
                };
                view::print(&foreseen(&reach, &found).await?)?;
            }
            if check && differs {
                return Ok(ExitCode::FAILURE);
            }
        }
        Verb::Apply {
            file,
            remove,
            force,
            yes,
        } => {
            let wanted = read(&file)?;
            let there = Yard::read(client).await?;
            let reach = Reach {
                client,
                there: &there,
                wanted: &wanted,
                folder: file.parent().unwrap_or(Path::new(".")),
                leave: Leave {
                    accept_losses: yes,
                    force,
                },
            };
            let found = difference::between(&there, &wanted);
            apply(&reach, &found, remove, json).await?;
            let name = file
                .file_name()
                .map(|name| name.to_string_lossy().into_owned());
            let applied = AppliedYardFile {
                name: name
                    .filter(|name| name != "-")
                    .unwrap_or_else(|| "yard.toml".to_owned()),
                things: wanted.things(),
            };
            client.note_yard_file(&applied).await?;
        }
        Verb::Forget => {
            client.forget_yard_file().await?;
            view::line("No yard file manages the yard any more; nothing else has changed.")?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The differences, with what making them so would do.
async fn foreseen(reach: &Reach<'_>, found: &[Difference]) -> Result<String, Error> {
    let mut text = difference::differences_text(found);
    if text.is_empty() {
        text += "The yard matches the file.\n";
    }
    let pools = found.iter().filter(|one| one.kind == ThingKind::Pool);
    for pool in pools.filter(|one| one.what == DifferenceAction::Changed) {
        let name = &pool.name;
        match reach.change_pool(name, true).await {
            Ok(foreseen) => {
                text += &view::losses(&foreseen.losses);
                if !foreseen.decisions.is_empty() {
                    text += &format!(
                        "Decisions for {name} that would follow:\n{}",
                        decisions(&foreseen.decisions)
                    );
                }
            }
            // What is new in the file may be what it needs.
            Err(Error::Client(error)) if error.problem().is_some() => {
                text += &format!("{name}, in the present yard: {error}\n");
            }
            Err(other) => return Err(other),
        }
    }
    if let Some(names) = difference::unmentioned(found) {
        text += &format!("Not in the file, left unchanged (--remove removes them): {names}\n");
    }
    Ok(text)
}

async fn apply(
    reach: &Reach<'_>,
    found: &[Difference],
    remove: bool,
    json: bool,
) -> Result<(), Error> {
    let mut done: Vec<&Difference> = Vec::new();
    let mut stays = Vec::new();
    let steps = found
        .iter()
        .filter(|one| one.what != DifferenceAction::Unmentioned);
    for one in steps {
        reach
            .make(one)
            .await
            .map_err(|error| at(one, error, done.len()))?;
        done.push(one);
    }
    let unmentioned = found.iter().rev();
    for one in unmentioned.filter(|one| remove && one.what == DifferenceAction::Unmentioned) {
        let removed = reach.remove(one).await;
        if removed.map_err(|error| at(one, error, done.len()))? {
            done.push(one);
        } else {
            stays.push(one);
        }
    }
    if json {
        return view::json(&done);
    }
    let mut text = String::new();
    for one in &done {
        let verb = match one.what {
            DifferenceAction::New => "added",
            DifferenceAction::Changed => "changed",
            DifferenceAction::Unmentioned => "removed",
        };
        text += &format!("{verb} {} {}\n", one.kind.word(), one.name);
    }
    if done.is_empty() {
        text += "The yard already matches the file.\n";
    }
    for (kind, reason) in [
        (
            ThingKind::Seat,
            "These seats stay, because jobs on record use them; a count of 0 closes them",
        ),
        (
            ThingKind::Token,
            "These tokens stay, because a program may use them; to end one: pennine token revoke NAME",
        ),
    ] {
        let names = stays.iter().filter(|one| one.kind == kind);
        let names: Vec<&str> = names.map(|one| one.name.as_str()).collect();
        if !names.is_empty() {
            text += &format!("{reason}: {}\n", names.join(", "));
        }
    }
    if !remove && let Some(names) = difference::unmentioned(found) {
        text += &format!("Not in the file, left unchanged: {names}\n");
    }
    view::print(&text)
}

/// Names the thing at which it stopped, and how far it came.
fn at(one: &Difference, error: Error, done: usize) -> Error {
    view::note(format!(
        "stopped at {} {}; {done} done before it. Apply the file again to continue.",
        one.kind.word(),
        one.name
    ));
    error
}
