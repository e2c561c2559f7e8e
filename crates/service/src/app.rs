//! What every request handler and loop shares.

use crate::access::Principal;
use crate::background::TaskTurns;
use crate::clock::Clock;
use crate::config::Config;
use crate::encryption::Encryption;
use crate::failed_attempts::FailedAttempts;
use crate::feed::Feed;
use crate::identity_keys::IdentityKeys;
use crate::log_store::LogStore;
use crate::log_volumes::LogVolumes;
use crate::openid::Provider;
use crate::outside_secrets::OutsideStore;
use crate::passwords::Passwords;
use crate::poll_waiters::Waiters;
use crate::presence::PresenceMap;
use crate::programs::Programs;
use crate::runner_cache::RunnerCache;
use crate::upload_budget::UploadBudget;
use crate::yard_cache::YardCache;
use pennine_core::dispatch::StrandKey;
use pennine_core::engine::Ids;
use pennine_core::id::{AttemptId, MachineId, ReplicaId, RunnerId, StrandId};
use pennine_core::requirement::Vocabulary;
use pennine_store::Store;
use pennine_store::installation::Installation;
use pennine_store::place::Place;
use pennine_suppliers::outgoing::AddressPolicy;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

/// Strands known by key are kept up to this many; past it they are asked for again.
const KNOWN_STRANDS: usize = 100_000;

/// Tokens known by their secret are kept up to this many.
const KNOWN_TOKENS: u64 = 10_000;
/// How long a token is not asked for again: one that is revoked is refused this much later at most.
const TOKEN_HOLDS: Duration = Duration::from_millis(500);

/// Projects known by name are kept up to this many.
const KNOWN_PROJECTS: u64 = 10_000;
/// How long a project is not asked for again, should the news of its change get lost.
const PROJECT_HOLDS: Duration = Duration::from_secs(1);

/// Refusals that were recorded are kept up to this many.
const KNOWN_REFUSALS: u64 = 10_000;
/// How long the same refusal is not recorded again.
const REFUSAL_HOLDS: Duration = Duration::from_secs(60);

/// What every request handler and loop shares.
#[derive(Clone)]
pub struct App(Arc<AppState>);

/// The parts of [`App`].
pub struct AppState {
    pub config: Config,
    pub public_url: String,
    /// The certificate authority that machines have to trust for the service (PEM), where it is none of the usual ones.
    pub authority: Option<String>,
    pub store: Store,
    pub clock: Clock,
    pub installation: Installation,
    pub encryption: Encryption,
    pub outside_secrets: OutsideStore,
    /// The OpenID provider with which people sign in.
    pub provider: Provider,
    pub identity_keys: IdentityKeys,
    pub replica: ReplicaId,
    pub feed: Feed,
    /// Parked polls.
    pub polls: Waiters<RunnerId>,
    /// What need not be asked about runners.
    pub runner_cache: RunnerCache,
    /// The principals of recently shown tokens and cookies, by the hash of the secret.
    pub principals: moka::sync::Cache<Vec<u8>, Principal>,
    /// Works passwords out, a few at a time.
    pub passwords: Passwords,
    /// Projects that were there a moment ago, by what people call them.
    pub projects: moka::sync::Cache<String, Place>,
    /// What was refused to whom, within the last minute.
    pub refusals: moka::sync::Cache<(Option<Uuid>, String), ()>,
    /// Limits what addresses may show that is not known here.
    pub failed_attempts: FailedAttempts,
    /// How much log each runner has sent lately.
    pub log_volumes: LogVolumes,
    /// What uploads may hold in memory.
    pub uploads: UploadBudget,
    /// Followed logs.
    pub followed: Waiters<AttemptId>,
    pub presence: PresenceMap,
    pub logs: LogStore,
    pub programs: Programs,
    pub stop: CancellationToken,
    /// When each background task last made a turn.
    pub turns: TaskTurns,
    /// Where requests to addresses that people enter may go.
    pub outgoing: AddressPolicy,
    /// Whether this replica leads now.
    pub leads: AtomicBool,
    strands: Mutex<HashMap<StrandKey, StrandId>>,
    /// Counts the changes of runners and pools that this replica has heard of.
    pub yard_changes: AtomicU64,
    /// The yard as it was a moment ago, where it is a large one.
    pub yard: YardCache,
    vocabulary: Mutex<Option<VocabularyCache>>,
    reading_words: tokio::sync::Mutex<()>,
}

/// What the yard's runners know, as it was read.
#[derive(Clone)]
struct VocabularyCache {
    words: Arc<Vocabulary>,
    /// After this many changes.
    of: u64,
    read_at: Instant,
    /// How long not to read again.
    rest: Duration,
}

impl std::ops::Deref for App {
    type Target = AppState;
    fn deref(&self) -> &AppState {
        &self.0
    }
}

/// What an [`App`] is made from.
pub struct Parts {
    pub config: Config,
    pub public_url: String,
    pub authority: Option<String>,
    pub store: Store,
    pub clock: Clock,
    pub installation: Installation,
    pub encryption: Encryption,
    pub feed: Feed,
    pub logs: LogStore,
    pub stop: CancellationToken,
    pub turns: TaskTurns,
    pub outgoing: AddressPolicy,
}

