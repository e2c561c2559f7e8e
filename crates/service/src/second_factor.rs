//! The second factor: one-time codes by time (RFC 6238: SHA-1, six digits, 30 s), and recovery codes that stand in for them.

use crate::secret;
use pennine_core::time::Moment;
use rand::RngExt;
use subtle::ConstantTimeEq;
use totp_rs::{Algorithm, TOTP};

/// Seconds for which a code holds.
const STEP: u64 = 30;
/// Codes of the step before and after the present one are accepted, too: clocks differ.
const SKEW: i64 = 1;
/// Recovery codes that a person gets.
const RECOVERY_CODES: usize = 10;
/// Without letters that are easily mistaken.
const ALPHABET: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";

/// A person's second factor.
pub struct SecondFactor(TOTP);

impl SecondFactor {
    /// A new one, with a secret of 160 random bits, as RFC 4226 recommends.
    pub fn fresh(installation: &str, person: &str) -> Option<SecondFactor> {
        let bytes: [u8; 20] = rand::rng().random();
        SecondFactor::from_bytes(bytes.to_vec(), installation, person)
    }

    /// The one with this secret, as [`SecondFactor::secret`] returned it.
    pub fn of(secret: &str) -> Option<SecondFactor> {
        let bytes = totp_rs::Secret::Encoded(secret.to_owned())
            .to_bytes()
            .ok()?;
        SecondFactor::from_bytes(bytes, "", "")
    }

    fn from_bytes(bytes: Vec<u8>, installation: &str, person: &str) -> Option<SecondFactor> {
        // A colon would end the issuer in the address.
        let issuer = match installation.replace(':', " ") {
            issuer if issuer.is_empty() => None,
            issuer => Some(issuer),
        };
        let made = TOTP::new(
            Algorithm::SHA1,
            6,
            1,
            STEP,
            bytes,
            issuer,
            person.to_owned(),
        );
        made.ok().map(SecondFactor)
    }

    /// The secret in Base32, to type into an authenticator.
    pub fn secret(&self) -> String {
        self.0.get_secret_base32()
    }

    /// The `otpauth` address that authenticators read from a QR code.
    pub fn address(&self) -> String {
        self.0.get_url()
    }

    /// The code of a moment.
    #[cfg(test)]
    fn code(&self, at: Moment) -> String {
        self.0.generate(seconds(at))
    }

    /// The time step of a code, where the code holds at a moment.
    pub fn step_of(&self, code: &str, now: Moment) -> Option<i64> {
        let code: String = code
            .chars()
            .filter(|digit| !digit.is_whitespace())
            .collect();
        let present = i64::try_from(seconds(now) / STEP).ok()?;
        (present - SKEW..=present + SKEW).find(|step| {
            let at = u64::try_from(*step).unwrap_or_default() * STEP;
            let expected = self.0.generate(at);
            bool::from(expected.as_bytes().ct_eq(code.as_bytes()))
        })
    }
}

fn seconds(at: Moment) -> u64 {
    u64::try_from(at.micros() / 1_000_000).unwrap_or_default()
}

/// New recovery codes: 80 random bits each, in groups of four letters.
pub fn recovery_codes() -> Vec<String> {
    let mut rng = rand::rng();
    let mut code = || {
        let letters: Vec<u8> = (0..16)
            .filter_map(|_| ALPHABET.get(rng.random_range(0..ALPHABET.len())).copied())
            .collect();
        let groups = letters.chunks(4).map(String::from_utf8_lossy);
        groups.collect::<Vec<_>>().join("-")
    };
    (0..RECOVERY_CODES).map(|_| code()).collect()
}

/// How a recovery code is kept; spaces, dashes and capitals do not matter.
pub fn recovery_hash(code: &str) -> Vec<u8> {
    let letters = code.chars().filter(char::is_ascii_alphanumeric);
    let folded: String = letters.map(|letter| letter.to_ascii_lowercase()).collect();
    secret::hash(&format!("recovery {folded}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The test vectors of RFC 6238, appendix B, with the last six of their eight digits.
    #[test]
    fn codes_are_those_of_the_standard() {
        let bytes = b"12345678901234567890".to_vec();
        let factor = SecondFactor::from_bytes(bytes, "Pennine", "mira").unwrap();
        let at = |seconds: i64| Moment::from_micros(seconds * 1_000_000);
        for (time, code) in [
            (59, "287082"),
            (1_111_111_109, "081804"),
            (1_234_567_890, "005924"),
            (20_000_000_000, "353130"),
        ] {
            assert_eq!(factor.code(at(time)), code);
            assert_eq!(factor.step_of(code, at(time)), Some(time / 30));
        }
        assert_eq!(factor.step_of("287 082", at(29)), Some(1), "a slow clock");
        assert_eq!(factor.step_of("287082", at(89)), Some(1), "a fast clock");
        assert_eq!(factor.step_of("287082", at(120)), None);
        assert_eq!(factor.step_of("", at(59)), None);
    }

    #[test]
    fn a_secret_is_the_same_after_it_was_kept() {
        let factor = SecondFactor::fresh("Skerry: Marine", "mira").unwrap();
        let again = SecondFactor::of(&factor.secret()).unwrap();
        let now = Moment::from_micros(1_800_000_000_000_000);
        assert_eq!(again.step_of(&factor.code(now), now), Some(60_000_000));
        assert!(
            factor
                .address()
                .starts_with("otpauth://totp/Skerry%20%20Marine:mira?secret=")
        );
        assert!(SecondFactor::of("not base32!").is_none());
    }

    #[test]
    fn recovery_codes_differ_and_are_read_as_people_type_them() {
        let codes = recovery_codes();
        let distinct: std::collections::HashSet<_> = codes.iter().collect();
        assert_eq!(distinct.len(), RECOVERY_CODES);
        let code = codes.first().unwrap();
        assert_eq!(code.len(), 19);
        let typed = code.replace('-', " ").to_uppercase();
        assert_eq!(recovery_hash(code), recovery_hash(&typed));
    }
}
