//! A limit on how often an address may show a secret that is not known here: a token, a cookie, a runner's credential.
//!
//! A secret of 256 bits cannot be guessed. But each unknown secret costs a query, and a flood of them must not delay other
//! clients. A secret that is cached as valid or as refused needs no query, and its address does not matter. Secrets that turn out
//! to be known count nothing: after a restart a thousand machines behind one address show theirs for the first time.

use crate::error::{Result, ServiceError};
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use std::net::{IpAddr, Ipv6Addr};
use std::num::NonZeroU32;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;

/// An address may show this many unknown secrets at once ...
const AT_ONCE: NonZeroU32 = NonZeroU32::new(30).unwrap();
/// ... and one more each time this has passed.
const ONE_MORE: Duration = Duration::from_secs(2);
/// Addresses are forgotten, where they may show secrets as before, once there are this many.
const KNOWN_ADDRESSES: usize = 50_000;
/// Secrets of an address that are looked up at once, where they were not right before: the others wait.
const LOOKED_UP: usize = 4;
/// How long an address is remembered without news of it.
const REMEMBERED: Duration = Duration::from_secs(60);
/// Secrets are remembered up to this many, each.
const KNOWN_SECRETS: u64 = 50_000;
/// How long a refused secret is refused again without a query.
const REFUSED_FOR: Duration = Duration::from_secs(5);
/// How long a secret that was right is not counted as unknown.
const RIGHT_FOR: Duration = Duration::from_secs(3600);

/// A secret's SHA-256, after a word for its kind where it is no token.
type Hash = Vec<u8>;

/// See the module's head.
pub struct FailedAttempts {
    by_address: DefaultKeyedRateLimiter<IpAddr>,
    /// Addresses that have shown too many, until they may show one more.
    over: moka::sync::Cache<IpAddr, ()>,
    look_ups: moka::sync::Cache<IpAddr, Arc<Semaphore>>,
    refused: moka::sync::Cache<Hash, ()>,
    right: moka::sync::Cache<Hash, ()>,
}

impl Default for FailedAttempts {
    fn default() -> Self {
        let quota = Quota::with_period(ONE_MORE)
            .unwrap_or(Quota::per_minute(AT_ONCE))
            .allow_burst(AT_ONCE);
        let secrets = |lifetime| {
            moka::sync::Cache::builder()
                .max_capacity(KNOWN_SECRETS)
                .time_to_live(lifetime)
                .build()
        };
        FailedAttempts {
            by_address: RateLimiter::keyed(quota),
            over: moka::sync::Cache::builder()
                .max_capacity(KNOWN_ADDRESSES as u64)
                .time_to_live(ONE_MORE)
                .build(),
            look_ups: moka::sync::Cache::builder()
                .max_capacity(KNOWN_ADDRESSES as u64)
                .time_to_idle(REMEMBERED)
                .build(),
            refused: secrets(REFUSED_FOR),
            right: secrets(RIGHT_FOR),
        }
    }
}

impl FailedAttempts {
    /// Looks a secret up, unless that is not worth a query: `look_up` returns what it belongs to.
    ///
    /// # Errors
    /// Too many attempts, where this address has shown many unknown secrets and this one was not right before.
    pub async fn guard<T>(
        &self,
        peer: Option<IpAddr>,
        hash: &[u8],
        look_up: impl Future<Output = Result<Option<T>>>,
    ) -> Result<Option<T>> {
        if self.refused.contains_key(hash) {
            return Ok(None);
        }
        if self.right.contains_key(hash) {
            let found = look_up.await?;
            if found.is_none() {
                self.right.invalidate(hash);
                self.refused.insert(hash.to_owned(), ());
            }
            return Ok(found);
        }
        let network = peer.map(network);
        self.check(network)?;
        let _turn = match network {
            Some(network) => {
                let fresh = || Arc::new(Semaphore::new(LOOKED_UP));
                let turns = self.look_ups.get_with(network, fresh);
                turns.acquire_owned().await.ok()
            }
            None => None,
        };
        // Others of the address may have failed while this one waited.
        self.check(network)?;
        let found = look_up.await?;
        if found.is_some() {
            self.right.insert(hash.to_owned(), ());
        } else {
            self.refused.insert(hash.to_owned(), ());
            self.count(network);
        }
        Ok(found)
    }

    fn check(&self, network: Option<IpAddr>) -> Result<()> {
        let is_over = network.is_some_and(|network| self.over.contains_key(&network));
        if !is_over {
            return Ok(());
        }
        tracing::debug!(
            ?network,
            "refused without a query: too many unknown secrets"
        );
        Err(ServiceError::too_many(
            "many requests from this address have carried a token or credential that is not known here",
            ONE_MORE,
        )
        .remedy("stop the program that sends an expired or revoked token, then try again"))
    }

