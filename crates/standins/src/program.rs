//! A program of a test's own.

use anyhow::ensure;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Makes a program of a text. Another process writes it: where this one does, what another thread starts at that moment
/// has the file open for writing too, and then it cannot be executed.
pub fn program(folder: &Path, name: &str, text: &str) -> anyhow::Result<PathBuf> {
    let (source, path) = (folder.join(format!("{name}.text")), folder.join(name));
    std::fs::write(&source, text)?;
    let made = Command::new("install")
        .args(["-m", "755"])
        .args([&source, &path])
        .status()?;
    ensure!(made.success(), "{} cannot be made", path.display());
    std::fs::remove_file(source)?;
    Ok(path)
}
