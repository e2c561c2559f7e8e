//! Seals of the audit log: what they are made from, and how they are checked.
//!
//! A seal's hash is the SHA-256 of the hash before it, the numbers that it covers, and each entry in a canonical form: every
//! field as its length in bytes (8 bytes, big-endian; all ones for a field without a value) and its text. Its signature is an
//! HMAC-SHA-256 of the hash with a key that is derived from the key file, so that access to the database alone is not enough to make one.

use crate::encryption::Encryption;
use pennine_core::time::Moment;
use pennine_store::audit_seal::{NumberRange, Seal, SealedEntry};
use pennine_store::types::Json;
use pennine_store::{Db, Error, Store, audit_seal};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// The most entries of one seal.
pub const MOST: i64 = 2000;

/// Adds a field in its canonical form.
fn add(hash: &mut Sha256, field: Option<&str>) {
    match field {
        None => hash.update(u64::MAX.to_be_bytes()),
        Some(text) => {
            hash.update((text.len() as u64).to_be_bytes());
            hash.update(text.as_bytes());
        }
    }
}

fn hash_of(
    previous: &[u8],
    (first, last): NumberRange,
    missing: &[NumberRange],
    entries: &[SealedEntry],
) -> Vec<u8> {
    let mut hash = Sha256::new();
    hash.update((previous.len() as u64).to_be_bytes());
    hash.update(previous);
    hash.update(first.to_be_bytes());
    hash.update(last.to_be_bytes());
    hash.update((missing.len() as u64).to_be_bytes());
    for (from, to) in missing {
        hash.update(from.to_be_bytes());
        hash.update(to.to_be_bytes());
    }
    hash.update((entries.len() as u64).to_be_bytes());
    for entry in entries {
        hash.update(entry.id.to_be_bytes());
        hash.update(entry.at.0.micros().to_be_bytes());
        for field in [
            Some(&entry.who),
            Some(&entry.who_kind),
            entry.address.as_ref(),
            entry.request.as_ref(),
            Some(&entry.place),
            Some(&entry.what),
            Some(&entry.subject),
            Some(&entry.detail),
        ] {
            add(&mut hash, field.map(String::as_str));
        }
    }
    hash.finalize().to_vec()
}

/// The numbers from the first to the last that no entry has.
fn missing_of((first, last): NumberRange, entries: &[SealedEntry]) -> Vec<NumberRange> {
    let mut next = first;
    let mut missing = Vec::new();
    for entry in entries {
        if entry.id > next {
            missing.push((next, entry.id - 1));
        }
        next = entry.id + 1;
    }
    if next <= last {
        missing.push((next, last));
    }
    missing
}

/// The month of an entry, in UTC: a block is of one month, because history expires by months.
fn month(at: Moment) -> String {
    at.to_string().chars().take(7).collect()
}

/// Makes the seal of the first of these entries that belong together, after the seal before. None where there are no
/// entries, or the key in use is not in the key file.
pub fn seal(
    encryption: &Encryption,
    previous: Option<&Seal>,
    entries: &[SealedEntry],
    now: Moment,
) -> Option<Seal> {
    let first = previous.map_or(1, |seal| seal.last_id + 1);
    let begins = month(entries.first()?.at.0);
    let block = entries.split(|entry| month(entry.at.0) != begins).next()?;
    let range = (first, block.last()?.id);
    let missing = missing_of(range, block);
    let before = previous.map_or(&[][..], |seal| &seal.hash);
    let hash = hash_of(before, range, &missing, block);
    Some(Seal {
        first_id: range.0,
        last_id: range.1,
        missing: Json(missing),
        entries: i32::try_from(block.len()).unwrap_or(i32::MAX),
        earliest: Db(block.iter().map(|entry| entry.at.0).min()?),
        latest: Db(block.iter().map(|entry| entry.at.0).max()?),
        signature: encryption.signature(&hash)?,
        hash,
        sealed_at: Db(now),
    })
}

/// A seal as it is kept outside of the database.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct ExportedSeal {
    pub last_id: i64,
    /// In hexadecimal digits.
    pub hash: String,
    pub signature: String,
}

impl ExportedSeal {
    pub fn of(seal: &Seal) -> ExportedSeal {
        ExportedSeal {
            last_id: seal.last_id,
            hash: hex::encode(&seal.hash),
            signature: hex::encode(&seal.signature),
        }
    }
}

/// What the check of the audit log has found.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Verification {
    pub seals: u64,
    pub entries: u64,
    /// Seals whose entries have expired; they are kept, so that the chain holds.
    pub expired: u64,
    /// The last number that is sealed.
    pub sealed_to: i64,
    /// What is wrong, in order.
    pub problems: Vec<String>,
}

/// Reads all seals and entries and compares them. `visit` is called with each seal.
///
/// # Errors
/// Where the database does not answer. What is wrong with the log is in the result.
pub async fn verify(
    store: &Store,
    encryption: &Encryption,
    visit: &mut (dyn FnMut(&Seal) + Send),
) -> Result<Verification, Error> {
    let mut connection = store.patient().await?;
    let kept_since = audit_seal::kept_since(&mut connection).await?;
    let mut found = Verification::default();
    let mut previous: Option<Seal> = None;
    loop {
        let seals = audit_seal::after(&mut connection, found.sealed_to, 100).await?;
        if seals.is_empty() {
            return Ok(found);
        }
        for seal in seals {
            let range = (seal.first_id, seal.last_id);
            let entries = audit_seal::entries(&mut connection, range, MOST * 2).await?;
            let problem = check(encryption, previous.as_ref(), &seal, &entries, kept_since);
            if let Some(problem) = problem {
                let (first, last) = range;
                found
                    .problems
                    .push(format!("entries {first} to {last}: {problem}"));
            }
            found.seals += 1;
            found.entries += entries.len() as u64;
            found.expired += u64::from(entries.is_empty());
            found.sealed_to = seal.last_id;
            visit(&seal);
            previous = Some(seal);
        }
    }
}