impl App {
    /// Puts the parts together.
    pub fn new(parts: Parts) -> App {
        App(Arc::new(AppState {
            programs: Programs::within(&parts.config.programs_dir),
            uploads: UploadBudget::new(parts.config.limits.upload_memory_bytes),
            identity_keys: IdentityKeys::new(parts.store.clone(), parts.encryption.clone()),
            provider: Provider::new(parts.config.openid.clone()),
            outside_secrets: OutsideStore::new(parts.config.secrets.clone()),
            config: parts.config,
            public_url: parts.public_url,
            authority: parts.authority,
            runner_cache: RunnerCache::new(parts.feed.clone()),
            store: parts.store,
            clock: parts.clock,
            installation: parts.installation,
            encryption: parts.encryption,
            replica: ReplicaId(Uuid::now_v7()),
            feed: parts.feed,
            polls: Waiters::default(),
            passwords: Passwords::default(),
            principals: moka::sync::Cache::builder()
                .max_capacity(KNOWN_TOKENS)
                .time_to_live(TOKEN_HOLDS)
                .build(),
            projects: moka::sync::Cache::builder()
                .max_capacity(KNOWN_PROJECTS)
                .time_to_live(PROJECT_HOLDS)
                .build(),
            refusals: moka::sync::Cache::builder()
                .max_capacity(KNOWN_REFUSALS)
                .time_to_live(REFUSAL_HOLDS)
                .build(),
            log_volumes: LogVolumes::default(),
            failed_attempts: FailedAttempts::default(),
            followed: Waiters::default(),
            presence: PresenceMap::default(),
            logs: parts.logs,
            stop: parts.stop,
            turns: parts.turns,
            outgoing: parts.outgoing,
            leads: AtomicBool::new(false),
            strands: Mutex::default(),
            yard_changes: AtomicU64::new(0),
            yard: YardCache::default(),
            vocabulary: Mutex::default(),
            reading_words: tokio::sync::Mutex::default(),
        }))
    }

    /// Returns the script with which a machine gets the runner's program and joins.
    pub async fn join_script(&self) -> String {
        self.programs
            .join_script(&self.public_url, self.authority.as_deref())
            .await
    }

    /// A new id. Its time is the service's, so that it lands in the right partition.
    pub fn fresh_id(&self) -> Uuid {
        let micros = self.clock.now().micros().max(0).unsigned_abs();
        let (seconds, rest) = (micros / 1_000_000, micros % 1_000_000);
        let nanos = u32::try_from(rest * 1_000).unwrap_or(0);
        Uuid::new_v7(uuid::Timestamp::from_unix(uuid::NoContext, seconds, nanos))
    }

    /// Whether this replica leads now.
    pub fn leads(&self) -> bool {
        self.leads.load(Ordering::Relaxed)
    }

    /// The words of the yard as `read` finds them. After a change they are read again, by one request at a time and no
    /// more than a twentieth of the time: meanwhile the others go by what was known before.
    pub async fn vocabulary<E>(
        &self,
        read: impl AsyncFnOnce() -> Result<Vocabulary, E>,
    ) -> Result<Arc<Vocabulary>, E> {
        let known = || {
            let known = self.vocabulary.lock();
            known.unwrap_or_else(PoisonError::into_inner).clone()
        };
        let changes = || self.yard_changes.load(Ordering::Relaxed);
        let will_do =
            |words: &VocabularyCache| words.of == changes() || words.read_at.elapsed() < words.rest;
        let before = known();
        if let Some(words) = before.as_ref().filter(|words| will_do(words)) {
            return Ok(words.words.clone());
        }
        let _reading = match (self.reading_words.try_lock(), before) {
            (Ok(reading), _) => reading,
            (Err(_), Some(words)) => return Ok(words.words),
            (Err(_), None) => self.reading_words.lock().await,
        };
        // Another may have read them while this one waited.
        if let Some(words) = known().filter(will_do) {
            return Ok(words.words);
        }
        let (of, begun) = (changes(), Instant::now());
        let words = Arc::new(read().await?);
        *self
            .vocabulary
            .lock()
            .unwrap_or_else(PoisonError::into_inner) = Some(VocabularyCache {
            words: words.clone(),
            of,
            read_at: Instant::now(),
            rest: begun.elapsed() * 20,
        });
        Ok(words)
    }

    /// The strand of this key, made if there is none.
    pub async fn strand(
        &self,
        connection: &mut pennine_store::Connection,
        key: &StrandKey,
    ) -> pennine_store::Result<StrandId> {
        if let Some(known) = self
            .strands
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .get(key)
        {
            return Ok(*known);
        }
        let fresh = StrandId(self.fresh_id());
        let id = pennine_store::strand::ensure(connection, fresh, key, self.clock.now()).await?;
        let mut strands = self.strands.lock().unwrap_or_else(PoisonError::into_inner);
        if strands.len() >= KNOWN_STRANDS {
            strands.clear();
        }
        strands.insert(key.clone(), id);
        Ok(id)
    }
}

/// Fresh ids for what the engine brings about.
pub struct FreshIds<'a>(pub &'a App);

impl Ids for FreshIds<'_> {
    fn attempt(&mut self) -> AttemptId {
        AttemptId(self.0.fresh_id())
    }

    fn machine(&mut self) -> (MachineId, RunnerId) {
        (MachineId(self.0.fresh_id()), RunnerId(self.0.fresh_id()))
    }
}
