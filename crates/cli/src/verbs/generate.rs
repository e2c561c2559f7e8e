//! `pennine generate`: completions of shells and manual pages, from the definitions of the commands.

use crate::error::Error;
use crate::view;
use clap::{Command, Subcommand};
use clap_complete::Shell;
use std::path::{Path, PathBuf};

#[derive(Subcommand)]
pub enum Verb {
    /// Print the completion script of a shell.
    ///
    /// For bash, save it as /etc/bash_completion.d/pennine; for zsh, as _pennine in a folder of $fpath; for fish, as
    /// ~/.config/fish/completions/pennine.fish.
    Completions {
        /// The shell.
        shell: Shell,
    },
    /// Write the manual pages to a folder: pennine.1, and a page for each command.
    Man {
        /// The folder, such as /usr/local/share/man/man1.
        folder: PathBuf,
    },
}

/// `pennine generate`.
pub fn run(mut command: Command, verb: Verb) -> Result<(), Error> {
    match verb {
        Verb::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut command, "pennine", &mut script);
            view::print(&String::from_utf8_lossy(&script))
        }
        Verb::Man { folder } => {
            let failed =
                |error: std::io::Error| Error::Here(format!("{}: {error}", folder.display()));
            std::fs::create_dir_all(&folder).map_err(failed)?;
            command.build();
            let pages = write_pages(&command, "pennine", &folder).map_err(failed)?;
            view::line(format!("{pages} pages are in {}.", folder.display()))
        }
    }
}

/// Writes the page of a command and of those below it, and returns how many.
fn write_pages(command: &clap::Command, name: &str, folder: &Path) -> std::io::Result<usize> {
    let mut page = Vec::new();
    let titled = command.clone().name(name.to_owned());
    clap_mangen::Man::new(titled).render(&mut page)?;
    std::fs::write(folder.join(format!("{name}.1")), page)?;
    let mut pages = 1;
    for below in command.get_subcommands() {
        if below.get_name() != "help" {
            pages += write_pages(below, &format!("{name}-{}", below.get_name()), folder)?;
        }
    }
    Ok(pages)
}
