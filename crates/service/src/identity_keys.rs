//! The keys that sign identity tokens of jobs: made when first needed, replaced in turn (`core::identity` decides when), shared by
//! all replicas through the record.

use crate::encryption::Encryption;
use crate::error::{Result, ServiceError};
use jsonwebtoken::jwk::{Jwk, PublicKeyUse, ThumbprintHash};
use jsonwebtoken::{Algorithm, EncodingKey, Header};
use pennine_core::identity::{SigningAlgorithm, plan_keys};
use pennine_core::time::Moment;
use pennine_store::audit::{self, Actor};
use pennine_store::change_lock::lock_for_change;
use pennine_store::connect::in_transaction;
use pennine_store::signing_key::{self, SigningKey};
use pennine_store::types::Json;
use pennine_store::{Db, Store};
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair};
use rsa::pkcs1::EncodeRsaPrivateKey;
use serde::Serialize;
use serde_json::json;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long keys that were read are used before they are read again: another replica may have made one.
const READ_AGAIN: Duration = Duration::from_secs(60);
/// The size of RSA keys, in bits.
const RSA_BITS: usize = 2048;

/// The keys, as they were read a moment ago.
pub struct IdentityKeys {
    store: Store,
    encryption: Encryption,
    read: Mutex<Option<(Instant, Arc<Vec<SigningKey>>)>>,
    /// Held while a key is made, which takes a while.
    making: tokio::sync::Mutex<()>,
}

/// The name under which a private key is encrypted.
/// The name under which the private part of a key is locked.
pub fn lock_name(id: &str) -> String {
    format!("signing-key/{id}")
}

fn algorithm_of(algorithm: SigningAlgorithm) -> Algorithm {
    match algorithm {
        SigningAlgorithm::Rs256 => Algorithm::RS256,
        SigningAlgorithm::Es256 => Algorithm::ES256,
    }
}

fn encoding_key(algorithm: SigningAlgorithm, private: &[u8]) -> EncodingKey {
    match algorithm {
        SigningAlgorithm::Rs256 => EncodingKey::from_rsa_der(private),
        SigningAlgorithm::Es256 => EncodingKey::from_ec_der(private),
    }
}

/// What cannot be done with a key; the cause is only in the log.
fn broken(what: &str, error: impl std::fmt::Display) -> ServiceError {
    ServiceError::internal(format!("{what}: {error}"))
}

/// A new private key: PKCS #1 for RSA, PKCS #8 for the other.
fn generate(algorithm: SigningAlgorithm) -> Result<Vec<u8>> {
    let what = "a signing key cannot be made";
    match algorithm {
        SigningAlgorithm::Rs256 => {
            let key = rsa::RsaPrivateKey::new(&mut rsa::rand_core::OsRng, RSA_BITS);
            let der = key.map_err(|error| broken(what, error))?.to_pkcs1_der();
            Ok(der
                .map_err(|error| broken(what, error))?
                .as_bytes()
                .to_vec())
        }
        SigningAlgorithm::Es256 => {
            let random = SystemRandom::new();
            let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random);
            Ok(made.map_err(|error| broken(what, error))?.as_ref().to_vec())
        }
    }
}

/// The public part of a key, with its id and use.
fn public_part(algorithm: SigningAlgorithm, private: &[u8]) -> Result<Jwk> {
    let key = encoding_key(algorithm, private);
    let public = Jwk::from_encoding_key(&key, algorithm_of(algorithm));
    let mut public = public.map_err(|error| broken("a signing key has no public part", error))?;
    public.common.key_id = Some(public.thumbprint(ThumbprintHash::SHA256));
    public.common.public_key_use = Some(PublicKeyUse::Signature);
    Ok(public)
}

impl IdentityKeys {
    /// The keys that are in a store.
    pub fn new(store: Store, encryption: Encryption) -> IdentityKeys {
        IdentityKeys {
            store,
            encryption,
            read: Mutex::default(),
            making: tokio::sync::Mutex::default(),
        }
    }

    fn known(&self) -> Option<Arc<Vec<SigningKey>>> {
        let read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        let (at, keys) = read.as_ref()?;
        (at.elapsed() < READ_AGAIN).then(|| keys.clone())
    }

    fn remember(&self, keys: Vec<SigningKey>) -> Arc<Vec<SigningKey>> {
        let keys = Arc::new(keys);
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        *read = Some((Instant::now(), keys.clone()));
        keys
    }

    /// The keys that are published: of each algorithm at least the one that signs now.
    ///
    /// # Errors
    /// Where the database does not answer, or a key cannot be made.
    pub async fn published(&self, now: Moment) -> Result<Arc<Vec<SigningKey>>> {
        if let Some(keys) = self.known().filter(|keys| is_settled(keys, now)) {
            return Ok(keys);
        }
        let _making = self.making.lock().await;
        let mut keys = signing_key::all(&mut *self.store.tasks().await?).await?;
        for algorithm in SigningAlgorithm::ALL {
            let ages: Vec<_> = keys.iter().map(SigningKey::age).collect();
            let plan = plan_keys(&ages, *algorithm, now);
            if plan.make.is_some() || !plan.remove.is_empty() {
                keys = self.renew(*algorithm, now).await?;
            }
        }
        Ok(self.remember(keys))
    }

