//! The sums against the plainest way to work them out.

use super::cell::{Adder, Cell};
use super::figures::{Open, WindowFigures};
use super::histogram::Histogram;
use super::rank::{PerMille, nearest};
use super::resolution::{Resolution, cover, spread};
use super::work_span::{MachineTime, Offered, WorkSpan};
use crate::dispatch::{Price, Reason};
use crate::lifecycle::job::Outcome;
use crate::time::{Micros, Moment};
use crate::wait::Span;
use proptest::prelude::*;

fn at(micros: i64) -> Moment {
    Moment::from_micros(micros)
}

/// Some day in the first months of 2026, in microseconds since then.
const START: i64 = 1_767_225_600_000_000;
const WEEK: i64 = 7 * 86_400_000_000;

prop_compose! {
    fn work_span()(
        ready in 0..WEEK,
        parts in prop::collection::vec((0..Reason::ALL.len(), 1..20_000_000_000i64), 0..4),
        ran in prop::option::of(0..40_000_000_000i64),
        result in prop::option::of(0..Outcome::ALL.len()),
    ) -> WorkSpan {
        let mut end = START + ready;
        let wait = parts.iter().map(|(reason, length)| {
            let from = at(end);
            end += length;
            Span { reason: Reason::ALL[*reason], from, to: at(end), length_us: Micros(*length as u64) }
        }).collect();
        let waited_until = at(end);
        let ended = end + ran.unwrap_or(0);
        WorkSpan {
            ready: at(START + ready),
            wait,
            waited_until,
            assigned: ran.map(|_| waited_until),
            started: ran.map(|_| waited_until),
            exited: None,
            ended: at(ended),
            result: result.map(|which| Outcome::ALL[which]),
            lost: ran.is_none(),
            processor: ran.unwrap_or(0) as u64 / 2,
            peak_memory: 7,
        }
    }
}

/// All work spans' cells of all resolutions, as they are kept.
fn kept(work_spans: &[WorkSpan]) -> std::collections::BTreeMap<(Resolution, Moment), Cell> {
    let mut all = std::collections::BTreeMap::new();
    for work_span in work_spans {
        for resolution in Resolution::ALL {
            for (start, cell) in work_span.cells(resolution) {
                let sum: &mut Cell = all.entry((resolution, start)).or_default();
                sum.merge(&cell);
            }
        }
    }
    all
}

fn sum(
    kept: &std::collections::BTreeMap<(Resolution, Moment), Cell>,
    from: Moment,
    until: Moment,
) -> Cell {
    let mut all = Cell::default();
    // Whatever was drawn together by then.
    let drawn = from + until.since(from) / 2;
    for run in cover(
        from,
        until,
        Resolution::FiveMinutes,
        Resolution::Month,
        drawn,
    ) {
        for (_, cell) in kept.range((run.resolution, run.from)..(run.resolution, run.until)) {
            all.merge(cell);
        }
    }
    all
}

fn overlap(from: Moment, until: Moment, a: Moment, b: Moment) -> u64 {
    u64::try_from(until.min(b).micros() - from.max(a).micros()).unwrap_or(0)
}

