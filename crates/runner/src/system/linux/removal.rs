//! Removing what a job has left.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;

/// Removes a folder with everything in it, folders that a job made read-only too.
pub fn remove_whole(folder: &Path) -> std::io::Result<()> {
    let gone = |error: &std::io::Error| error.kind() == std::io::ErrorKind::NotFound;
    match std::fs::remove_dir_all(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => {
            make_writable(folder)?;
            std::fs::remove_dir_all(folder)
        }
        Err(error) if !gone(&error) => Err(error),
        _ => Ok(()),
    }
}

/// Lets the owner write in a folder and all below it. Links are not followed.
fn make_writable(folder: &Path) -> std::io::Result<()> {
    let mut ahead = vec![folder.to_owned()];
    while let Some(folder) = ahead.pop() {
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o700))?;
        for entry in std::fs::read_dir(&folder)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                ahead.push(entry.path());
            }
        }
    }
    Ok(())
}
