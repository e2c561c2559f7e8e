//! A wait, split into the reasons for it. The parts add up to the whole, to the microsecond.

use crate::dispatch::Reason;
use crate::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A stretch of a wait under one reason.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Span {
    /// Why the job waited.
    pub reason: Reason,
    /// From when.
    pub from: Moment,
    /// Until when.
    pub to: Moment,
    /// How long, in microseconds.
    pub length_us: Micros,
}

/// One entry of a strand's timeline: from this moment on, jobs of the strand waited for this reason, or none waited.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Turn {
    pub since: Moment,
    pub reason: Option<Reason>,
}

/// Lays one attempt's wait over its strand's timeline (in order of time).
///
/// The wait goes from `ready` to `end` (when it started, or now). From `assigned` on, and wherever the timeline is
/// silent, the reason is `handover`: somebody was about to act. Spans of no length are left out; neighbours with the
/// same reason are one.
pub fn split(ready: Moment, assigned: Option<Moment>, end: Moment, timeline: &[Turn]) -> Vec<Span> {
    let mut spans: Vec<Span> = Vec::new();
    let mut add = |reason: Reason, from: Moment, to: Moment| {
        if from >= to {
            return;
        }
        match spans.last_mut() {
            Some(last) if last.reason == reason => last.to = to,
            _ => spans.push(Span {
                reason,
                from,
                to,
                length_us: Micros(0),
            }),
        }
    };
    let queue_end = assigned
        .map_or(end, |assigned| assigned.min(end))
        .max(ready);
    let mut at = ready;
    let mut reason = Reason::Handover;
    for turn in timeline {
        let since = turn.since.clamp(ready, queue_end);
        add(reason, at, since);
        at = since;
        reason = turn.reason.unwrap_or(Reason::Handover);
    }
    add(reason, at, queue_end);
    add(Reason::Handover, queue_end, end);
    for span in &mut spans {
        span.length_us = span.to.since(span.from).into();
    }
    spans
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(micros: i64) -> Moment {
        Moment::from_micros(micros)
    }

    #[test]
    fn a_wait_is_laid_over_its_strands_timeline() {
        let timeline = [
            Turn {
                since: at(0),
                reason: Some(Reason::NoMatch),
            },
            Turn {
                since: at(30),
                reason: Some(Reason::AllBusy),
            },
            Turn {
                since: at(60),
                reason: None,
            },
        ];
        let spans = split(at(10), Some(at(60)), at(65), &timeline);
        let short: Vec<_> = spans
            .iter()
            .map(|s| (s.reason, s.from.micros(), s.length_us.0))
            .collect();
        assert_eq!(
            short,
            [
                (Reason::NoMatch, 10, 20),
                (Reason::AllBusy, 30, 30),
                (Reason::Handover, 60, 5)
            ]
        );
    }

    proptest! {
        #[test]
        fn the_parts_touch_and_add_up_to_the_whole(
            ready in 0..1000i64,
            length in 0..1000i64,
            assigned in prop::option::of(-100..2000i64),
            mut turns in prop::collection::vec((0..2000i64, 0..12usize), 0..8),
        ) {
            turns.sort();
            let reason = |n: usize| Reason::ALL.get(n).copied();
            let timeline: Vec<_> = turns.iter().map(|(t, n)| Turn { since: at(*t), reason: reason(*n) }).collect();
            let end = at(ready + length);
            let spans = split(at(ready), assigned.map(at), end, &timeline);
            prop_assert_eq!(spans.iter().map(|s| s.length_us.0 as i64).sum::<i64>(), length);
            let mut edge = at(ready);
            for span in &spans {
                prop_assert_eq!(span.from, edge);
                prop_assert!(span.to > span.from);
                edge = span.to;
            }
            prop_assert_eq!(edge, end);
            prop_assert!(spans.windows(2).all(|pair| pair[0].reason != pair[1].reason));
        }
    }
}
