//! Secrets of jobs: which a job is given, how, and what text hides.

use crate::lifecycle::words;
use crate::requirement::Requirement;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use utoipa::ToSchema;

/// How a job is given a secret.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum SecretUse {
    /// An environment variable of the secret's name holds its value.
    Variable,
    /// A file in memory holds its value; an environment variable of the secret's name holds the file's path.
    File,
}

words!(SecretUse {
    Variable = "variable",
    File = "file",
});

/// The secrets that a job is given, by name.
pub type SecretUses = BTreeMap<String, SecretUse>;

/// A secret's value: never shown by `Debug`.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct SecretText(pub String);

impl fmt::Debug for SecretText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(secret)")
    }
}

/// The requirement of a job whose secrets may be received in certain pools only: the one that it asks, and one of these pools.
/// Each list holds the pools of one secret; an empty list stands for every pool.
pub fn requirement_in_pools(asked: &str, lists: &[Vec<String>]) -> String {
    let is_any = asked
        .parse::<Requirement>()
        .is_ok_and(|requirement| requirement.is_any());
    let mut clauses: Vec<String> = Vec::new();
    if !is_any {
        clauses.push(match lists.iter().all(Vec::is_empty) {
            true => asked.to_owned(),
            false => format!("({asked})"),
        });
    }
    for pools in lists.iter().filter(|pools| !pools.is_empty()) {
        let pools: Vec<String> = pools.iter().map(|pool| format!("pool = {pool}")).collect();
        let clause = format!("({})", pools.join(" or "));
        if !clauses.contains(&clause) {
            clauses.push(clause);
        }
    }
    clauses.join(" and ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_not_shown_by_debug() {
        let text = format!("{:?}", SecretText("open sesame".to_owned()));
        assert!(!text.contains("sesame"), "{text}");
    }

    #[test]
    fn the_pools_of_secrets_are_added_to_the_requirement() {
        let pools = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
        let cases = [
            ("", vec![pools(&[])], ""),
            ("linux or arm64", vec![pools(&[])], "linux or arm64"),
            ("", vec![pools(&["slipway"])], "(pool = slipway)"),
            (
                "linux or arm64",
                vec![
                    pools(&["slipway", "staithe"]),
                    pools(&["slipway", "staithe"]),
                ],
                "(linux or arm64) and (pool = slipway or pool = staithe)",
            ),
            (
                "linux",
                vec![pools(&["slipway"]), pools(&["staithe"])],
                "(linux) and (pool = slipway) and (pool = staithe)",
            ),
        ];
        for (asked, lists, expected) in cases {
            let added = requirement_in_pools(asked, &lists);
            assert_eq!(added, expected);
            assert!(added.parse::<Requirement>().is_ok(), "{added}");
        }
    }
}
