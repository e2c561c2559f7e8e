//! Every property holds for every input of the corpus, and for inputs made from it.

// A test that cannot go on fails.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use rand::rngs::StdRng;
use rand::{Rng, RngExt, SeedableRng};
use std::path::Path;
use std::time::{Duration, Instant};

/// Inputs that are made of each target, unless that takes too long.
const MADE: usize = 20_000;
/// How long a target gets on a slow machine.
const PATIENCE: Duration = Duration::from_secs(5);

fn corpus(name: &str) -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("corpus")
        .join(name);
    let mut paths: Vec<_> = std::fs::read_dir(&folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    paths.sort();
    let inputs: Vec<Vec<u8>> = paths
        .iter()
        .map(|path| std::fs::read(path).unwrap())
        .collect();
    assert!(!inputs.is_empty(), "no inputs of {name}");
    inputs
}

#[test]
fn every_property_holds_for_its_corpus() {
    for (name, property) in pennine_fuzz::TARGETS {
        for input in corpus(name) {
            println!("{name}: {:?}", String::from_utf8_lossy(&input));
            property(&input);
        }
    }
}

/// Changes an input in one place, with a part of another.
fn mutate(input: &mut Vec<u8>, other: &[u8], random: &mut impl Rng) {
    let at = random.random_range(0..=input.len());
    let end = (at + random.random_range(1..8)).min(input.len());
    match random.random_range(0..6) {
        0 if at < input.len() => input[at] ^= 1 << random.random_range(0..8),
        1 => input.insert(at, random.random()),
        2 => drop(input.drain(at..end)),
        3 => {
            let part = input[at..end].to_vec();
            input.splice(at..at, part);
        }
        4 => input.truncate(at),
        _ => {
            let from = random.random_range(0..=other.len());
            let to = (from + random.random_range(1..40)).min(other.len());
            input.splice(at..at, other[from..to].iter().copied());
        }
    }
}

#[test]
fn every_property_holds_for_inputs_made_from_the_corpus() {
    for (name, property) in pennine_fuzz::TARGETS {
        let inputs = corpus(name);
        let begun = Instant::now();
        for seed in 0..MADE as u64 {
            let random = &mut StdRng::seed_from_u64(seed);
            let mut input = inputs[random.random_range(0..inputs.len())].clone();
            for _ in 0..random.random_range(1..6) {
                let other = &inputs[random.random_range(0..inputs.len())];
                mutate(&mut input, other, random);
            }
            let held = std::panic::catch_unwind(|| property(&input));
            assert!(
                held.is_ok(),
                "{name}, seed {seed}: {:?}",
                String::from_utf8_lossy(&input)
            );
            if begun.elapsed() > PATIENCE {
                println!("{name}: {seed} inputs");
                break;
            }
        }
    }
}
