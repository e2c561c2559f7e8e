//! What all uploads of this replica together may hold in memory.

use crate::error::ServiceError;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// How long an upload waits for others to end before it is refused.
const WAIT: Duration = Duration::from_secs(5);
/// Bytes that one permit of the budget stands for.
const UNIT: usize = 1024;

/// The bytes that uploads may hold in memory at once.
#[derive(Clone)]
pub struct UploadBudget {
    free: Arc<Semaphore>,
    units: u32,
}

impl UploadBudget {
    /// A budget of this many bytes.
    pub fn new(bytes: usize) -> UploadBudget {
        let units = u32::try_from(bytes.div_ceil(UNIT)).unwrap_or(u32::MAX);
        let units = units.clamp(1, u32::try_from(Semaphore::MAX_PERMITS).unwrap_or(u32::MAX));
        UploadBudget {
            free: Arc::new(Semaphore::new(units as usize)),
            units,
        }
    }

    /// A part of the budget, which is given back when it is dropped. A body larger than all of it has all of it.
    ///
    /// # Errors
    /// Busy where others have held it for too long.
    pub async fn take(&self, bytes: usize) -> Result<OwnedSemaphorePermit, ServiceError> {
        let units = u32::try_from(bytes.div_ceil(UNIT)).unwrap_or(u32::MAX);
        let taken = Arc::clone(&self.free).acquire_many_owned(units.clamp(1, self.units));
        match tokio::time::timeout(WAIT, taken).await {
            Ok(Ok(permit)) => Ok(permit),
            _ => Err(ServiceError::busy(
                "other uploads hold all the memory that uploads may have at once",
            )),
        }
    }
}
