//! Which passwords are accepted: by their length and a list of common ones, and by nothing else (NIST SP 800-63B, section
//! 3.1.1.2: rules about kinds of characters make passwords worse).

use std::collections::HashSet;
use std::sync::LazyLock;

/// The least number of characters.
pub const SHORTEST: usize = 12;
/// The largest number of characters, so that hashing one costs little.
pub const LONGEST: usize = 256;

/// The common passwords that are long enough, in lower case, one on each line.
static COMMON: LazyLock<HashSet<&'static str>> =
    LazyLock::new(|| include_str!("common_passwords.txt").lines().collect());

/// Why a password is not accepted.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum WeakPassword {
    #[error("a password has at least {SHORTEST} characters; this one has {0}")]
    Short(usize),
    #[error("a password has at most {LONGEST} characters; this one has {0}")]
    Long(usize),
    #[error("this password is one of the most common ones, which are tried first")]
    Common,
}

/// Checks a new password.
///
/// # Errors
/// Why it is not accepted.
pub fn check(password: &str) -> Result<(), WeakPassword> {
    let length = password.chars().count();
    if length < SHORTEST {
        return Err(WeakPassword::Short(length));
    }
    if length > LONGEST {
        return Err(WeakPassword::Long(length));
    }
    let folded = password.trim().to_lowercase();
    let mut characters = folded.chars();
    let first = characters.next();
    let is_one_repeated = characters.all(|character| Some(character) == first);
    if is_one_repeated || COMMON.contains(folded.as_str()) {
        return Err(WeakPassword::Common);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn length_and_the_list_decide_and_nothing_else() {
        assert_eq!(check("oat-kelp-7"), Err(WeakPassword::Short(10)));
        assert_eq!(check("Password1234"), Err(WeakPassword::Common));
        assert_eq!(check(" qwertyuiop123 "), Err(WeakPassword::Common));
        assert_eq!(check("ßßßßßßßßßßßßß"), Err(WeakPassword::Common));
        assert_eq!(check(&"ab".repeat(129)), Err(WeakPassword::Long(258)));
        assert_eq!(check("slack water at noon"), Ok(()));
        assert_eq!(check("潮が満ちる前に帰ろうね今日は"), Ok(()));
    }

    #[test]
    fn each_line_of_the_list_is_long_enough_to_matter_and_in_lower_case() {
        for line in COMMON.iter() {
            assert!(line.len() >= SHORTEST, "{line}");
            assert_eq!(*line, line.to_lowercase());
        }
    }
}
