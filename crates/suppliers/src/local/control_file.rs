//! The files by which a machine is known. Where machines have no walls they are the same user as the service and may put
//! anything in the place of these files: a link to a secret, a pipe without a writer, a file without end.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// The most that is read of a file that the service has written.
const LONGEST: u64 = 64 << 10;

/// Opens a file to read it: the file itself, not what a link in its place leads to, and without waiting for anybody.
fn open(path: &Path) -> io::Result<File> {
    let flags = nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK;
    let file = OpenOptions::new()
        .read(true)
        .custom_flags(flags)
        .open(path)?;
    if file.metadata()?.is_file() {
        Ok(file)
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidInput, "not a file"))
    }
}

/// Reads a file that the service has written.
pub(super) fn read(path: &Path) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    open(path)?.take(LONGEST).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Reads the last bytes of a file, at most `most`.
pub(super) fn read_end(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let mut file = open(path)?;
    let length = file.metadata()?.len();
    file.seek(SeekFrom::Start(length.saturating_sub(most)))?;
    let mut bytes = Vec::new();
    file.take(most).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Puts a new file in the place of what is there. It is there whole or not at all.
pub(super) fn write(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let new = path.with_extension("new");
    match std::fs::remove_file(&new) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let mut file = OpenOptions::new().write(true).create_new(true).open(&new)?;
    file.write_all(bytes)?;
    std::fs::rename(&new, path)
}

/// Opens a file for what a machine prints.
pub(super) fn append(path: &Path) -> io::Result<File> {
    let flags = nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK;
    let mut options = OpenOptions::new();
    options
        .create(true)
        .append(true)
        .custom_flags(flags)
        .open(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_and_pipes_in_the_place_of_a_file_are_not_read() {
        let folder = tempfile::tempdir().unwrap();
        let place = |name: &str| folder.path().join(name);
        std::fs::write(place("secret"), "key").unwrap();
        std::os::unix::fs::symlink(place("secret"), place("link")).unwrap();
        nix::unistd::mkfifo(&place("pipe"), nix::sys::stat::Mode::S_IRWXU).unwrap();
        for name in ["link", "pipe", "none"] {
            assert!(read(&place(name)).is_err(), "{name}");
            assert!(read_end(&place(name), 10).is_err(), "{name}");
        }
        assert!(append(&place("link")).is_err());
        write(&place("link"), b"pid").unwrap();
        assert_eq!(std::fs::read_to_string(place("secret")).unwrap(), "key");
        assert_eq!(read(&place("link")).unwrap(), b"pid");
        assert_eq!(read_end(&place("link"), 2).unwrap(), b"id");
        let endless = File::create(place("endless")).unwrap();
        endless.set_len(1 << 40).unwrap();
        assert_eq!(read(&place("endless")).unwrap().len(), 64 << 10);
    }
}
