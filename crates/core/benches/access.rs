//! How long a decision about a permission takes: the goal is a microsecond.

use criterion::{BenchmarkId, Criterion, criterion_group, criterion_main};
use pennine_core::access::{Action, Grant, Rights, Role, may};
use pennine_core::visibility::Visibility;
use std::hint::black_box;

/// Rights with a role at each of some teams.
fn rights(teams: usize) -> Rights {
    let grants = (0..teams).map(|team| Grant {
        role: Role::Operator,
        place: format!("engineering/team-{team}"),
    });
    Rights {
        grants: grants.collect(),
        purpose: None,
    }
}

fn decisions(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("access");
    for teams in [1, 5, 20] {
        let rights = rights(teams);
        let place = format!("engineering/team-{}/firmware/buoy", teams - 1);
        group.bench_with_input(BenchmarkId::new("may", teams), &rights, |b, rights| {
            b.iter(|| may(black_box(rights), Action::SubmitJob, black_box(&place)).is_ok());
        });
        let elsewhere = "sales/tools";
        group.bench_with_input(BenchmarkId::new("may not", teams), &rights, |b, rights| {
            b.iter(|| may(black_box(rights), Action::SubmitJob, black_box(elsewhere)).is_ok());
        });
        let sees = Visibility::of(&rights, Action::View);
        group.bench_with_input(BenchmarkId::new("sees", teams), &sees, |b, sees| {
            b.iter(|| black_box(sees).includes(black_box(&place)));
        });
    }
    group.finish();
}

criterion_group!(benches, decisions);
criterion_main!(benches);