/// What is wrong with a seal, if anything is.
fn check(
    encryption: &Encryption,
    previous: Option<&Seal>,
    seal: &Seal,
    entries: &[SealedEntry],
    kept_since: Option<Moment>,
) -> Option<String> {
    let expected = previous.map_or(1, |before| before.last_id + 1);
    if seal.first_id != expected {
        return Some(format!(
            "the seal of entries {expected} and after is not there"
        ));
    }
    if !encryption.has_signed(&seal.hash, &seal.signature) {
        return Some("the seal was made with a key that is not in the key file".to_owned());
    }
    let has_expired = kept_since.is_some_and(|since| seal.latest.0 < since);
    if entries.is_empty() && has_expired {
        return None;
    }
    let count = usize::try_from(seal.entries).unwrap_or_default();
    if entries.len() < count {
        return Some(format!(
            "{} of {count} entries were removed",
            count - entries.len()
        ));
    }
    if entries.len() > count {
        return Some(format!("{} entries were added", entries.len() - count));
    }
    let before = previous.map_or(&[][..], |before| &before.hash);
    let range = (seal.first_id, seal.last_id);
    if hash_of(before, range, &seal.missing.0, entries) != seal.hash {
        return Some("an entry, or a seal before it, was changed".to_owned());
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key_file::Key;
    use proptest::prelude::*;

    fn entry(id: i64, at: i64) -> SealedEntry {
        SealedEntry {
            id,
            at: Db(Moment::from_micros(at)),
            who: "mira".to_owned(),
            who_kind: "person".to_owned(),
            address: None,
            request: None,
            place: "firmware".to_owned(),
            what: "pool.change".to_owned(),
            subject: "staithe".to_owned(),
            detail: "{}".to_owned(),
        }
    }

    fn key() -> Encryption {
        Encryption::of_one(Key::new([7; 32]))
    }

    const NOW: Moment = Moment::from_micros(1_800_000_000_000_000);

    /// The seals of these entries, and what is wrong with each.
    fn problems(seals: &[Seal], entries: &[SealedEntry]) -> Vec<Option<String>> {
        let mut previous = None;
        let mut found = Vec::new();
        for seal in seals {
            let of_block =
                |entry: &&SealedEntry| (seal.first_id..=seal.last_id).contains(&entry.id);
            let block: Vec<_> = entries.iter().filter(of_block).cloned().collect();
            found.push(check(&key(), previous, seal, &block, None));
            previous = Some(seal);
        }
        found
    }

    fn sealed(entries: &[SealedEntry]) -> Vec<Seal> {
        let mut seals: Vec<Seal> = Vec::new();
        loop {
            let after = seals.last().map_or(0, |seal| seal.last_id);
            let left: Vec<_> = entries
                .iter()
                .filter(|one| one.id > after)
                .take(2)
                .cloned()
                .collect();
            match seal(&key(), seals.last(), &left, NOW) {
                Some(seal) => seals.push(seal),
                None => return seals,
            }
        }
    }

    #[test]
    fn a_block_is_of_one_month_and_names_the_numbers_that_are_missing() {
        // The last second of November 2026, and the first of December.
        let (november, december) = (1_796_083_199_000_000, 1_796_083_200_000_000);
        let entries = [entry(2, november), entry(5, december)];
        let seals = sealed(&entries);
        let of: Vec<_> = seals
            .iter()
            .map(|one| (one.first_id, one.last_id))
            .collect();
        assert_eq!(of, [(1, 2), (3, 5)]);
        assert_eq!(seals[0].missing.0, [(1, 1)]);
        assert_eq!(seals[1].missing.0, [(3, 4)]);
        assert_eq!(problems(&seals, &entries), [None, None]);
    }

    #[test]
    fn a_seal_of_another_key_and_a_chain_with_a_hole_are_found() {
        let entries: Vec<_> = (1..=6).map(|id| entry(id, id)).collect();
        let mut seals = sealed(&entries);
        let other = Encryption::of_one(Key::new([8; 32]));
        seals[2].signature = other.signature(&seals[2].hash).unwrap();
        let found = problems(&seals, &entries);
        assert!(found[2].as_ref().unwrap().contains("key"), "{found:?}");
        seals.remove(1);
        let found = problems(&seals, &entries);
        let expected = "the seal of entries 3 and after is not there";
        assert_eq!(found[1].as_deref(), Some(expected));
    }

    proptest! {
        /// Whatever is changed, removed or added among the entries, the seal of its block tells.
        #[test]
        fn any_change_of_any_entry_is_found(count in 1usize..12, which in 0usize..12, field in 0usize..8) {
            let entries: Vec<_> = (1..=count as i64).map(|id| entry(id * 2, id)).collect();
            let seals = sealed(&entries);
            prop_assert!(problems(&seals, &entries).iter().all(Option::is_none));
            let which = which % count;
            let mut changed = entries.clone();
            match field {
                0 => { changed.remove(which); }
                1 => changed.insert(which, entry(entries[which].id - 1, 0)),
                2 => changed[which].who.push('x'),
                3 => changed[which].address = Some(String::new()),
                4 => { changed[which].place.push_str("/buoy"); }
                5 => changed[which].detail = "{\"force\": true}".to_owned(),
                6 => changed[which].at = Db(Moment::from_micros(99)),
                // The end of one field moved to the next.
                _ => { changed[which].what.pop(); changed[which].subject.insert(0, 'e'); }
            }
            let found = problems(&seals, &changed);
            prop_assert!(found.iter().any(Option::is_some));
        }
    }
}
