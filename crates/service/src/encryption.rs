//! What only the key file opens: secrets at rest, and the tickets that machines are ordered with.
//!
//! There may be several keys: one encrypts, and the others open what they have encrypted before (`pennined rotate-key`).
//!
//! Locked texts are `KEY-ID:BASE64(nonce, ChaCha20-Poly1305 of the text)` (RFC 8439); the name under which a secret is
//! kept is bound to it, so that one cannot be put in another's place. A machine's ticket is an HMAC-SHA-256 (RFC 2104)
//! over its id: an order that is repeated after a crash carries the same ticket, and nothing but its hash is stored.

use crate::key_file::{self, Key, KeyRing};
use crate::secret::{self, Purpose};
use base64::Engine;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use pennine_core::id::MachineId;
use rand::RngExt;
use ring::aead::{Aad, CHACHA20_POLY1305, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::hmac;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};

/// The installation's keys. Clones share them.
#[derive(Clone)]
pub struct Encryption(Arc<Shared>);

struct Shared {
    /// Where the key file lies.
    data_dir: PathBuf,
    keys: RwLock<Keys>,
}

struct Keys {
    all: KeyRing,
    /// The id of the one that encrypts.
    current: String,
}

impl Keys {
    /// The key that encrypts, where it is in the key file.
    fn current(&self) -> Option<&Key> {
        self.all.find(&self.current)
    }
}

/// Why a secret cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum Locked {
    /// It was locked with another key.
    #[error("it was encrypted with the key {0}, which is not in the key file of this replica")]
    OtherKey(String),
    /// It is not what was locked, or not under this name.
    #[error("it is damaged")]
    Damaged,
}

fn cipher(key: &Key) -> Option<LessSafeKey> {
    let key = UnboundKey::new(&CHACHA20_POLY1305, &key.bytes).ok()?;
    Some(LessSafeKey::new(key))
}

fn signature(key: &Key, hash: &[u8]) -> Vec<u8> {
    let key = hmac::Key::new(hmac::HMAC_SHA256, &key.bytes);
    let derived = hmac::sign(&key, b"seals of the audit log");
    let key = hmac::Key::new(hmac::HMAC_SHA256, derived.as_ref());
    hmac::sign(&key, hash).as_ref().to_vec()
}

impl Encryption {
    /// Encrypts with the key that has this id, of those in the key file of a folder.
    pub fn new(all: KeyRing, current: String, data_dir: &Path) -> Encryption {
        Encryption(Arc::new(Shared {
            data_dir: data_dir.to_owned(),
            keys: RwLock::new(Keys { all, current }),
        }))
    }

    /// Encrypts with a key that is in no file, for tests.
    pub fn of_one(key: Key) -> Encryption {
        let id = key.id.clone();
        Encryption::new(KeyRing::of(key), id, Path::new("/nowhere"))
    }

    fn keys(&self) -> RwLockReadGuard<'_, Keys> {
        self.0.keys.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// The id of the key that encrypts.
    pub fn current(&self) -> String {
        self.keys().current.clone()
    }

    /// Whether the key that encrypts is in the key file.
    pub fn has_current(&self) -> bool {
        self.keys().current().is_some()
    }

    /// Encrypts with another key from now on; with none where the key file does not hold it.
    pub fn use_key(&self, id: &str) {
        self.reload_for(id);
        let mut keys = self.0.keys.write().unwrap_or_else(PoisonError::into_inner);
        id.clone_into(&mut keys.current);
    }

    /// Reads the key file once more where this key is not known.
    fn reload_for(&self, id: &str) {
        if self.keys().all.find(id).is_some() {
            return;
        }
        match key_file::read(&self.0.data_dir) {
            Ok(Some(all)) => {
                let mut keys = self.0.keys.write().unwrap_or_else(PoisonError::into_inner);
                keys.all = all;
            }
            Ok(None) => tracing::error!("the key file is gone: put it back"),
            Err(error) => tracing::error!("{error:#}"),
        }
    }

