//! How far the feed was read, and what of it is still to come.
//!
//! Numbers come from a sequence without a cache. A transaction draws one in the insert that ends it, so that the changes of
//! one subject, whose row it has locked before, have numbers in the order in which they commit. Those of different subjects
//! do not: number 8 may be there while 7 is not committed yet, or never will be.
//!
//! A live reader takes whatever is there and remembers the numbers that it has not seen. A durable cursor stops before the
//! first of them, at [`Position::low`], until that number is there or certainly never will be. Whether it will be is
//! known from the locks: a transaction that has drawn a number holds a lock on the table until it has ended, and what it
//! has committed is visible before the lock is released. So when every transaction that held such a lock, in a reading
//! of the locks that was made after the number was missed, has ended, and the number is still not there in a reading of
//! the rows that was made after that, it never will be.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// A number that is missed for less than this is most likely about to come.
const SOON: Duration = Duration::from_millis(50);
/// Numbers further back than this from one that is there are not missed: the sequence was moved. So many transactions never
/// are between the drawing of a number and their end.
const WINDOW: i64 = 10_000;

/// The virtual id of a transaction, as `pg_locks` shows it.
pub type TransactionId = String;

/// What is known of a number that is missed.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Gap {
    /// Missed since then.
    Missed(Duration),
    /// These transactions may have drawn it.
    Held(BTreeSet<TransactionId>),
    /// All of them have ended: it is there at the next reading, or never.
    Ended,
}

/// How far the feed was read.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Position {
    /// The greatest number that was read.
    high: i64,
    missing: BTreeMap<i64, Gap>,
}

impl Position {
    /// A reader that begins now. `recent` are the greatest numbers that are there, in order: numbers between them may come.
    pub fn beginning(recent: &[i64], now: Duration) -> Position {
        let mut position = Position {
            high: recent.first().map_or(0, |first| first - 1),
            missing: BTreeMap::new(),
        };
        position.take(recent, true, now);
        position
    }

    /// The greatest number that was read.
    pub fn high(&self) -> i64 {
        self.high
    }

    /// Everything up to here was read, or will never be there.
    pub fn low(&self) -> i64 {
        self.missing
            .first_key_value()
            .map_or(self.high, |(first, _)| first - 1)
    }

    /// The numbers below [`Self::high`] that are still to be read.
    pub fn missing(&self) -> Vec<i64> {
        self.missing.keys().copied().collect()
    }

    /// Whether anything is missed.
    pub fn has_gaps(&self) -> bool {
        !self.missing.is_empty()
    }

    /// A reading of the rows above [`Self::high`] or among [`Self::missing`] has found these numbers, in order: all of them, or
    /// the first.
    pub fn take(&mut self, found: &[i64], is_all: bool, now: Duration) {
        let looked_at = match found.last() {
            Some(last) if !is_all => *last,
            _ => i64::MAX,
        };
        for id in found {
            if *id <= self.high {
                self.missing.remove(id);
                continue;
            }
            let first = (self.high + 1).max(*id - WINDOW);
            self.missing
                .extend((first..*id).map(|missed| (missed, Gap::Missed(now))));
            self.high = *id;
        }
        self.missing
            .retain(|id, gap| *gap != Gap::Ended || *id > looked_at);
    }

    /// Whether the locks should be read.
    pub fn needs_locks(&self, now: Duration) -> bool {
        self.missing.values().any(|gap| match gap {
            Gap::Missed(since) => now.saturating_sub(*since) >= SOON,
            Gap::Held(_) => true,
            Gap::Ended => false,
        })
    }

    /// These transactions hold a lock on the table just now.
    pub fn see_locks(&mut self, holders: &BTreeSet<TransactionId>, now: Duration) {
        for gap in self.missing.values_mut() {
            let left = match gap {
                Gap::Missed(since) if now.saturating_sub(*since) >= SOON => holders.clone(),
                Gap::Held(before) => before.intersection(holders).cloned().collect(),
                Gap::Missed(_) | Gap::Ended => continue,
            };
            *gap = if left.is_empty() {
                Gap::Ended
            } else {
                Gap::Held(left)
            };
        }
    }

