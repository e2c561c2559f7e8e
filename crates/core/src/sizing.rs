//! Whether the machines that run a job have the right size for it, from what its last attempts used.

use crate::size::ByteSize;
use crate::time::{Micros, spoken};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The fewest attempts that advice is given for.
pub const FEWEST: usize = 5;
/// Commands that are over sooner than this, at the median, say nothing about a machine's size.
const SHORTEST: Micros = Micros(1_000_000);

/// What the commands of one attempt used.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct AttemptUsage {
    /// From the start of the first command to the end of the last.
    pub ran: Micros,
    /// Processor time of the commands and all that they waited for.
    pub processor: Micros,
    /// The largest memory that any one process held.
    pub peak_memory: ByteSize,
    /// Bytes that came from storage and bytes that went there. What the system had in memory is not counted.
    pub bytes_read: Option<ByteSize>,
    pub bytes_written: Option<ByteSize>,
    /// The processor cores of the machine, and its memory, as its runner reported them then.
    pub cores: Option<u64>,
    pub memory: Option<ByteSize>,
}

/// What the last attempts of a job used, as figures.
#[derive(Clone, PartialEq, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobUsage {
    /// The median, by nearest rank.
    pub ran_p50_us: Micros,
    pub ran_p95_us: Micros,
    /// Cores used on average: all processor time over all running time, in thousandths of a core.
    pub millicores: u64,
    /// The cores of the machine that the last attempt ran on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cores: Option<u64>,
    /// The largest memory that any one process of any of the attempts held.
    pub peak_memory: ByteSize,
    /// The memory of the machine that the last attempt ran on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory: Option<ByteSize>,
    /// Bytes that came from storage, at the median. What the system had in memory is not counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes_read: Option<ByteSize>,
    /// Bytes that went to storage, at the median.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bytes_written: Option<ByteSize>,
}

impl JobUsage {
    /// The figures of some attempts, the last one first. None where there are fewer than [`FEWEST`].
    pub fn of(attempts: &[AttemptUsage]) -> Option<Self> {
        if attempts.len() < FEWEST {
            return None;
        }
        let last = attempts.first()?;
        let total = |of: fn(&AttemptUsage) -> u64| {
            attempts.iter().map(|one| u128::from(of(one))).sum::<u128>()
        };
        let ran = total(|one| one.ran.0).max(1);
        let millicores = total(|one| one.processor.0).saturating_mul(1000) / ran;
        let median = |of: fn(&AttemptUsage) -> Option<ByteSize>| {
            rank(
                attempts.iter().filter_map(of).map(|size| size.0).collect(),
                50,
            )
            .map(ByteSize)
        };
        let ran =
            |percent| rank(attempts.iter().map(|one| one.ran.0).collect(), percent).map(Micros);
        Some(JobUsage {
            ran_p50_us: ran(50)?,
            ran_p95_us: ran(95)?,
            millicores: u64::try_from(millicores).unwrap_or(u64::MAX),
            cores: last.cores.filter(|cores| *cores > 0),
            peak_memory: attempts.iter().map(|one| one.peak_memory).max()?,
            memory: last.memory.filter(|memory| memory.0 > 0),
            bytes_read: median(|one| one.bytes_read),
            bytes_written: median(|one| one.bytes_written),
        })
    }

    /// Cores used on average, for people: `2.3`.
    fn cores_used(&self) -> String {
        let tenths = self.millicores.saturating_add(50) / 100;
        format!("{}.{}", tenths / 10, tenths % 10)
    }

    /// The figures in a sentence: `The attempts ran for 3 min (median), used 2.3 of 12 cores on average, …`.
    pub fn message(&self) -> String {
        let cores = match self.cores {
            Some(cores) => format!("{} of {cores} cores", self.cores_used()),
            None => format!("{} cores", self.cores_used()),
        };
        let memory = match self.memory {
            Some(memory) => format!("{} of {memory}", self.peak_memory),
            None => self.peak_memory.to_string(),
        };
        format!(
            "The attempts ran for {} (median), used {cores} on average, and the largest process held {memory} of memory.",
            spoken(self.ran_p50_us.into())
        )
    }

    /// What follows for the machine and the time limit, a sentence each. Nothing where nothing is to be done.
    pub fn advice(&self, time_limit: Micros) -> Vec<String> {
        let cores = (self.ran_p50_us >= SHORTEST)
            .then(|| self.about_cores())
            .flatten();
        [cores, self.about_memory(), self.about_time(time_limit)]
            .into_iter()
            .flatten()
            .collect()
    }

    /// Whether more cores would help. Averages hide short bursts: a share below three quarters is not called full.
    fn about_cores(&self) -> Option<String> {
        if self.millicores < 800 {
            let busy = self.millicores / 10;
            return Some(format!(
                "The job's processes computed for {busy} % of the time and waited for the rest: for downloads, storage or other \
                 programs. A bigger machine would not make the job faster."
            ));
        }
        let cores = self.cores?;
        if self.millicores.saturating_mul(4) >= cores.saturating_mul(3000) {
            let plural = if cores == 1 { "core" } else { "cores" };
            return Some(format!(
                "The job keeps its machine's {cores} {plural} busy: a machine with more cores may make it faster."
            ));
        }
        if self.millicores <= 1200 {
            return Some(
                "The job keeps one core busy: more cores would not make it faster, faster ones would."
                    .to_owned(),
            );
        }
        Some("A machine with more cores would not make the job faster.".to_owned())
    }