    /// Locks a secret under a name. None where the key in use is not in the key file.
    pub fn lock(&self, name: &str, secret: &str) -> Option<String> {
        let nonce: [u8; NONCE_LEN] = rand::rng().random();
        let mut bytes = secret.as_bytes().to_vec();
        let bound = Aad::from(name.as_bytes());
        let keys = self.keys();
        let key = keys.current()?;
        cipher(key)?
            .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), bound, &mut bytes)
            .ok()?;
        let whole = [nonce.as_slice(), &bytes].concat();
        Some(format!("{}:{}", key.id, STANDARD_NO_PAD.encode(whole)))
    }

    /// Opens what was locked under a name.
    pub fn open(&self, name: &str, locked: &str) -> Result<String, Locked> {
        let (id, text) = locked.split_once(':').ok_or(Locked::Damaged)?;
        // Another replica may encrypt with a key that this one has not read yet.
        self.reload_for(id);
        let keys = self.keys();
        let Some(key) = keys.all.find(id) else {
            return Err(Locked::OtherKey(id.to_owned()));
        };
        let whole = STANDARD_NO_PAD.decode(text).map_err(|_| Locked::Damaged)?;
        let (nonce, rest) = whole
            .split_first_chunk::<NONCE_LEN>()
            .ok_or(Locked::Damaged)?;
        let mut bytes = rest.to_vec();
        let cipher = cipher(key).ok_or(Locked::Damaged)?;
        let bound = Aad::from(name.as_bytes());
        let opened = cipher
            .open_in_place(Nonce::assume_unique_for_key(*nonce), bound, &mut bytes)
            .map_err(|_| Locked::Damaged)?;
        String::from_utf8(opened.to_vec()).map_err(|_| Locked::Damaged)
    }

    /// The signature of a seal's hash (RFC 2104), with a key of its own that is derived from the one in use. None where that is
    /// not in the key file.
    pub fn signature(&self, hash: &[u8]) -> Option<Vec<u8>> {
        self.keys().current().map(|key| signature(key, hash))
    }

    /// Whether this is the signature of a seal's hash with one of the keys.
    pub fn has_signed(&self, hash: &[u8], signed: &[u8]) -> bool {
        let keys = self.keys();
        keys.all.iter().any(|key| signature(key, hash) == signed)
    }

    /// The secret of a machine's ticket, the same each time, also after a new key was added: it is made with the oldest.
    pub fn ticket(&self, machine: MachineId) -> String {
        let keys = self.keys();
        let key = hmac::Key::new(hmac::HMAC_SHA256, &keys.all.oldest.bytes);
        let text = format!("ticket of the machine {machine}");
        let tag = hmac::sign(&key, text.as_bytes());
        secret::from_bytes(Purpose::Ticket, tag.as_ref())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn encryption(byte: u8) -> Encryption {
        Encryption::of_one(Key::new([byte; 32]))
    }

    #[test]
    fn a_ciphertext_is_bound_to_its_name() {
        let own = encryption(7);
        let locked = own.lock("chandler/key", "open sesame").unwrap();
        assert!(!locked.contains("sesame"));
        assert_ne!(
            Some(&locked),
            own.lock("chandler/key", "open sesame").as_ref()
        );
        assert_eq!(own.open("chandler/key", &locked).unwrap(), "open sesame");
        assert!(matches!(
            own.open("staithe/key", &locked),
            Err(Locked::Damaged)
        ));
        let short = format!("{}:AAAA", own.current());
        assert!(matches!(
            own.open("chandler/key", &short),
            Err(Locked::Damaged)
        ));
        let other = encryption(8).open("chandler/key", &locked);
        assert!(matches!(other, Err(Locked::OtherKey(..))));
    }

    #[test]
    fn another_key_encrypts_once_it_is_in_the_file_and_the_old_one_still_opens() {
        let folder = tempfile::tempdir().unwrap();
        let keys = key_file::add(folder.path()).unwrap();
        let first = keys.oldest.id.clone();
        let encryption = Encryption::new(keys, first, folder.path());
        let old = encryption.lock("chandler/key", "open sesame").unwrap();
        let seal = encryption.signature(b"hash").unwrap();
        let machine = MachineId(uuid::Uuid::from_u128(1));
        let ticket = encryption.ticket(machine);

        // Without the key nothing is encrypted, rather than with the old one.
        encryption.use_key("0011223344556677");
        assert!(!encryption.has_current());
        assert_eq!(encryption.lock("chandler/key", "open sesame"), None);
        assert_eq!(encryption.signature(b"hash"), None);

        let second = key_file::add(folder.path()).unwrap();
        let second = second.newest();
        encryption.use_key(&second.id);
        let new = encryption.lock("chandler/key", "open sesame").unwrap();
        assert!(new.starts_with(&second.id), "{new}");
        for locked in [&old, &new] {
            assert_eq!(
                encryption.open("chandler/key", locked).unwrap(),
                "open sesame"
            );
        }
        assert_ne!(encryption.signature(b"hash").unwrap(), seal);
        assert!(encryption.has_signed(b"hash", &seal));
        assert!(!encryption.has_signed(b"another", &seal));
        assert_eq!(encryption.ticket(machine), ticket);

        // What another replica has encrypted with a key that was added since.
        let keys = key_file::add(folder.path()).unwrap();
        let third = keys.newest().id.clone();
        let other = Encryption::new(keys, third, folder.path());
        let theirs = other.lock("chandler/key", "open sesame").unwrap();
        assert_eq!(
            encryption.open("chandler/key", &theirs).unwrap(),
            "open sesame"
        );
    }

    #[test]
    fn the_ticket_of_a_machine_is_the_same_each_time_and_nobody_elses() {
        let (one, other) = (uuid::Uuid::from_u128(1), uuid::Uuid::from_u128(2));
        let own = encryption(7);
        assert_eq!(own.ticket(MachineId(one)), own.ticket(MachineId(one)));
        assert_ne!(own.ticket(MachineId(one)), own.ticket(MachineId(other)));
        assert_ne!(
            own.ticket(MachineId(one)),
            encryption(8).ticket(MachineId(one))
        );
        assert!(own.ticket(MachineId(one)).starts_with("pen-ticket-"));
    }
}
