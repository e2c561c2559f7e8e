//! Which job of a sheet comes before which.

use super::SheetJob;
use std::collections::BTreeMap;

/// A cycle among these names, from the first one back to it; none where there is none. Each name has the names that it waits for.
pub(super) fn cycle(after: &BTreeMap<String, Vec<String>>) -> Option<Vec<String>> {
    /// Where the walk is: names that are open, from the first to the present one.
    struct Walk<'a> {
        after: &'a BTreeMap<String, Vec<String>>,
        done: Vec<&'a str>,
    }
    let mut walk = Walk {
        after,
        done: Vec::new(),
    };
    for start in after.keys() {
        // Each name with how many of its needs were looked at.
        let mut open: Vec<(&str, usize)> = vec![(start, 0)];
        while let Some((name, looked)) = open.last_mut() {
            let needs = walk.after.get(*name).map(Vec::as_slice).unwrap_or_default();
            let next = needs.get(*looked).map(String::as_str);
            *looked += 1;
            let Some(next) = next else {
                if let Some((name, _)) = open.pop() {
                    walk.done.push(name);
                }
                continue;
            };
            if let Some(from) = open.iter().position(|(name, _)| *name == next) {
                let mut path: Vec<String> = open
                    .iter()
                    .skip(from)
                    .map(|(name, _)| (*name).to_owned())
                    .collect();
                path.push(next.to_owned());
                return Some(path);
            }
            if !walk.done.contains(&next) {
                open.push((next, 0));
            }
        }
    }
    None
}

/// The jobs by the longest chain of others before them.
pub(super) fn steps(jobs: &[SheetJob]) -> Vec<Vec<usize>> {
    let mut depth = vec![0_usize; jobs.len()];
    // A chain is at most as long as there are jobs; without cycles it settles before.
    for _ in 0..jobs.len() {
        let mut changed = false;
        for (position, job) in jobs.iter().enumerate() {
            let before = job.after.iter().filter_map(|need| depth.get(need.job));
            let wanted = before.max().map_or(0, |depth| depth + 1);
            if let Some(own) = depth.get_mut(position).filter(|own| **own != wanted) {
                *own = wanted;
                changed = true;
            }
        }
        if !changed {
            break;
        }
    }
    let mut steps: Vec<Vec<usize>> = Vec::new();
    for (position, depth) in depth.into_iter().enumerate() {
        if steps.len() <= depth {
            steps.resize(depth + 1, Vec::new());
        }
        if let Some(step) = steps.get_mut(depth) {
            step.push(position);
        }
    }
    steps
}