    /// Whether its memory is nearly all of its machine's.
    fn about_memory(&self) -> Option<String> {
        let memory = self.memory?;
        let is_near = u128::from(self.peak_memory.0) * 5 >= u128::from(memory.0) * 4;
        is_near.then(|| {
            format!(
                "The largest process held {} of its machine's {memory}: require more memory before it fails.",
                self.peak_memory
            )
        })
    }

    /// Whether it usually ends just before its time limit.
    fn about_time(&self, limit: Micros) -> Option<String> {
        let share = u128::from(self.ran_p95_us.0) * 100 / u128::from(limit.0.max(1));
        (share >= 80).then(|| {
            format!(
                "An attempt takes up to {} (95th percentile), {share} % of its time limit of {}: raise the limit, or split the job, before \
                 it times out.",
                spoken(self.ran_p95_us.into()),
                spoken(limit.into())
            )
        })
    }
}

/// A percentile by nearest rank. None of nothing.
fn rank(mut values: Vec<u64>, percent: usize) -> Option<u64> {
    values.sort_unstable();
    let rank = values.len().saturating_mul(percent).div_ceil(100);
    values.get(rank.saturating_sub(1)).copied()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SECOND: u64 = 1_000_000;

    fn attempt(ran: u64, processor: u64) -> AttemptUsage {
        AttemptUsage {
            ran: Micros(ran * SECOND),
            processor: Micros(processor * SECOND),
            peak_memory: ByteSize(1 << 30),
            cores: Some(12),
            memory: Some(ByteSize(24 << 30)),
            ..AttemptUsage::default()
        }
    }

    fn advice(attempts: &[AttemptUsage]) -> Vec<String> {
        JobUsage::of(attempts)
            .unwrap()
            .advice(Micros(3600 * SECOND))
    }

    #[test]
    fn four_attempts_are_too_few() {
        assert_eq!(JobUsage::of(&[attempt(60, 60); 4]), None);
        assert!(JobUsage::of(&[attempt(60, 60); 5]).is_some());
    }

    #[test]
    fn the_figures_stand_in_a_sentence() {
        let usage = JobUsage::of(&[attempt(60, 138); 5]).unwrap();
        assert_eq!(
            usage.message(),
            "The attempts ran for 1 min (median), used 2.3 of 12 cores on average, and the largest process held 1GiB of 24GiB of memory."
        );
    }

    #[test]
    fn each_way_to_use_cores_has_its_advice() {
        let cases = [
            (6, "The job's processes computed for 10 % of the time"),
            (60, "The job keeps one core busy"),
            (
                138,
                "A machine with more cores would not make the job faster.",
            ),
            (660, "The job keeps its machine's 12 cores busy"),
        ];
        for (processor, begin) in cases {
            let advice = advice(&[attempt(60, processor); 5]);
            assert!(
                matches!(advice.as_slice(), [only] if only.starts_with(begin)),
                "{processor} s of processor time: {advice:?}"
            );
        }
    }

    #[test]
    fn commands_that_are_over_at_once_say_nothing_about_a_machine() {
        assert_eq!(advice(&[attempt(0, 0); 9]), Vec::<String>::new());
    }

    #[test]
    fn memory_and_time_that_run_out_are_named_before_the_job_fails() {
        let large = AttemptUsage {
            peak_memory: ByteSize(20 << 30),
            ..attempt(3000, 36_000)
        };
        let advice = advice(&[large; 20]);
        assert_eq!(advice.len(), 3, "{advice:?}");
        assert!(
            advice[1].starts_with("The largest process held 20GiB of its machine's 24GiB"),
            "{advice:?}"
        );
        assert!(
            advice[2].contains("83 % of its time limit of 1 h"),
            "{advice:?}"
        );
    }

    proptest! {
        #[test]
        fn any_figures_give_percentiles_in_order_and_whole_sentences(
            values in proptest::collection::vec((any::<u64>(), any::<u64>(), any::<u64>(), any::<Option<u64>>()), 5..40),
            limit in any::<u64>(),
        ) {
            let attempts: Vec<AttemptUsage> = values
                .iter()
                .map(|&(ran, processor, peak, cores)| AttemptUsage {
                    ran: Micros(ran),
                    processor: Micros(processor),
                    peak_memory: ByteSize(peak),
                    cores,
                    memory: cores.map(ByteSize),
                    ..AttemptUsage::default()
                })
                .collect();
            let usage = JobUsage::of(&attempts).unwrap();
            prop_assert!(usage.ran_p50_us <= usage.ran_p95_us);
            prop_assert!(values.iter().filter(|one| one.0 <= usage.ran_p50_us.0).count() * 2 >= values.len());
            for sentence in usage.advice(Micros(limit)) {
                prop_assert!(sentence.ends_with('.'), "{}", sentence);
            }
        }
    }
}
