//! What cannot be so.

use crate::id::{AttemptId, JobId, StrandId};

/// What cannot be so: an event about a strand that the state was never told of. The state is worth nothing from then on and
/// has to be built anew from the record; going on would lose a job or a slot in silence.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum Inconsistency {
    #[error("job {job} waits in strand {strand}, which is not known")]
    WaitsInUnknownStrand { job: JobId, strand: StrandId },
    #[error("attempt {attempt} is of strand {strand}, which is not known")]
    HoldsInUnknownStrand {
        attempt: AttemptId,
        strand: StrandId,
    },
}
