//! Unpacking an archive of files into a folder.

use flate2::read::GzDecoder;
use pennine_core::size::ByteSize;
use sha2::{Digest, Sha256};
use std::fs::{DirBuilder, OpenOptions};
use std::io::{self, Read};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, symlink};
use std::path::{Component, Path, PathBuf};
use tar::EntryType;

/// The most files of an archive.
const MOST_FILES: u64 = 200_000;
/// The most bytes that they may have together, unpacked.
const MOST_BYTES: u64 = 16 << 30;

/// What an archive held.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Unpacked {
    pub files: u64,
    pub bytes: u64,
}

/// Why an archive cannot be unpacked.
#[derive(Debug, thiserror::Error)]
pub enum SourceError {
    /// It cannot be read, or its files cannot be written.
    #[error("{0}")]
    Io(#[from] io::Error),
    /// One of its entries is not taken.
    #[error("{name:?} {what}")]
    Entry { name: String, what: &'static str },
    /// There are too many files.
    #[error("it holds more than {MOST_FILES} files")]
    TooMany,
    /// The files are too large.
    #[error("it holds more than {}", ByteSize(MOST_BYTES))]
    TooLarge,
    /// Something else was received than was uploaded.
    #[error("it is not the archive that was uploaded: its SHA-256 differs")]
    Digest,
}

/// Reads what it passes on, and hashes it.
struct Hashing<R> {
    inner: R,
    hash: Sha256,
}

impl<R: Read> Read for Hashing<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(into)?;
        self.hash.update(into.get(..count).unwrap_or_default());
        Ok(count)
    }
}

/// Unpacks an archive into a folder. Files, folders and links within it are taken; anything else is an error, and nothing of it is
/// made. The archive's digest, in hexadecimal, is compared at the end.
///
/// # Errors
/// What is wrong with the archive; what was unpacked before it stays.
pub fn unpack(archive: impl Read, digest: &str, into: &Path) -> Result<Unpacked, SourceError> {
    let mut hashing = Hashing {
        inner: archive,
        hash: Sha256::new(),
    };
    let mut unpacked = Unpacked::default();
    let mut entries = tar::Archive::new(GzDecoder::new(&mut hashing));
    for entry in entries.entries()? {
        let mut entry = entry?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        let wrong = |what: &'static str| SourceError::Entry {
            name: name.clone(),
            what,
        };
        let path = inner_path(&entry.path()?).ok_or_else(|| wrong("leaves the folder"))?;
        if path.as_os_str().is_empty() {
            continue;
        }
        if path.as_os_str().len() > 4000 || name.chars().any(char::is_control) {
            return Err(wrong("is no name of a file that is unpacked"));
        }
        let place = into.join(&path);
        let kind = entry.header().entry_type();
        if !matches!(
            kind,
            EntryType::Regular | EntryType::Directory | EntryType::Symlink
        ) {
            return Err(wrong("is neither a file, a folder nor a link to one"));
        }
        unpacked.files += 1;
        if unpacked.files > MOST_FILES {
            return Err(SourceError::TooMany);
        }
        make_folders(into, &path, kind == EntryType::Directory).map_err(|error| match error {
            Some(error) => SourceError::Io(error),
            None => wrong("is below a link"),
        })?;
        match kind {
            EntryType::Directory => unpacked.files -= 1,
            EntryType::Symlink => {
                let target = entry.link_name()?.unwrap_or_default().into_owned();
                if !stays_within(&path, &target) {
                    return Err(wrong("is a link that leaves the folder"));
                }
                symlink(&target, &place)?;
            }
            _ => {
                let left = MOST_BYTES - unpacked.bytes;
                if entry.size() > left {
                    return Err(SourceError::TooLarge);
                }
                let mode = if entry.header().mode()? & 0o100 == 0 {
                    0o644
                } else {
                    0o755
                };
                // A file that is there already is an error: the archive names it twice.
                let mut file = OpenOptions::new()
                    .write(true)
                    .create_new(true)
                    .mode(mode)
                    .open(&place)?;
                unpacked.bytes += io::copy(&mut entry, &mut file)?;
            }
        }
    }
    // What follows the archive's end belongs to its digest, too.
    let mut rest = entries.into_inner();
    io::copy(&mut rest, &mut io::sink())?;
    io::copy(&mut hashing, &mut io::sink())?;
    let found: String = hashing
        .hash
        .finalize()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    match found == digest {
        true => Ok(unpacked),
        false => Err(SourceError::Digest),
    }
}

/// A path of an archive without its `.` parts; none where it leaves the folder.
fn inner_path(path: &Path) -> Option<PathBuf> {
    let mut inner = PathBuf::new();
    for part in path.components() {
        match part {
            Component::Normal(name) => inner.push(name),
            Component::CurDir => {}
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => return None,
        }
    }
    Some(inner)
}

/// Whether a link at a path leads to a place in the folder. Only its text is known: what it names may be a link, too, so `..` may not
/// follow a name.
fn stays_within(link: &Path, target: &Path) -> bool {
    let mut above = link.components().count().saturating_sub(1);
    let mut is_named = false;
    for part in target.components() {
        match part {
            Component::Normal(_) => is_named = true,
            Component::CurDir => {}
            Component::ParentDir if above > 0 && !is_named => above -= 1,
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => return false,
        }
    }
    true
}

/// Makes the folders above a path, and the path itself where it is one. No error is given where a link is in the way: nothing is
/// made behind it.
fn make_folders(into: &Path, path: &Path, whole: bool) -> Result<(), Option<io::Error>> {
    let folders = if whole { Some(path) } else { path.parent() };
    let mut at = into.to_owned();
    for part in folders.into_iter().flat_map(Path::components) {
        at.push(part);
        match at.symlink_metadata() {
            Ok(found) if found.is_dir() => {}
            Ok(_) => return Err(None),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                DirBuilder::new().mode(0o755).create(&at).map_err(Some)?;
            }
            Err(error) => return Err(Some(error)),
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests;
