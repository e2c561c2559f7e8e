//! Which job of a sheet comes before which.

use super::Need;
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

/// For each job how many others, one after another, come before it. There is no cycle among them.
pub fn depths<'a>(needs: impl Iterator<Item = &'a [Need]>) -> Vec<usize> {
    let needs: Vec<&[Need]> = needs.collect();
    let mut depth = vec![0_usize; needs.len()];
    // A chain is at most as long as there are jobs; without cycles it settles before.
    for _ in 0..needs.len() {
        let mut changed = false;
        for (position, own) in needs.iter().enumerate() {
            let before = own.iter().filter_map(|need| depth.get(need.job));
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
    depth
}

/// The jobs by their depth.
pub(super) fn steps<'a>(needs: impl Iterator<Item = &'a [Need]>) -> Vec<Vec<usize>> {
    let mut steps: Vec<Vec<usize>> = Vec::new();
    for (position, depth) in depths(needs).into_iter().enumerate() {
        if steps.len() <= depth {
            steps.resize(depth + 1, Vec::new());
        }
        if let Some(step) = steps.get_mut(depth) {
            step.push(position);
        }
    }
    steps
}
