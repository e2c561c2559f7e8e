//! A wait, split into the reasons for it. The parts add up to the whole, to the microsecond.

use crate::dispatch::{Reason, Segment, reason_at};
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

/// One entry of a strand's timeline: what was said of its waiting jobs, from the head, from this moment on. No segment
/// when none waited.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct TimelineEntry {
    /// From when.
    pub since: Moment,
    /// From the head of the line.
    pub segments: Vec<Segment>,
}

/// A job's position in its strand's line: the number of jobs before it, from this moment on.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct LinePosition {
    /// From when.
    pub since: Moment,
    /// How many stood before it.
    pub ahead: u32,
}

/// A job's time in one strand: what was said there meanwhile, and how the job came forward in line.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StrandStay {
    /// When it left for another strand; none when it did not.
    pub until: Option<Moment>,
    /// The strand's timeline, in order of time.
    pub turns: Vec<TimelineEntry>,
    /// The job's places in line, in order of time. Where nothing is said of its place, it counts as the first.
    pub line: Vec<LinePosition>,
}

impl StrandStay {
    /// The stay of a job that waited elsewhere, from `ready` on: nothing is known of its reasons.
    pub fn unknown(ready: Moment) -> StrandStay {
        let segments = vec![Segment {
            reason: Reason::Unknown,
            jobs: None,
        }];
        StrandStay {
            turns: vec![TimelineEntry {
                since: ready,
                segments,
            }],
            ..StrandStay::default()
        }
    }
}

