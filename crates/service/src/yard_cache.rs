//! The yard as it was a moment ago. A small yard is read for each question; reading ten thousand runners takes a tenth of a second,
//! so the questions that are asked all the time (the status, the queue, metrics) share one reading.

use crate::clock::Clock;
use crate::yard::Yard;
use pennine_store::{Error, Store};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Up to this many runners, every question reads the yard anew.
const SMALL: usize = 500;
/// How long one reading is used: at least so long, and so many times as long as it took.
const FRESH: Duration = Duration::from_secs(1);
const REST: u32 = 10;
/// How long it is still used while the next is under way.
const USABLE: Duration = Duration::from_secs(15);

/// The last reading.
#[derive(Clone, Default)]
pub struct YardCache(Arc<Readings>);

#[derive(Default)]
struct Readings {
    last: Mutex<Option<Reading>>,
    /// Held while the yard is read.
    reading: tokio::sync::Mutex<()>,
}

#[derive(Clone)]
struct Reading {
    yard: Arc<Yard>,
    at: Instant,
    /// How long it took.
    took: Duration,
}

impl Reading {
    fn is_fresh(&self) -> bool {
        self.at.elapsed() < FRESH.max(self.took * REST)
    }
}

impl YardCache {
    /// Returns the yard: of a large one a reading that may be a few seconds old.
    ///
    /// # Errors
    /// Where the database cannot be read.
    pub async fn recent(&self, store: &Store, clock: &Clock) -> Result<Arc<Yard>, Error> {
        match self.last() {
            Some(last) if last.is_fresh() => Ok(last.yard),
            Some(last) if last.at.elapsed() < USABLE => {
                let (this, store, clock) = (self.clone(), store.clone(), clock.clone());
                tokio::spawn(async move {
                    let Ok(_reading) = this.0.reading.try_lock() else {
                        return;
                    };
                    if let Err(error) = this.read(&store, &clock).await {
                        tracing::debug!(%error, "the yard could not be read again");
                    }
                });
                Ok(last.yard)
            }
            Some(_) => {
                let _reading = self.0.reading.lock().await;
                match self.last() {
                    // Another question has read it meanwhile.
                    Some(last) if last.is_fresh() => Ok(last.yard),
                    _ => self.read(store, clock).await,
                }
            }
            None => self.read(store, clock).await,
        }
    }

    /// The last reading of a large yard.
    fn last(&self) -> Option<Reading> {
        let last = self.0.last.lock().unwrap_or_else(PoisonError::into_inner);
        let last = last.as_ref()?;
        (last.yard.runners.len() > SMALL).then(|| last.clone())
    }

    async fn read(&self, store: &Store, clock: &Clock) -> Result<Arc<Yard>, Error> {
        let begun = Instant::now();
        let mut connection = store.people().await?;
        let yard = Arc::new(Yard::read(&mut connection, clock.now()).await?);
        let reading = Reading {
            yard: yard.clone(),
            at: Instant::now(),
            took: begun.elapsed(),
        };
        let mut last = self.0.last.lock().unwrap_or_else(PoisonError::into_inner);
        *last = Some(reading);
        Ok(yard)
    }
}