    /// What was known of transactions is void: the connection was lost, and the server may be another.
    pub fn forget_locks(&mut self, now: Duration) {
        for gap in self.missing.values_mut() {
            *gap = Gap::Missed(now);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const MS: Duration = Duration::from_millis(1);

    #[test]
    fn what_is_missed_is_waited_for_and_read_when_it_comes() {
        let mut position = Position::beginning(&[4, 5], Duration::ZERO);
        assert_eq!((position.high(), position.low()), (5, 5));
        position.take(&[6, 8], true, MS);
        assert_eq!((position.high(), position.low()), (8, 6));
        assert_eq!(position.missing(), [7]);
        assert!(!position.needs_locks(MS * 10));
        position.take(&[7, 9], true, MS * 11);
        assert_eq!((position.high(), position.low()), (9, 9));
    }

    #[test]
    fn a_number_that_was_rolled_back_is_given_up_once_its_transaction_has_ended() {
        let mut position = Position::beginning(&[1], Duration::ZERO);
        position.take(&[3], true, MS);
        let later = MS * 60;
        assert!(position.needs_locks(later));
        let holders = |names: &[&str]| names.iter().map(|one| (*one).to_owned()).collect();
        position.see_locks(&holders(&["5/12", "6/3"]), later);
        // A transaction that began since has nothing to do with it.
        position.see_locks(&holders(&["6/3", "7/1"]), later);
        position.take(&[], true, later);
        assert_eq!(position.low(), 1);
        position.see_locks(&holders(&["7/1"]), later);
        assert_eq!(
            position.low(),
            1,
            "it may have been committed since the last reading"
        );
        position.take(&[], true, later);
        assert_eq!((position.low(), position.has_gaps()), (3, false));
    }

    #[test]
    fn a_sequence_that_was_moved_leaves_no_endless_gap() {
        let mut position = Position::beginning(&[1], Duration::ZERO);
        position.take(&[50_000_000], true, MS);
        assert_eq!(position.missing().len() as i64, WINDOW);
    }

    #[test]
    fn a_number_that_a_limited_reading_did_not_come_to_is_not_given_up() {
        let mut position = Position::beginning(&[1], Duration::ZERO);
        position.take(&[4], true, MS);
        position.see_locks(&BTreeSet::new(), MS * 60);
        position.take(&[2], false, MS * 60);
        assert_eq!(position.missing(), [3]);
        position.take(&[3], false, MS * 60);
        assert_eq!(position.low(), 4);
    }

    /// What a writer does next.
    #[derive(Clone, Copy, Debug)]
    enum Step {
        /// A transaction draws a number.
        Draw,
        /// One of the open transactions commits, or rolls back.
        End {
            which: usize,
            commits: bool,
        },
        /// The reader reads the rows, or the locks.
        Read,
        Locks,
        /// The reader's connection is lost.
        Lost,
    }

    fn steps() -> impl Strategy<Value = Vec<Step>> {
        let step = prop_oneof![
            4 => Just(Step::Draw),
            4 => (0..8_usize, prop::bool::weighted(0.7)).prop_map(|(which, commits)| Step::End { which, commits }),
            4 => Just(Step::Read),
            3 => Just(Step::Locks),
            1 => Just(Step::Lost),
        ];
        proptest::collection::vec(step, 1..200)
    }

    proptest! {
        #[test]
        fn no_change_is_skipped_and_none_is_waited_for_for_ever(steps in steps()) {
            let mut position = Position::default();
            let (mut drawn, mut now) = (0, Duration::ZERO);
            let mut open: Vec<i64> = Vec::new();
            let mut committed = BTreeSet::new();
            let mut read = BTreeSet::new();
            let finish = [Step::Read, Step::Locks, Step::Read, Step::Locks, Step::Read];
            let ends = std::iter::repeat_n(Step::End { which: 0, commits: true }, 200);
            for step in steps.into_iter().chain(ends).chain([Step::Draw, Step::End { which: 0, commits: true }]).chain(finish) {
                now += MS * 60;
                match step {
                    Step::Draw => {
                        drawn += 1;
                        open.push(drawn);
                    }
                    Step::End { which, commits } if which < open.len() => {
                        let id = open.remove(which);
                        if commits {
                            committed.insert(id);
                        }
                    }
                    Step::End { .. } => {}
                    Step::Read => {
                        let missing = position.missing();
                        let found: Vec<i64> = committed
                            .iter()
                            .copied()
                            .filter(|id| *id > position.high() || missing.contains(id))
                            .collect();
                        for id in &found {
                            prop_assert!(read.insert(*id), "{id} is read once");
                        }
                        position.take(&found, true, now);
                    }
                    Step::Locks => {
                        let holders = open.iter().map(|id| format!("tx/{id}")).collect();
                        position.see_locks(&holders, now);
                    }
                    Step::Lost => position.forget_locks(now),
                }
                // A durable cursor that stands at the low mark has passed nothing that it lacks.
                let low = position.low();
                for id in &committed {
                    prop_assert!(*id > low || read.contains(id), "{id} was passed at {low}");
                }
                for id in &open {
                    prop_assert!(*id > low, "{id} may still come, and {low} is passed");
                }
            }
            prop_assert_eq!(&read, &committed);
            prop_assert_eq!(position.low(), drawn);
        }
    }
}
