//! The keys with which the installation encrypts: a file made at first start, mode 0600, never in the database.
//!
//! A key stands on each line, the oldest first; the id of the one in use stands in the installation's row, and that of each text's in
//! the text. A start without the key in use is refused: a service that went on would lose what was encrypted.

use anyhow::{Context, bail};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rand::RngExt;
use sha2::{Digest, Sha256};
use std::io::Write;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// A key.
#[derive(Clone)]
pub struct Key {
    /// The first 16 hexadecimal digits of its SHA-256.
    pub id: String,
    pub bytes: [u8; 32],
}

impl Key {
    /// Returns a key with its id.
    pub fn new(bytes: [u8; 32]) -> Key {
        let digest = Sha256::digest(bytes);
        Key {
            id: hex::encode(digest.get(..8).unwrap_or_default()),
            bytes,
        }
    }
}

/// The keys of an installation: at least one.
#[derive(Clone)]
pub struct KeyRing {
    pub oldest: Key,
    /// In the order in which they were added.
    pub later: Vec<Key>,
}

impl KeyRing {
    /// A single key.
    pub fn of(key: Key) -> KeyRing {
        KeyRing {
            oldest: key,
            later: Vec::new(),
        }
    }

    /// All keys, the oldest first.
    pub fn iter(&self) -> impl Iterator<Item = &Key> {
        std::iter::once(&self.oldest).chain(&self.later)
    }

    /// The key that was added last.
    pub fn newest(&self) -> &Key {
        self.later.last().unwrap_or(&self.oldest)
    }

    /// The key with this id.
    pub fn find(&self, id: &str) -> Option<&Key> {
        self.iter().find(|key| key.id == id)
    }
}

/// Where the keys lie.
pub fn path(data_dir: &Path) -> PathBuf {
    data_dir.join("installation.key")
}

/// The keys that lie there; none where there is no file.
///
/// # Errors
/// Where the file cannot be read, or a line of it is not a key.
pub fn read(data_dir: &Path) -> anyhow::Result<Option<KeyRing>> {
    let path = path(data_dir);
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => {
            return Err(error)
                .with_context(|| format!("the key file {} cannot be read", path.display()));
        }
    };
    let mut keys = Vec::new();
    for (number, line) in text.lines().enumerate() {
        let place = || format!("the key file {}, line {}", path.display(), number + 1);
        let key = STANDARD
            .decode(line.trim())
            .with_context(|| format!("{}: damaged", place()))?;
        let Ok(key) = <[u8; 32]>::try_from(key.as_slice()) else {
            bail!(
                "{}: damaged: it holds {} bytes instead of 32",
                place(),
                key.len()
            );
        };
        keys.push(Key::new(key));
    }
    let mut keys = keys.into_iter();
    let Some(oldest) = keys.next() else {
        bail!("the key file {} is empty", path.display());
    };
    Ok(Some(KeyRing {
        oldest,
        later: keys.collect(),
    }))
}

/// Generates a key and adds it to the file, whose owner stays the same. Returns all keys; the new one is the newest.
///
/// # Errors
/// Where the file cannot be read or written.
pub fn add(data_dir: &Path) -> anyhow::Result<KeyRing> {
    let key = Key::new(rand::rng().random());
    let keys = match read(data_dir)? {
        None => KeyRing::of(key),
        Some(mut keys) => {
            keys.later.push(key);
            keys
        }
    };
    let lines = keys.iter().map(|key| STANDARD.encode(key.bytes) + "\n");
    let path = path(data_dir);
    let owner = std::fs::metadata(&path).ok();
    // Whole or not at all: what a crash leaves must be readable.
    let fresh = path.with_extension("key.new");
    write_secret(&fresh, &lines.collect::<String>())?;
    if let Some(owner) = owner {
        std::os::unix::fs::chown(&fresh, Some(owner.uid()), Some(owner.gid()))
            .with_context(|| format!("{} cannot be given its owner", fresh.display()))?;
    }
    std::fs::rename(&fresh, &path)
        .with_context(|| format!("{} cannot be written", path.display()))?;
    Ok(keys)
}

/// Writes a secret to a new file that only its owner can read.
pub fn write_secret(path: &Path, text: &str) -> anyhow::Result<()> {
    let mut file = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(path)
        .with_context(|| format!("{} cannot be written", path.display()))?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_in_the_order_in_which_they_were_added() {
        let folder = tempfile::tempdir().unwrap();
        assert!(read(folder.path()).unwrap().is_none());
        let fresh = || add(folder.path()).unwrap().newest().id.clone();
        let ids: Vec<String> = (0..3).map(|_| fresh()).collect();
        let read_back = read(folder.path()).unwrap().unwrap();
        let read_back: Vec<String> = read_back.iter().map(|key| key.id.clone()).collect();
        assert_eq!(read_back, ids);
        let mode = std::fs::metadata(path(folder.path())).unwrap().mode();
        assert_eq!(mode & 0o777, 0o600);
    }

    #[test]
    fn a_damaged_file_names_the_line() {
        let folder = tempfile::tempdir().unwrap();
        add(folder.path()).unwrap();
        let path = path(folder.path());
        for (line, message) in [
            ("AAAA", "line 2: damaged: it holds 3 bytes"),
            ("?", "line 2: damaged"),
        ] {
            let whole = std::fs::read_to_string(&path).unwrap();
            let first = whole.lines().next().unwrap();
            std::fs::write(&path, format!("{first}\n{line}\n")).unwrap();
            let error = read(folder.path()).err().unwrap();
            assert!(error.to_string().contains(message), "{error:#}");
        }
        std::fs::write(&path, "").unwrap();
        assert!(
            read(folder.path()).is_err(),
            "an empty file is not a missing one"
        );
    }
}
