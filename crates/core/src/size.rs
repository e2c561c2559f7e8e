//! Amounts of memory and disk.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use utoipa::ToSchema;

/// A number of bytes.
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
#[serde(transparent)]
pub struct ByteSize(pub u64);

/// Units: folded to lower case, as they are written, and their bytes.
const UNITS: [(&str, &str, u64); 8] = [
    ("kib", "KiB", 1 << 10),
    ("mib", "MiB", 1 << 20),
    ("gib", "GiB", 1 << 30),
    ("tib", "TiB", 1 << 40),
    ("kb", "KB", 1_000),
    ("mb", "MB", 1_000_000),
    ("gb", "GB", 1_000_000_000),
    ("tb", "TB", 1_000_000_000_000),
];

/// Returns a size that was folded to lower case with its unit in the usual case: `1GiB` for `1gib`.
pub(crate) fn spelled(folded: &str) -> Option<String> {
    UNITS.iter().find_map(|(unit, written, _)| {
        let number = folded.trim().strip_suffix(unit)?.trim_end();
        Some(format!("{number}{written}"))
    })
}

/// Why a text is not a size.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("a size is a number with a unit, KiB MiB GiB TiB or KB MB GB TB, such as 16GiB")]
pub struct NotASize;

impl FromStr for ByteSize {
    type Err = NotASize;

    fn from_str(text: &str) -> Result<Self, NotASize> {
        let text = text.trim().to_ascii_lowercase();
        let (digits, unit) = UNITS
            .iter()
            .find_map(|(name, _, unit)| Some((text.strip_suffix(name)?.trim_end(), *unit)))
            .ok_or(NotASize)?;
        let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
        if whole.is_empty()
            || part.len() > 6
            || !(whole.bytes().chain(part.bytes())).all(|b| b.is_ascii_digit())
        {
            return Err(NotASize);
        }
        let whole = whole
            .parse::<u64>()
            .map_err(|_| NotASize)?
            .checked_mul(unit)
            .ok_or(NotASize)?;
        let scale = 10u64.pow(part.len() as u32);
        let part = if part.is_empty() {
            0
        } else {
            part.parse::<u64>().map_err(|_| NotASize)?
        };
        let part = u128::from(part) * u128::from(unit) / u128::from(scale);
        whole
            .checked_add(u64::try_from(part).map_err(|_| NotASize)?)
            .map(ByteSize)
            .ok_or(NotASize)
    }
}

impl ByteSize {
    /// What a machine with this much usable memory was sold as: the next whole step of its size, since a kernel
    /// keeps some of it (a 24 GiB machine reports 23.5). Steps are 1/16 of the power of two below the size and at
    /// least 256 MiB.
    pub fn nominal(self) -> ByteSize {
        const QUARTER: u64 = 1 << 28;
        if self.0 == 0 {
            return self;
        }
        let power = 1u64 << (63 - self.0.leading_zeros());
        let step = (power / 16).max(QUARTER);
        ByteSize(self.0.div_ceil(step).saturating_mul(step))
    }
}

impl ByteSize {
    /// The size as it is read, in the largest unit of which it is a multiple; in whole KiB, rounded down, if it is one of
    /// none.
    pub fn exact(self) -> String {
        let units = UNITS
            .iter()
            .filter(|(_, _, unit)| self.0 > 0 && self.0.is_multiple_of(*unit));
        let largest = units.max_by_key(|(_, _, unit)| *unit);
        let (_, name, unit) = largest.unwrap_or(&UNITS[0]);
        format!("{}{name}", self.0 / unit)
    }
}

impl fmt::Display for ByteSize {
    /// In the largest binary unit of which it holds at least one, with at most one decimal: `23.5GiB`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (name, unit) in [
            ("TiB", 1u64 << 40),
            ("GiB", 1 << 30),
            ("MiB", 1 << 20),
            ("KiB", 1 << 10),
        ] {
            if self.0 >= unit {
                return if self.0.is_multiple_of(unit) {
                    write!(f, "{}{name}", self.0 / unit)
                } else {
                    write!(f, "{:.1}{name}", self.0 as f64 / unit as f64)
                };
            }
        }
        write!(f, "{}B", self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_size_is_written_so_that_it_is_read_as_the_same() {
        for text in ["4GiB", "1500MiB", "4TB", "3KB", "7KiB"] {
            let size: ByteSize = text.parse().unwrap();
            assert_eq!(size.exact(), text);
        }
        assert_eq!(ByteSize(2047).exact(), "1KiB");
        assert_eq!(ByteSize(0).exact(), "0KiB");
    }

    #[test]
    fn sizes_are_read_in_binary_and_decimal_units() {
        assert_eq!("16GiB".parse(), Ok(ByteSize(16 << 30)));
        assert_eq!("1.5 gib".parse(), Ok(ByteSize(3 << 29)));
        assert_eq!("2TB".parse(), Ok(ByteSize(2_000_000_000_000)));
        for wrong in [
            "16",
            "GiB",
            "-1GiB",
            "1e3MiB",
            "99999999999999TiB",
            "1.2.3GiB",
            "",
        ] {
            assert_eq!(wrong.parse::<ByteSize>(), Err(NotASize), "{wrong}");
        }
    }

    #[test]
    fn memory_is_rounded_up_to_what_the_machine_was_sold_as() {
        assert_eq!(
            ByteSize((23 << 30) + (1 << 29)).nominal(),
            ByteSize(24 << 30)
        );
        assert_eq!(ByteSize(16_700_000_000).nominal(), ByteSize(16 << 30));
        assert_eq!(ByteSize(4 << 30).nominal(), ByteSize(4 << 30));
        assert_eq!(ByteSize(500 << 20).nominal(), ByteSize(512 << 20));
    }

    #[test]
    fn a_size_is_shown_in_its_largest_unit() {
        assert_eq!(ByteSize((23 << 30) + (1 << 29)).to_string(), "23.5GiB");
        assert_eq!(ByteSize(24 << 30).to_string(), "24GiB");
        assert_eq!(ByteSize(12).to_string(), "12B");
    }
}