proptest! {
    /// The parts of each wait, the sums of any window and the integral of the number waiting are one and the same, to the
    /// microsecond, whatever resolutions a window is made of.
    #[test]
    fn a_windows_sums_are_what_each_stint_says_of_it(
        work_spans in prop::collection::vec(work_span(), 0..12),
        from in 0..2_000i64, length in 1..3_000i64,
    ) {
        let five = 300_000_000;
        let (from, until) = (at(START + from * five), at(START + (from + length) * five));
        let cell = sum(&kept(&work_spans), from, until);
        let within = |one: &&WorkSpan| one.ready >= from && one.ready < until;
        prop_assert_eq!(cell.waits.count(), work_spans.iter().filter(within).count() as u64);
        let waited: u64 = work_spans.iter().filter(within).map(WorkSpan::waited).sum();
        prop_assert_eq!(cell.waited.iter().sum::<u64>(), waited);
        let clipped: u64 = work_spans.iter().map(|one| overlap(one.ready, one.waited_until, from, until)).sum();
        prop_assert_eq!(cell.waiting.iter().sum::<u64>(), clipped);
        // The number waiting as a step function, integrated step by step.
        let mut steps: Vec<(Moment, i64)> = work_spans.iter()
            .flat_map(|one| [(one.ready, 1), (one.waited_until, -1)]).collect();
        steps.sort();
        let (mut integral, mut waiting, mut last) = (0i64, 0i64, from);
        for (moment, change) in steps {
            let moment = moment.max(from).min(until);
            integral += waiting * (moment.micros() - last.micros());
            (waiting, last) = (waiting + change, moment);
        }
        prop_assert_eq!(integral as u64, clipped);
        for (place, reason) in Reason::ALL.iter().enumerate() {
            let mine: u64 = work_spans.iter().flat_map(|one| &one.wait).filter(|span| span.reason == *reason)
                .map(|span| overlap(span.from, span.to, from, until)).sum();
            prop_assert_eq!(cell.waiting[place], mine);
        }
        let busy: u64 = work_spans.iter()
            .filter_map(|one| Some(overlap(one.assigned?, one.ended, from, until))).sum();
        prop_assert_eq!(cell.busy, busy);
        let ended = work_spans.iter().filter(|one| one.ended >= from && one.ended < until);
        prop_assert_eq!(cell.results.iter().sum::<u64>(), ended.clone().filter(|one| one.result.is_some()).count() as u64);
        prop_assert_eq!(cell.ran, ended.filter_map(WorkSpan::ran).sum::<u64>());
    }

    /// What goes on adds to a window what it would add if it were over now.
    #[test]
    fn what_goes_on_counts_as_what_is_over_does(work_span in work_span(), from in 0..2_000i64, length in 1..3_000i64) {
        let five = 300_000_000;
        let (from, until) = (at(START + from * five), at(START + (from + length) * five));
        let work_span = WorkSpan { result: None, lost: false, started: None, processor: 0, peak_memory: 0, ..work_span };
        let over = sum(&kept(std::slice::from_ref(&work_span)), from, until);
        let mut open = Open::default();
        open.add_work_span(&work_span, false, from, until);
        prop_assert_eq!(&open.within, &over);
        let mut waits = Open::default();
        waits.add_work_span(&work_span, true, from, until);
        prop_assert_eq!(waits.ages.len() as u64, over.waits.count());
        prop_assert_eq!(waits.waited, over.waited);
    }

    #[test]
    fn order_does_not_matter_and_bytes_are_the_same_for_the_same_sums(
        mut work_spans in prop::collection::vec(work_span(), 0..8),
    ) {
        let one = kept(&work_spans);
        work_spans.reverse();
        let other = kept(&work_spans);
        for (key, cell) in &one {
            let bytes = cell.to_bytes();
            prop_assert_eq!(&bytes, &other[key].to_bytes());
            prop_assert_eq!(&Cell::from_bytes(&bytes).unwrap(), cell);
        }
    }

    #[test]
    fn the_parts_of_a_wait_by_reason_add_up_to_the_whole(work_span in work_span()) {
        for resolution in Resolution::ALL {
            let mut parts = Cell::default();
            for reason in Reason::ALL {
                for (at, cell) in work_span.reason_cells(*reason, resolution) {
                    prop_assert_eq!(at, resolution.start(work_span.ready));
                    prop_assert_eq!(cell.waits.count(), u64::from(work_span.reasons().contains_key(reason)));
                    parts.merge(&cell);
                }
            }
            let whole = &work_span.cells(resolution)[&resolution.start(work_span.ready)];
            prop_assert_eq!(parts.waited, whole.waited);
        }
    }

    #[test]
    fn adding_bytes_up_is_merging_cells(work_spans in prop::collection::vec(work_span(), 0..8)) {
        // In two halves, which are put together.
        let (mut adder, mut other) = (Adder::default(), Adder::default());
        let mut merged = Cell::default();
        for (at, cell) in kept(&work_spans).values().enumerate() {
            let half = if at % 2 == 0 { &mut adder } else { &mut other };
            half.add(&cell.to_bytes()).unwrap();
            merged.merge(cell);
        }
        adder.merge(other).unwrap();
        prop_assert_eq!(adder.sum().unwrap(), merged);
    }

    #[test]
    fn bytes_of_anything_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..80)) {
        prop_assert_eq!(Adder::default().add(&bytes).is_ok(), Cell::from_bytes(&bytes).is_ok());
        if let Ok(cell) = Cell::from_bytes(&bytes) {
            prop_assert_eq!(Cell::from_bytes(&cell.to_bytes()).unwrap(), cell);
        }
    }

    #[test]
    fn a_histogram_is_off_by_less_than_one_in_a_hundred(values in prop::collection::vec(0..u64::MAX / 2, 1..40), share in 1..=1000u16) {
        let mut histogram = Histogram::default();
        for value in &values {
            histogram.add(*value);
        }
        let exact = nearest(PerMille(share), values.iter().map(|value| (*value, 1)), &[]).unwrap().value;
        let read = nearest(PerMille(share), histogram.values(), &[]).unwrap().value;
        prop_assert!(read.abs_diff(exact) as f64 <= exact as f64 * 0.01, "{read} for {exact}");
    }

    /// By nearest rank, over what is known so far; what may rise is what could be another once everybody has waited.
    #[test]
    fn a_percentile_that_could_rise_says_so(
        settled in prop::collection::vec(0..50u64, 0..10),
        still in prop::collection::vec((0..50u64, 0..50u64), 0..5),
        share in 1..=1000u16,
    ) {
        let ages: Vec<u64> = still.iter().map(|(age, _)| *age).collect();
        let found = nearest(PerMille(share), settled.iter().map(|value| (*value, 1)), &ages);
        let mut all: Vec<u64> = settled.iter().chain(&ages).copied().collect();
        all.sort_unstable();
        let Some(found) = found else {
            prop_assert!(all.is_empty());
            return Ok(());
        };
        let place = (all.len() * usize::from(share)).div_ceil(1000).max(1);
        prop_assert_eq!(found.value, all[place - 1]);
        let mut later: Vec<u64> = settled.clone();
        later.extend(still.iter().map(|(age, more)| age + more));
        later.sort_unstable();
        prop_assert!(later[place - 1] >= found.value);
        prop_assert!(found.may_rise || later[place - 1] == found.value);
    }

    #[test]
    fn a_window_is_covered_whole_and_once(
        from in 0..100_000i64, length in 1..120_000i64, drawn in 0..220_000i64,
    ) {
        let (from, until) = (at(START + from * 300_000_000), at(START + (from + length) * 300_000_000));
        let drawn = at(START + drawn * 300_000_000);
        let runs = cover(from, until, Resolution::FiveMinutes, Resolution::Month, drawn);
        let mut last = from;
        for run in &runs {
            prop_assert_eq!(run.from, last);
            prop_assert!(run.from < run.until);
            prop_assert_eq!(run.resolution.start(run.from), run.from);
            prop_assert_eq!(run.resolution.start(run.until), run.until);
            prop_assert!(run.resolution != Resolution::TenDays || run.until <= drawn);
            last = run.until;
        }
        prop_assert_eq!(last, until);
        // Three months take no more than tens of days at both ends, days at theirs, and so on; where tens of days are drawn
        // together for a part only, there are days once more.
        prop_assert!(runs.len() <= 10, "{runs:?}");
    }

    #[test]
    fn offers_and_machines_are_clipped_to_their_stretches(
        from in 0..WEEK, length in 1..WEEK, slots in 1..5u32, price in 0..1_000_000_000u64, boot in 0..1_000_000_000i64,
    ) {
        let (from, until) = (at(START + from), at(START + from + length));
        let offered = Offered { from, until, slots };
        let joined = at(from.micros() + boot).min(until);
        let machine = MachineTime { ordered: from, joined: Some(joined), released: None, until, price: Price(price) };
        let all = overlap(from, until, from, until);
        for resolution in Resolution::ALL {
            let sums = |cells: super::work_span::Cells| {
                let mut sum = Cell::default();
                cells.values().for_each(|cell| sum.merge(cell));
                sum
            };
            prop_assert_eq!(sums(offered.cells(resolution)).offered, all * u64::from(slots));
            let sum = sums(machine.cells(resolution));
            prop_assert_eq!((sum.paid, sum.served), (all, overlap(joined, until, from, until)));
            prop_assert_eq!(sum.cost, u128::from(all) * u128::from(price));
        }
    }
}

