//! Versions of tools, compared part by part.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

/// A version such as `12.2.0`: whole numbers separated by points, with whatever follows kept only for showing.
#[derive(Clone, Debug)]
pub struct Version {
    parts: Vec<u64>,
    shown: String,
}

/// Why a text is not a version.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("a version is numbers separated by points, such as 12.2")]
pub struct NotAVersion;

impl FromStr for Version {
    type Err = NotAVersion;

    fn from_str(text: &str) -> Result<Self, NotAVersion> {
        let shown = text.trim();
        let numbers: &str = shown.split(['-', '+', '~', ' ']).next().unwrap_or_default();
        if numbers.len() > 64 {
            return Err(NotAVersion);
        }
        let parts = numbers
            .split('.')
            .map(|part| part.parse::<u64>().map_err(|_| NotAVersion))
            .collect::<Result<Vec<_>, _>>()?;
        Ok(Version {
            parts,
            shown: shown.to_owned(),
        })
    }
}

impl Version {
    /// Whether `self` begins with all parts of `prefix`: 12.2.0 is a 12, and a 12.2.
    pub fn is_a(&self, prefix: &Version) -> bool {
        let mut parts = self.parts.iter();
        prefix
            .parts
            .iter()
            .all(|wanted| parts.next().unwrap_or(&0) == wanted)
    }
}

impl Ord for Version {
    /// Part by part; a missing part counts as zero, so 12 equals 12.0.
    fn cmp(&self, other: &Self) -> Ordering {
        let length = self.parts.len().max(other.parts.len());
        let part = |v: &Version, i: usize| v.parts.get(i).copied().unwrap_or(0);
        (0..length)
            .map(|i| part(self, i).cmp(&part(other, i)))
            .find(|o| o.is_ne())
            .unwrap_or(Ordering::Equal)
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Version {}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.shown)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn version(text: &str) -> Version {
        text.parse().unwrap()
    }

    #[test]
    fn versions_compare_part_by_part() {
        assert!(version("12.10") > version("12.2.9"));
        assert!(version("9") < version("12"));
        assert_eq!(version("12"), version("12.0.0"));
        assert_eq!(version("12.2.0-14+deb12u1"), version("12.2"));
    }

    #[test]
    fn a_full_version_is_one_of_its_major() {
        assert!(version("12.2.0").is_a(&version("12")));
        assert!(!version("12.2.0").is_a(&version("12.3")));
    }

    #[test]
    fn words_are_no_versions() {
        for wrong in ["", "linux", "12.x", ".5", "v1"] {
            assert_eq!(
                wrong.parse::<Version>().unwrap_err(),
                NotAVersion,
                "{wrong}"
            );
        }
    }
}