    fn count(&self, network: Option<IpAddr>) {
        let Some(network) = network else {
            return;
        };
        if self.by_address.len() > KNOWN_ADDRESSES {
            self.by_address.retain_recent();
        }
        if self.by_address.check_key(&network).is_err() {
            self.over.insert(network, ());
        }
    }
}

/// What counts as one address: an IPv6 host has a /64 of its own (RFC 4291).
pub fn network(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            IpAddr::V6(Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0))
        }
        v4 => v4,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::ErrorKind;
    use std::cell::Cell;

    const HOME: Option<IpAddr> = Some(IpAddr::V6(Ipv6Addr::LOCALHOST));

    fn other() -> Option<IpAddr> {
        Some(IpAddr::from([192, 0, 2, 7]))
    }

    async fn wrong(attempts: &FailedAttempts, from: Option<IpAddr>, secret: u32) -> Result<bool> {
        let hash = secret.to_be_bytes();
        let found = attempts.guard(from, &hash, async { Ok(None::<()>) }).await;
        found.map(|found| found.is_some())
    }

    async fn right(attempts: &FailedAttempts, from: Option<IpAddr>, secret: &[u8]) -> Result<bool> {
        let found = attempts.guard(from, secret, async { Ok(Some(())) }).await;
        found.map(|found| found.is_some())
    }

    #[tokio::test]
    async fn an_address_may_show_some_unknown_secrets_and_others_are_not_affected() {
        let attempts = FailedAttempts::default();
        assert!(right(&attempts, HOME, b"known").await.unwrap());
        let mut refused = 0;
        for secret in 0..AT_ONCE.get() * 3 {
            match wrong(&attempts, HOME, secret).await {
                Ok(found) => assert!(!found),
                Err(error) => {
                    let details = error.details();
                    assert_eq!(details.kind, ErrorKind::TooMany);
                    assert!(details.retry_after.is_some_and(|wait| wait <= ONE_MORE));
                    refused += 1;
                }
            }
        }
        assert!(refused >= AT_ONCE.get(), "{refused}");
        assert!(right(&attempts, HOME, b"known").await.unwrap());
        assert!(right(&attempts, HOME, b"another").await.is_err());
        assert!(right(&attempts, other(), b"another").await.unwrap());
        assert!(right(&attempts, HOME, b"another").await.unwrap());
    }

    #[tokio::test]
    async fn secrets_that_are_known_count_nothing_however_many_they_are() {
        let attempts = FailedAttempts::default();
        for secret in 0..AT_ONCE.get() * 10 {
            assert!(right(&attempts, HOME, &secret.to_be_bytes()).await.unwrap());
        }
        assert!(!wrong(&attempts, HOME, u32::MAX).await.unwrap());
    }

    #[tokio::test]
    async fn a_flood_of_one_address_is_looked_up_a_few_at_a_time_and_then_refused() {
        let attempts = FailedAttempts::default();
        let (now, most, all) = (Cell::new(0), Cell::new(0), Cell::new(0));
        let secrets: Vec<[u8; 4]> = (0..AT_ONCE.get() * 10).map(u32::to_be_bytes).collect();
        let asked = secrets.iter().map(|secret| {
            attempts.guard(HOME, secret, async {
                now.set(now.get() + 1);
                most.set(most.get().max(now.get()));
                all.set(all.get() + 1);
                tokio::task::yield_now().await;
                now.set(now.get() - 1);
                Ok(None::<()>)
            })
        });
        let answers = futures::future::join_all(asked).await;
        assert_eq!(most.get(), LOOKED_UP);
        let looked_up = answers.iter().filter(|answer| answer.is_ok()).count();
        assert_eq!(looked_up, all.get());
        let allowed = AT_ONCE.get() as usize;
        assert!(
            (allowed..=allowed + LOOKED_UP).contains(&looked_up),
            "{looked_up}"
        );
    }

    #[tokio::test]
    async fn a_refused_secret_is_refused_again_without_a_query_and_counts_once() {
        let attempts = FailedAttempts::default();
        let queries = Cell::new(0);
        for _ in 0..AT_ONCE.get() * 3 {
            let look_up = async {
                queries.set(queries.get() + 1);
                Ok(None::<()>)
            };
            assert!(
                attempts
                    .guard(HOME, b"expired", look_up)
                    .await
                    .unwrap()
                    .is_none()
            );
        }
        assert_eq!(queries.get(), 1);
        assert!(right(&attempts, HOME, b"known").await.unwrap());
    }

    #[test]
    fn all_addresses_of_one_ipv6_host_count_as_one() {
        let at = |text: &str| network(text.parse().unwrap());
        assert_eq!(at("2001:db8:1:2:3:4:5:6"), at("2001:db8:1:2::9"));
        assert_ne!(at("2001:db8:1:2::1"), at("2001:db8:1:3::1"));
        assert_eq!(at("::ffff:192.0.2.7"), at("192.0.2.7"));
    }
}
