//! What is shown of the queue, one changed strand at a time, is what the whole queue shows.

use super::*;
use std::collections::{BTreeMap, BTreeSet};

/// What a reader of every change has put together.
type Shown = BTreeMap<StrandId, Vec<LinePart>>;

fn follow(state: &mut State, shown: &mut Shown, most: usize) {
    loop {
        let changes = state.take_changed_lines(most);
        if changes.is_empty() && !state.has_changed_lines() {
            return;
        }
        for change in changes {
            if change.parts.is_empty() {
                shown.remove(&change.strand);
            } else {
                shown.insert(change.strand, change.parts);
            }
        }
    }
}

/// The parts of a strand's line, from all that waits.
fn parts(bench: &Bench, strand: usize) -> Vec<LinePart> {
    let waiting = bench.model.waiting.values();
    let mut line: Vec<&Job> = waiting.filter(|job| job.strand == strand).collect();
    line.sort_by_key(|job| (job.ready, job.number));
    let reasons = bench.state.reasons_of(StrandId(id(strand)));
    let mut parts: Vec<LinePart> = Vec::new();
    for (before, job) in line.iter().enumerate() {
        let reason = reason_at(reasons, before).unwrap_or(Reason::Handover);
        match parts.last_mut() {
            Some(part) if part.reason == reason => {
                part.jobs += 1;
                part.oldest = part.oldest.min(job.since);
            }
            _ => parts.push(LinePart {
                reason,
                cause: cause(&bench.model, strand, reason),
                jobs: 1,
                oldest: job.since,
                first: job.number,
                from: before as u32,
            }),
        }
    }
    parts
}

/// The pools that the jobs could use, those in reach where any is. Other causes are left to the tests below.
fn cause(model: &Model, strand: usize, reason: Reason) -> String {
    let requirement: Requirement = model.alike[strand].requirement.parse().unwrap();
    let satisfying = model.runners.values().filter(|runner| {
        let pool = model.pools.get(&runner.pool);
        pool.is_some_and(|pool| pool.admits(&requirement, &runner.subject))
    });
    let is_in_reach = |runner: &&RunnerView| model.may_take(strand, runner);
    let names = |runners: &mut dyn Iterator<Item = &RunnerView>| -> BTreeSet<String> {
        runners
            .map(|runner| model.pools[&runner.pool].name.clone())
            .collect()
    };
    let names = match reason {
        Reason::NeedsApproval => names(
            &mut satisfying
                .clone()
                .filter(|runner| model.awaits_approval(strand, runner)),
        ),
        Reason::OutOfReach => names(&mut satisfying.clone()),
        Reason::AllBusy | Reason::Offline | Reason::Paused => {
            names(&mut satisfying.clone().filter(is_in_reach))
        }
        _ => return String::new(),
    };
    names.into_iter().collect::<Vec<_>>().join(", ")
}

/// The groups of all that is shown.
fn groups(bench: &Bench, shown: &Shown) -> Vec<LineGroup> {
    let mut groups: BTreeMap<(PlaceId, Reason, String), LineGroup> = BTreeMap::new();
    let strands = bench.model.alike.iter().enumerate();
    let parts = strands.flat_map(|(at, alike)| {
        let parts = shown.get(&StrandId(id(at))).into_iter().flatten();
        parts.map(|part| (place_id(alike.project), part))
    });
    for (project, part) in parts {
        let key = (project, part.reason, part.cause.clone());
        let group = groups.entry(key).or_insert_with(|| LineGroup {
            project,
            reason: part.reason,
            cause: part.cause.clone(),
            jobs: 0,
            strands: 0,
            oldest: part.oldest,
        });
        group.jobs += u64::from(part.jobs);
        group.strands += 1;
        group.oldest = group.oldest.min(part.oldest);
    }
    groups.into_values().collect()
}

fn without_other_causes(mut parts: Vec<LinePart>) -> Vec<LinePart> {
    for part in &mut parts {
        if matches!(
            part.reason,
            Reason::TeamLimit | Reason::SeatTaken | Reason::SeatReserved
        ) {
            part.cause.clear();
        }
    }
    parts
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(cases()))]

    #[test]
    fn a_reader_of_the_changed_lines_knows_the_whole_queue(steps in prop::collection::vec(step(), 1..60), every in 1..4usize, most in 1..5usize) {
        let mut bench = Bench::new();
        let mut shown = Shown::new();
        let mut known = BTreeMap::new();
        for (n, step) in steps.into_iter().enumerate() {
            bench.take(step);
            let plan = bench.plan();
            bench.check_plan(&plan)?;
            if n % every != 0 {
                continue;
            }
            follow(&mut bench.state, &mut shown, most);
            for strand in 0..bench.model.alike.len() {
                let found = shown.get(&StrandId(id(strand))).cloned().unwrap_or_default();
                prop_assert_eq!(without_other_causes(found), parts(&bench, strand));
            }
            for group in bench.state.take_changed_groups() {
                let key = (group.project, group.reason, group.cause.clone());
                if group.jobs == 0 {
                    known.remove(&key);
                } else {
                    known.insert(key, group);
                }
            }
            let known: Vec<LineGroup> = known.values().cloned().collect();
            prop_assert_eq!(&known, &groups(&bench, &shown));
            prop_assert_eq!(bench.state.take_all_groups(), known);
        }
    }
}

#[test]
fn a_cause_names_the_seat_or_the_limited_team() {
    let mut bench = Bench::of(vec![
        Alike {
            requirement: "",
            project: "firmware/buoy",
            trust: Trust::Trusted,
            band: Band::Normal,
            seats: SeatNeeds::from([("licence".to_owned(), 1)]),
        },
        Alike {
            requirement: "",
            project: "shore/soundings",
            trust: Trust::Trusted,
            band: Band::Normal,
            seats: SeatNeeds::default(),
        },
    ]);
    let pool = pool_view(0, true, "");
    let runner = runner_view(0, 0, 0, 4, RunnerState::Available);
    for event in [
        Event::Pool(Box::new(pool)),
        Event::Runner(Box::new(runner)),
        Event::Place(PlaceView {
            path: "shore".to_owned(),
            weight: 1,
            limit: Some(0),
        }),
    ] {
        bench.state.apply(event, bench.now);
    }
    for strand in 0..2 {
        bench.take(Step::Submit { strand, ago: 0 });
    }
    let _ = bench.plan();
    let mut shown = Shown::new();
    follow(&mut bench.state, &mut shown, 10);
    let told: Vec<_> = (0..2)
        .map(|strand| &shown[&StrandId(id(strand))][0])
        .map(|part| (part.reason, part.cause.as_str()))
        .collect();
    assert_eq!(
        told,
        [(Reason::SeatTaken, "licence"), (Reason::TeamLimit, "shore")]
    );
}