#[test]
fn months_and_days_begin_where_the_calendar_says() {
    let day = |text: &str| at(text.parse::<jiff::Timestamp>().unwrap().as_microsecond());
    let moment = day("2026-02-17T13:47:12.5Z");
    assert_eq!(Resolution::Month.start(moment), day("2026-02-01T00:00:00Z"));
    assert_eq!(Resolution::Month.end(moment), day("2026-03-01T00:00:00Z"));
    for (at, start, end) in [
        (
            "2026-02-01T00:00:00Z",
            "2026-02-01T00:00:00Z",
            "2026-02-11T00:00:00Z",
        ),
        (
            "2026-02-17T13:47:12.5Z",
            "2026-02-11T00:00:00Z",
            "2026-02-21T00:00:00Z",
        ),
        (
            "2026-02-21T00:00:00Z",
            "2026-02-21T00:00:00Z",
            "2026-03-01T00:00:00Z",
        ),
        (
            "2026-12-31T23:59:59Z",
            "2026-12-21T00:00:00Z",
            "2027-01-01T00:00:00Z",
        ),
    ] {
        assert_eq!(Resolution::TenDays.start(day(at)), day(start), "{at}");
        assert_eq!(Resolution::TenDays.end(day(at)), day(end), "{at}");
    }
    assert_eq!(Resolution::Day.start(moment), day("2026-02-17T00:00:00Z"));
    assert_eq!(Resolution::Hour.end(moment), day("2026-02-17T14:00:00Z"));
    assert_eq!(
        Resolution::FiveMinutes.start(moment),
        day("2026-02-17T13:45:00Z")
    );
    let parts: Vec<u64> = spread(
        day("2026-02-28T23:30:00Z"),
        day("2026-03-01T00:10:00Z"),
        Resolution::Month,
    )
    .map(|(_, within)| within / 60_000_000)
    .collect();
    assert_eq!(parts, [30, 10]);
}

