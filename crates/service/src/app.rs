//! What every request handler and loop shares.

use crate::clock::Clock;
use crate::config::Config;
use crate::desk::Desk;
use crate::feed::Feed;
use crate::log_store::LogStore;
use crate::seen::SeenMap;
use pennine_core::dispatch::StrandKey;
use pennine_core::id::{AttemptId, ReplicaId, RunnerId, StrandId};
use pennine_core::requirement::Vocabulary;
use pennine_store::Store;
use pennine_store::attempt::ForRunner;
use pennine_store::installation::Installation;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

/// Strands known by key are kept up to this many; past it they are asked for again.
const KNOWN_STRANDS: usize = 100_000;

/// What every request handler and loop shares.
#[derive(Clone)]
pub struct App(Arc<Shared>);

/// The parts of [`App`].
pub struct Shared {
    pub config: Config,
    pub public_url: String,
    pub store: Store,
    pub clock: Clock,
    pub installation: Installation,
    pub replica: ReplicaId,
    pub feed: Feed,
    /// Parked polls. What this replica assigns while it leads is left there as a note.
    pub polls: Desk<RunnerId, ForRunner>,
    /// Followed logs.
    pub followed: Desk<AttemptId>,
    pub seen: SeenMap,
    pub logs: LogStore,
    pub stop: CancellationToken,
    /// Whether this replica leads now.
    pub leads: AtomicBool,
    strands: Mutex<HashMap<StrandKey, StrandId>>,
    /// Counts the changes of runners and pools that this replica has heard of.
    pub yard_changes: AtomicU64,
    vocabulary: Mutex<Option<(u64, Arc<Vocabulary>)>>,
}

impl std::ops::Deref for App {
    type Target = Shared;
    fn deref(&self) -> &Shared {
        &self.0
    }
}

/// What an [`App`] is made from.
pub struct Parts {
    pub config: Config,
    pub public_url: String,
    pub store: Store,
    pub clock: Clock,
    pub installation: Installation,
    pub feed: Feed,
    pub logs: LogStore,
    pub stop: CancellationToken,
}

impl App {
    /// Puts the parts together.
    pub fn new(parts: Parts) -> App {
        App(Arc::new(Shared {
            config: parts.config,
            public_url: parts.public_url,
            store: parts.store,
            clock: parts.clock,
            installation: parts.installation,
            replica: ReplicaId(Uuid::now_v7()),
            feed: parts.feed,
            polls: Desk::default(),
            followed: Desk::default(),
            seen: SeenMap::default(),
            logs: parts.logs,
            stop: parts.stop,
            leads: AtomicBool::new(false),
            strands: Mutex::default(),
            yard_changes: AtomicU64::new(0),
            vocabulary: Mutex::default(),
        }))
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

    /// What was made of the yard by `read` when it last changed. A change may be a few milliseconds old before it is
    /// heard of here.
    pub async fn vocabulary<E>(
        &self,
        read: impl AsyncFnOnce() -> Result<Vocabulary, E>,
    ) -> Result<Arc<Vocabulary>, E> {
        let changes = self.yard_changes.load(Ordering::Relaxed);
        let known = || {
            self.vocabulary
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
        };
        if let Some((of, words)) = known().as_ref()
            && *of == changes
        {
            return Ok(words.clone());
        }
        let words = Arc::new(read().await?);
        *known() = Some((changes, words.clone()));
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