    /// Makes the key that is needed next, and removes the ones that are no longer published. Returns all that remain.
    async fn renew(&self, algorithm: SigningAlgorithm, now: Moment) -> Result<Vec<SigningKey>> {
        let made = tokio::task::spawn_blocking(move || generate(algorithm)).await;
        let private = made.map_err(|error| broken("a signing key cannot be made", error))??;
        let public = public_part(algorithm, &private)?;
        let id = public.common.key_id.clone().unwrap_or_default();
        let public =
            serde_json::to_value(public).map_err(|error| broken("a signing key", error))?;
        let locked = self
            .encryption
            .lock(&lock_name(&id), &hex::encode(&private));
        let locked = locked.ok_or_else(|| ServiceError::internal("a key cannot be encrypted"))?;
        let permit = Actor::service().at("");
        let mut connection = self.store.tasks().await?;
        in_transaction(&mut connection, async |connection| -> Result<_> {
            lock_for_change(connection, "signing-key", algorithm.word()).await?;
            let keys = signing_key::all(connection).await?;
            let ages: Vec<_> = keys.iter().map(SigningKey::age).collect();
            let plan = plan_keys(&ages, algorithm, now);
            // Another replica may have been first.
            if let Some(signs_from) = plan.make {
                let new = SigningKey {
                    id: id.clone(),
                    algorithm: Db(algorithm),
                    locked,
                    public: Json(public),
                    made_at: Db(now),
                    signs_from: Db(signs_from),
                };
                signing_key::insert(connection, &new).await?;
                let detail = json!({"algorithm": algorithm, "signs_from": signs_from});
                audit::write(connection, now, &permit, "signing-key.add", &id, detail).await?;
            }
            signing_key::remove(connection, &plan.remove).await?;
            for id in &plan.remove {
                let detail = json!({"algorithm": algorithm});
                audit::write(connection, now, &permit, "signing-key.remove", id, detail).await?;
            }
            Ok(signing_key::all(connection).await?)
        })
        .await
    }

    /// Signs claims. Returns the token.
    ///
    /// # Errors
    /// As [`IdentityKeys::published`], and where the key cannot be opened.
    pub async fn sign(
        &self,
        algorithm: SigningAlgorithm,
        claims: &impl Serialize,
        now: Moment,
    ) -> Result<String> {
        let keys = self.published(now).await?;
        let ages: Vec<_> = keys.iter().map(SigningKey::age).collect();
        let signs = plan_keys(&ages, algorithm, now).signs;
        let key = keys.iter().find(|key| Some(&key.id) == signs.as_ref());
        let key = key.ok_or_else(|| ServiceError::internal("no signing key"))?;
        let what = format!("the signing key {} cannot be used", key.id);
        let opened = self.encryption.open(&lock_name(&key.id), &key.locked);
        let private = hex::decode(opened.map_err(|error| broken(&what, error))?);
        let private = private.map_err(|error| broken(&what, error))?;
        let mut header = Header::new(algorithm_of(algorithm));
        header.kid = Some(key.id.clone());
        let signed = jsonwebtoken::encode(&header, claims, &encoding_key(algorithm, &private));
        signed.map_err(|error| broken(&what, error))
    }
}

/// Whether nothing is to be done about keys.
fn is_settled(keys: &[SigningKey], now: Moment) -> bool {
    let ages: Vec<_> = keys.iter().map(SigningKey::age).collect();
    SigningAlgorithm::ALL.iter().all(|algorithm| {
        let plan = plan_keys(&ages, *algorithm, now);
        plan.make.is_none() && plan.remove.is_empty()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jsonwebtoken::{DecodingKey, Validation};

    #[derive(Debug, PartialEq, Serialize, serde::Deserialize)]
    struct Claims {
        aud: String,
        exp: u64,
    }

    #[test]
    fn a_key_signs_what_its_published_part_verifies_and_no_other_does() {
        let claims = Claims {
            aud: "store".to_owned(),
            exp: 4_000_000_000,
        };
        for algorithm in SigningAlgorithm::ALL {
            let (own, other) = (generate(*algorithm).unwrap(), generate(*algorithm).unwrap());
            let header = Header::new(algorithm_of(*algorithm));
            let key = encoding_key(*algorithm, &own);
            let token = jsonwebtoken::encode(&header, &claims, &key).unwrap();
            let mut expected = Validation::new(algorithm_of(*algorithm));
            expected.set_audience(&["store"]);
            let verified = |private: &[u8]| {
                let public = public_part(*algorithm, private).unwrap();
                let key = DecodingKey::from_jwk(&public).unwrap();
                jsonwebtoken::decode::<Claims>(&token, &key, &expected)
            };
            assert_eq!(verified(&own).unwrap().claims, claims, "{algorithm}");
            assert!(verified(&other).is_err(), "{algorithm}");
        }
    }
}
