//! Packs a folder's files for a run: a tar archive, compressed, without what its ignore rules leave out.

use crate::error::Error;
use flate2::Compression;
use flate2::write::GzEncoder;
use ignore::{DirEntry, WalkBuilder};
use pennine_core::size::ByteSize;
use std::fs::File;
use std::io::{BufWriter, Seek, SeekFrom, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use tar::{Builder, EntryType, Header};

/// The most bytes of files that are packed: a folder with more was probably not meant.
const MOST_BYTES: u64 = 4 << 30;

/// A packed folder.
pub struct Packed {
    /// A file without a name, at its beginning.
    pub archive: File,
    pub bytes: u64,
    pub files: u64,
}

fn wrong(path: &Path, error: impl std::fmt::Display) -> Error {
    Error::Usage(format!("{}: {error}", path.display()))
}

/// Packs a folder's files, except what `.gitignore` and `.ignore` files leave out, and for `.git` itself. Times and owners are
/// left out, so that the same files make the same archive.
///
/// # Errors
/// Where a file cannot be read, or the files are too large.
pub fn pack(folder: &Path) -> Result<Packed, Error> {
    let spool = tempfile::tempfile().map_err(|error| wrong(&std::env::temp_dir(), error))?;
    let encoder = GzEncoder::new(BufWriter::new(spool), Compression::fast());
    let mut builder = Builder::new(encoder);
    let (mut files, mut bytes) = (0, 0);
    let mut walk = WalkBuilder::new(folder);
    walk.hidden(false)
        .require_git(false)
        .parents(false)
        .sort_by_file_name(Ord::cmp)
        .filter_entry(|entry| entry.file_name() != ".git");
    for entry in walk.build() {
        let entry = entry.map_err(|error| wrong(folder, error))?;
        let Ok(inner) = entry.path().strip_prefix(folder) else {
            continue;
        };
        if inner.as_os_str().is_empty() {
            continue;
        }
        let size = add(&mut builder, &entry, inner)?;
        let Some(size) = size else { continue };
        files += 1;
        bytes += size;
        if bytes > MOST_BYTES {
            let message = format!(
                "its files have more than {}: leave some out with a .gitignore file, or submit with --no-files",
                ByteSize(MOST_BYTES)
            );
            return Err(wrong(folder, message));
        }
    }
    let spool = (builder.into_inner())
        .and_then(GzEncoder::finish)
        .and_then(|mut spool| {
            spool.flush()?;
            spool
                .into_inner()
                .map_err(std::io::IntoInnerError::into_error)
        });
    let mut archive = spool.map_err(|error| wrong(folder, error))?;
    let bytes = archive
        .seek(SeekFrom::End(0))
        .map_err(|error| wrong(folder, error))?;
    archive.rewind().map_err(|error| wrong(folder, error))?;
    Ok(Packed {
        archive,
        bytes,
        files,
    })
}

/// Adds a file or link. Returns its size; none for what is neither.
fn add<W: Write>(
    builder: &mut Builder<W>,
    entry: &DirEntry,
    inner: &Path,
) -> Result<Option<u64>, Error> {
    let path: PathBuf = entry.path().to_owned();
    let failed = |error: std::io::Error| wrong(&path, error);
    let found = path.symlink_metadata().map_err(failed)?;
    let mut header = Header::new_gnu();
    header.set_mtime(0);
    if found.is_symlink() {
        let target = path.read_link().map_err(failed)?;
        header.set_entry_type(EntryType::Symlink);
        header.set_mode(0o777);
        header.set_size(0);
        builder
            .append_link(&mut header, inner, target)
            .map_err(failed)?;
        return Ok(Some(0));
    }
    if found.is_dir() {
        header.set_entry_type(EntryType::Directory);
        header.set_mode(0o755);
        header.set_size(0);
        builder
            .append_data(&mut header, inner, std::io::empty())
            .map_err(failed)?;
        return Ok(None);
    }
    if !found.is_file() {
        return Ok(None);
    }
    let file = File::open(&path).map_err(failed)?;
    let size = file.metadata().map_err(failed)?.len();
    let is_program = found.permissions().mode() & 0o100 != 0;
    header.set_mode(if is_program { 0o755 } else { 0o644 });
    header.set_size(size);
    // A file that grows meanwhile is packed up to the size that it had; one that shrinks is an error.
    let held = std::io::Read::take(file, size);
    builder
        .append_data(&mut header, inner, held)
        .map_err(failed)?;
    Ok(Some(size))
}

#[cfg(test)]
mod tests {
    use super::*;
    use flate2::read::GzDecoder;
    use std::fs;

    #[test]
    fn ignored_files_and_the_repository_itself_are_left_out_and_the_same_files_make_the_same_archive()
     {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for dir in ["src", ".git", "target", ".ci"] {
            fs::create_dir(at(dir)).unwrap();
        }
        for (name, text) in [
            ("pennine.toml", "[jobs.build]"),
            ("src/main.c", "int main;"),
            ("src/main.o", "object"),
            (".git/config", "[core]"),
            ("target/out", "built"),
            (".ci/run", "true"),
            (".gitignore", "target/\n*.o\n"),
        ] {
            fs::write(at(name), text).unwrap();
        }
        fs::set_permissions(at(".ci/run"), fs::Permissions::from_mode(0o700)).unwrap();
        std::os::unix::fs::symlink("main.c", at("src/link")).unwrap();
        let packed = pack(folder.path()).unwrap();
        assert_eq!(packed.files, 5);
        let mut archive = tar::Archive::new(GzDecoder::new(packed.archive.try_clone().unwrap()));
        let mut found = Vec::new();
        for entry in archive.entries().unwrap() {
            let entry = entry.unwrap();
            let mode = entry.header().mode().unwrap();
            found.push((entry.path().unwrap().display().to_string(), mode));
        }
        let expected = [
            (".ci", 0o755),
            (".ci/run", 0o755),
            (".gitignore", 0o644),
            ("pennine.toml", 0o644),
            ("src", 0o755),
            ("src/link", 0o777),
            ("src/main.c", 0o644),
        ];
        let found: Vec<_> = found
            .iter()
            .map(|(name, mode)| (name.trim_end_matches('/'), *mode))
            .collect();
        assert_eq!(found, expected);
        assert_eq!(pack(folder.path()).unwrap().bytes, packed.bytes);
    }
}