/// Lays one attempt's wait over the timelines of the strands in which it was spent, in order.
///
/// The wait goes from `ready` to `end` (when it started, or now). From `assigned` on, and wherever a timeline is
/// silent, the reason is `handover`: an assignment was about to be made. Spans of no length are left out; neighbours with the
/// same reason are one.
pub fn split(
    ready: Moment,
    assigned: Option<Moment>,
    end: Moment,
    stays: &[StrandStay],
) -> Vec<Span> {
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
    for stay in stays {
        let leaves = stay
            .until
            .map_or(queue_end, |until| until.clamp(at, queue_end));
        let mut changes: Vec<Moment> = stay.turns.iter().map(|turn| turn.since).collect();
        changes.extend(stay.line.iter().map(|step| step.since));
        changes.sort_unstable();
        let (mut turns, mut line) = (stay.turns.iter().peekable(), stay.line.iter().peekable());
        let (mut message, mut ahead): (&[Segment], u32) = (&[], 0);
        for until in changes.into_iter().chain([leaves]) {
            let until = until.clamp(at, leaves);
            while let Some(turn) = turns.next_if(|turn| turn.since <= at) {
                message = &turn.segments;
            }
            while let Some(step) = line.next_if(|step| step.since <= at) {
                ahead = step.ahead;
            }
            add(reason_at(message, ahead), at, until);
            at = until;
        }
    }
    add(Reason::Handover, at, end);
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

    fn turn(since: i64, segments: &[(Reason, Option<u32>)]) -> TimelineEntry {
        TimelineEntry {
            since: at(since),
            segments: segments
                .iter()
                .map(|(reason, jobs)| Segment {
                    reason: *reason,
                    jobs: *jobs,
                })
                .collect(),
        }
    }

    fn step(since: i64, ahead: u32) -> LinePosition {
        LinePosition {
            since: at(since),
            ahead,
        }
    }

    fn short(spans: &[Span]) -> Vec<(Reason, i64, u64)> {
        spans
            .iter()
            .map(|s| (s.reason, s.from.micros(), s.length_us.0))
            .collect()
    }

    #[test]
    fn a_wait_is_laid_over_its_strands_timeline() {
        let stay = StrandStay {
            turns: vec![
                turn(0, &[(Reason::NoMatch, None)]),
                turn(30, &[(Reason::AllBusy, None)]),
                turn(60, &[]),
            ],
            ..StrandStay::default()
        };
        assert_eq!(
            short(&split(at(10), Some(at(60)), at(65), &[stay])),
            [
                (Reason::NoMatch, 10, 20),
                (Reason::AllBusy, 30, 30),
                (Reason::Handover, 60, 5)
            ]
        );
    }

    #[test]
    fn the_wait_of_an_imported_job_has_an_unknown_reason_until_it_was_assigned() {
        let stay = StrandStay::unknown(at(10));
        assert_eq!(
            short(&split(at(10), Some(at(60)), at(65), &[stay])),
            [(Reason::Unknown, 10, 50), (Reason::Handover, 60, 5)]
        );
    }

    #[test]
    fn a_job_moved_to_another_strand_keeps_the_reasons_of_the_one_it_left() {
        let first = StrandStay {
            until: Some(at(40)),
            turns: vec![
                turn(0, &[(Reason::AllBusy, None)]),
                // What is said there after it left is not about it.
                turn(50, &[(Reason::Paused, None)]),
            ],
            ..StrandStay::default()
        };
        let second = StrandStay {
            turns: vec![
                turn(5, &[(Reason::Offline, None)]),
                turn(45, &[(Reason::TeamLimit, None)]),
            ],
            ..StrandStay::default()
        };
        assert_eq!(
            short(&split(at(10), None, at(70), &[first, second])),
            [
                (Reason::AllBusy, 10, 30),
                (Reason::Offline, 40, 5),
                (Reason::TeamLimit, 45, 25),
            ]
        );
    }

    #[test]
    fn a_job_takes_the_reason_of_its_position() {
        let stay = StrandStay {
            turns: vec![
                turn(
                    0,
                    &[
                        (Reason::MachineComing, Some(2)),
                        (Reason::SupplyShort, None),
                    ],
                ),
                turn(
                    50,
                    &[
                        (Reason::MachineComing, Some(1)),
                        (Reason::SupplyShort, None),
                    ],
                ),
            ],
            line: vec![step(10, 3), step(30, 1), step(70, 0)],
            ..StrandStay::default()
        };
        assert_eq!(
            short(&split(at(10), None, at(90), &[stay])),
            [
                (Reason::SupplyShort, 10, 20),
                (Reason::MachineComing, 30, 20),
                (Reason::SupplyShort, 50, 20),
                (Reason::MachineComing, 70, 20),
            ]
        );
    }

    /// One microsecond at a time: the reason that held at each.
    fn plainly(ready: i64, assigned: Option<i64>, end: i64, stays: &[StrandStay]) -> Vec<Reason> {
        let one = |now: i64| {
            if assigned.is_some_and(|assigned| now >= assigned) {
                return Reason::Handover;
            }
            let stay = stays
                .iter()
                .find(|stay| stay.until.is_none_or(|until| at(now) < until));
            let Some(stay) = stay else {
                return Reason::Handover;
            };
            let message = stay.turns.iter().rfind(|turn| turn.since <= at(now));
            let ahead = stay.line.iter().rfind(|step| step.since <= at(now));
            let mut place = ahead.map_or(0, |step| step.ahead);
            for segment in message.map_or(&[][..], |turn| &turn.segments) {
                match segment.jobs {
                    Some(jobs) if place >= jobs => place -= jobs,
                    _ => return segment.reason,
                }
            }
            Reason::Handover
        };
        (ready..end).map(one).collect()
    }

    fn segments() -> impl Strategy<Value = Vec<Segment>> {
        let one =
            (0..Reason::ALL.len(), prop::option::of(1..3u32)).prop_map(|(at, jobs)| Segment {
                reason: Reason::ALL[at],
                jobs,
            });
        prop::collection::vec(one, 0..3)
    }

    fn stay() -> impl Strategy<Value = StrandStay> {
        (
            0..120i64,
            prop::collection::vec((0..120i64, segments()), 0..6),
            prop::collection::vec((0..120i64, 0..5u32), 0..6),
        )
            .prop_map(|(until, mut turns, mut line)| {
                turns.sort_by_key(|(since, _)| *since);
                line.sort_by_key(|(since, _)| *since);
                StrandStay {
                    until: Some(at(until)),
                    turns: turns
                        .into_iter()
                        .map(|(since, segments)| TimelineEntry {
                            since: at(since),
                            segments,
                        })
                        .collect(),
                    line: line
                        .into_iter()
                        .map(|(since, ahead)| step(since, ahead))
                        .collect(),
                }
            })
    }

    proptest! {
        #[test]
        fn the_parts_touch_add_up_and_hold_what_held_then(
            ready in 0..100i64,
            length in 0..100i64,
            assigned in prop::option::of(-10..220i64),
            mut stays in prop::collection::vec(stay(), 0..4),
        ) {
            stays.sort_by_key(|stay| stay.until);
            let end = ready + length;
            let spans = split(at(ready), assigned.map(at), at(end), &stays);
            let mut edge = at(ready);
            for span in &spans {
                prop_assert_eq!(span.from, edge);
                prop_assert!(span.to > span.from);
                prop_assert_eq!(span.length_us, span.to.since(span.from).into());
                edge = span.to;
            }
            prop_assert_eq!(edge, at(end.max(ready)));
            prop_assert!(spans.windows(2).all(|pair| pair[0].reason != pair[1].reason));
            let laid: Vec<Reason> = spans
                .iter()
                .flat_map(|span| std::iter::repeat_n(span.reason, span.length_us.0 as usize))
                .collect();
            prop_assert_eq!(laid, plainly(ready, assigned, end, &stays));
        }
    }
}
