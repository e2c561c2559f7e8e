//! The key with which the installation encrypts: a file made at first start, mode 0600, never in the database.
//!
//! Its id stands in the installation's row and in whatever it encrypts. A start without it, or with another, is
//! refused: a service that went on would lose what was encrypted.

use anyhow::{Context, bail};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rand::RngExt;
use sha2::{Digest, Sha256};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

/// The key's id: the first 16 hexadecimal digits of its SHA-256.
fn id_of(key: &[u8]) -> String {
    hex::encode(Sha256::digest(key).get(..8).unwrap_or_default())
}

/// Where the key lies.
pub fn path(data_dir: &Path) -> PathBuf {
    data_dir.join("installation.key")
}

/// The key that lies there with its id, if one does.
pub fn read(data_dir: &Path) -> anyhow::Result<Option<(String, [u8; 32])>> {
    let path = path(data_dir);
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => {
            return Err(error)
                .with_context(|| format!("the key file {} cannot be read", path.display()));
        }
    };
    let key = STANDARD
        .decode(text.trim())
        .with_context(|| format!("the key file {} is damaged", path.display()))?;
    let Ok(key) = <[u8; 32]>::try_from(key.as_slice()) else {
        bail!(
            "the key file {} is damaged: it holds {} bytes instead of 32",
            path.display(),
            key.len()
        );
    };
    Ok(Some((id_of(&key), key)))
}

/// Generates a key and returns it with its id.
pub fn make(data_dir: &Path) -> anyhow::Result<(String, [u8; 32])> {
    let key: [u8; 32] = rand::rng().random();
    write_secret(&path(data_dir), &format!("{}\n", STANDARD.encode(key)))?;
    Ok((id_of(&key), key))
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