#[test]
fn an_outage_does_not_look_like_a_quiet_day() {
    let mut over = Cell::default();
    for wait in [1, 2, 3] {
        over.waits.add(wait);
        over.waited[2] += wait;
    }
    let mut open = Open::default();
    for age in [500, 2] {
        open.ages.push(age);
        open.waited[0] += age;
    }
    let figures = WindowFigures::of(&over, &open, false);
    assert_eq!((figures.wait.count, figures.wait.still_waiting), (5, 2));
    let median = figures.wait.p50.unwrap();
    assert_eq!((median.value_us.0, median.at_least), (2, true));
    let longest = figures.wait.longest.unwrap();
    assert_eq!((longest.value_us.0, longest.at_least), (500, true));
    assert_eq!(figures.wait.sum_us.0, 508);
    assert_eq!(
        figures
            .wait
            .by_reason
            .values()
            .map(|one| one.0)
            .sum::<u64>(),
        508
    );
    assert!(figures.wait.p95.unwrap().few);
    assert_eq!(figures.cost, None);
    // What runs has waited, and counts as what is over.
    open.within.waits.add(100);
    open.within.waited[1] += 100;
    let figures = WindowFigures::of(&over, &open, false);
    assert_eq!((figures.wait.count, figures.wait.sum_us.0), (6, 608));
    assert_eq!(figures.wait.p90.unwrap().value_us.0, 500);
}
