//! What only the key file opens: secrets at rest, and the tickets that machines are ordered with.
//!
//! Locked texts are `KEY-ID:BASE64(nonce, ChaCha20-Poly1305 of the text)` (RFC 8439); the name under which a secret is
//! kept is bound to it, so that one cannot be put in another's place. A machine's ticket is an HMAC-SHA-256 (RFC 2104)
//! over its id: an order that is repeated after a crash carries the same ticket, and nothing but its hash is stored.

use crate::secret::{self, Purpose};
use base64::Engine;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use pennine_core::id::MachineId;
use rand::RngExt;
use ring::aead::{Aad, CHACHA20_POLY1305, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::hmac;

/// The installation's key.
#[derive(Clone)]
pub struct Encryption {
    id: String,
    key: [u8; 32],
}

/// Why a secret cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum Locked {
    /// It was locked with another key.
    #[error("it was encrypted with the key {0}, and this installation's key is {1}")]
    OtherKey(String, String),
    /// It is not what was locked, or not under this name.
    #[error("it is damaged")]
    Damaged,
}

impl Encryption {
    /// The box that this key locks.
    pub fn new(id: String, key: [u8; 32]) -> Encryption {
        Encryption { id, key }
    }

    fn cipher(&self) -> Option<LessSafeKey> {
        let key = UnboundKey::new(&CHACHA20_POLY1305, &self.key).ok()?;
        Some(LessSafeKey::new(key))
    }

    /// Locks a secret under a name.
    pub fn lock(&self, name: &str, secret: &str) -> Option<String> {
        let nonce: [u8; NONCE_LEN] = rand::rng().random();
        let mut bytes = secret.as_bytes().to_vec();
        let bound = Aad::from(name.as_bytes());
        self.cipher()?
            .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), bound, &mut bytes)
            .ok()?;
        let whole = [nonce.as_slice(), &bytes].concat();
        Some(format!("{}:{}", self.id, STANDARD_NO_PAD.encode(whole)))
    }

    /// Opens what was locked under a name.
    pub fn open(&self, name: &str, locked: &str) -> Result<String, Locked> {
        let (id, text) = locked.split_once(':').ok_or(Locked::Damaged)?;
        if id != self.id {
            return Err(Locked::OtherKey(id.to_owned(), self.id.clone()));
        }
        let whole = STANDARD_NO_PAD.decode(text).map_err(|_| Locked::Damaged)?;
        let (nonce, rest) = whole
            .split_first_chunk::<NONCE_LEN>()
            .ok_or(Locked::Damaged)?;
        let mut bytes = rest.to_vec();
        let cipher = self.cipher().ok_or(Locked::Damaged)?;
        let bound = Aad::from(name.as_bytes());
        let opened = cipher
            .open_in_place(Nonce::assume_unique_for_key(*nonce), bound, &mut bytes)
            .map_err(|_| Locked::Damaged)?;
        String::from_utf8(opened.to_vec()).map_err(|_| Locked::Damaged)
    }

    /// The signature of a seal's hash (RFC 2104), with a key of its own that is derived from the key file's.
    pub fn signature(&self, hash: &[u8]) -> Vec<u8> {
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.key);
        let derived = hmac::sign(&key, b"seals of the audit log");
        let key = hmac::Key::new(hmac::HMAC_SHA256, derived.as_ref());
        hmac::sign(&key, hash).as_ref().to_vec()
    }

    /// The secret of a machine's ticket, the same each time.
    pub fn ticket(&self, machine: MachineId) -> String {
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.key);
        let text = format!("ticket of the machine {machine}");
        let tag = hmac::sign(&key, text.as_bytes());
        secret::from_bytes(Purpose::Ticket, tag.as_ref())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn encryption(byte: u8) -> Encryption {
        Encryption::new(format!("key-{byte}"), [byte; 32])
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
        assert!(matches!(
            own.open("chandler/key", "key-7:AAAA"),
            Err(Locked::Damaged)
        ));
        let other = encryption(8).open("chandler/key", &locked);
        assert!(matches!(other, Err(Locked::OtherKey(..))));
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
