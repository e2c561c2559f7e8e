//! Identity tokens of jobs: their claims, for whom they may be, and which key signs when.
//!
//! A token is a JSON Web Token (RFC 7519) that the service signs and publishes the keys of (OpenID Connect Discovery 1.0, RFC 7517),
//! so that a cloud or a secret store can trust a job of a project without a password kept anywhere.

use crate::job_policy::IsolationLevel;
use crate::lifecycle::words;
use crate::time::Moment;
use crate::trust::Trust;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// How a token is signed (RFC 7518, section 3.1).
#[derive(
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Debug,
    Default,
    Serialize,
    Deserialize,
    ToSchema,
)]
pub enum SigningAlgorithm {
    /// RSASSA-PKCS1-v1_5 with SHA-256, which every verifier knows.
    #[default]
    #[serde(rename = "RS256")]
    Rs256,
    /// ECDSA with P-256 and SHA-256, whose signatures are shorter.
    #[serde(rename = "ES256")]
    Es256,
}

words!(SigningAlgorithm {
    Rs256 = "RS256",
    Es256 = "ES256",
});

/// How long a token is valid: a job asks again as often as it needs one.
pub const TOKEN_LIFETIME: Duration = Duration::from_secs(600);
/// How long a key signs before the next one does.
pub const KEY_SIGNS: Duration = Duration::from_secs(30 * 86_400);
/// How long the next key is published before it signs: verifiers keep the published keys for a while.
pub const KEY_ANNOUNCED: Duration = Duration::from_secs(86_400);
/// How long a key is published after it has signed for the last time: longer than the last token is valid, and than clocks differ.
pub const KEY_LINGERS: Duration = Duration::from_secs(86_400);

/// What a token says of an attempt, beside the time: what a verifier decides by.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct AttemptClaims {
    /// `project:PATH` for a trusted job, `untrusted:PATH` for an untrusted one: a verifier that goes by the subject alone cannot take
    /// one for the other.
    pub sub: String,
    /// The project's path.
    pub project: String,
    /// The path of its team; absent where it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    pub pool: String,
    pub runner: String,
    /// The job's and the run's short names.
    pub job: String,
    pub run: String,
    /// The branch and the revision that its run is of, as the person or token that submitted it said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<String>,
    /// The number of the attempt, from 1.
    pub attempt: u32,
    pub trusted: bool,
    /// How the pool keeps its jobs apart.
    pub isolation: IsolationLevel,
}

/// The subject of the jobs of a project.
pub fn subject(project: &str, trust: Trust) -> String {
    match trust {
        Trust::Trusted => format!("project:{project}"),
        Trust::Untrusted => format!("untrusted:{project}"),
    }
}

/// The longest name of an audience, in bytes.
const AUDIENCE_LENGTH: usize = 200;

/// Why a token is not made for an audience.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum AudienceRefusal {
    /// It is no name of one.
    #[error("an audience has 1 to {AUDIENCE_LENGTH} bytes and no control characters or spaces")]
    Invalid,
    /// A place on the way to the project does not allow it.
    #[error("{place} allows its jobs tokens for {} only", .allowed.join(", "))]
    NotAllowed { place: String, allowed: Vec<String> },
}

/// Checks the name of an audience.
///
/// # Errors
/// Where it is empty, too long, or contains control characters or spaces.
pub fn check_audience(audience: &str) -> Result<(), AudienceRefusal> {
    let strange = |c: char| c.is_control() || c.is_whitespace();
    if audience.is_empty() || audience.len() > AUDIENCE_LENGTH || audience.chars().any(strange) {
        return Err(AudienceRefusal::Invalid);
    }
    Ok(())
}

/// Decides whether a job may have a token for an audience. `lists` are the audiences that the project and the places above it allow,
/// each with the place's path; an empty list allows all.
///
/// # Errors
/// The place that does not allow it.
pub fn may_address(lists: &[(String, Vec<String>)], audience: &str) -> Result<(), AudienceRefusal> {
    check_audience(audience)?;
    let against = lists
        .iter()
        .find(|(_, allowed)| !allowed.is_empty() && !allowed.iter().any(|one| one == audience));
    match against {
        None => Ok(()),
        Some((place, allowed)) => Err(AudienceRefusal::NotAllowed {
            place: crate::access::place_name(place).to_owned(),
            allowed: allowed.clone(),
        }),
    }
}

/// A signing key as far as its age matters.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct KeyAge {
    pub id: String,
    pub algorithm: SigningAlgorithm,
    /// From when on it signs.
    pub signs_from: Moment,
}

/// What is to be done about the keys of an algorithm.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct KeyPlan {
    /// The key that signs now.
    pub signs: Option<String>,
    /// A further key is to be made that signs from then on.
    pub make: Option<Moment>,
    /// Keys that no valid token is signed with any more.
    pub remove: Vec<String>,
}

/// Decides which key of an algorithm signs now, whether another is needed, and which are not published any more.
#[must_use]
pub fn plan_keys(keys: &[KeyAge], algorithm: SigningAlgorithm, now: Moment) -> KeyPlan {
    let mut own: Vec<&KeyAge> = keys
        .iter()
        .filter(|key| key.algorithm == algorithm)
        .collect();
    own.sort_by(|one, other| (one.signs_from, &one.id).cmp(&(other.signs_from, &other.id)));
    let signs = own.iter().rposition(|key| key.signs_from <= now);
    let next_begins = own.last().map(|key| key.signs_from + KEY_SIGNS);
    let make = match (signs, next_begins) {
        (None, _) | (_, None) => Some(now),
        // Before its predecessor's time is over, so that verifiers have read it by then.
        (Some(_), Some(begins)) if now + KEY_ANNOUNCED >= begins => {
            Some(begins.max(now + KEY_ANNOUNCED))
        }
        _ => None,
    };
    // One lingers while tokens of its last day are valid: until some time after its successor began.
    let removed = own.iter().zip(own.iter().skip(1)).filter(|(_, successor)| {
        successor.signs_from <= now && now.since(successor.signs_from) > KEY_LINGERS
    });
    KeyPlan {
        signs: signs.and_then(|at| own.get(at)).map(|key| key.id.clone()),
        make,
        remove: removed.map(|(key, _)| key.id.clone()).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: Duration = Duration::from_secs(3600);

    #[test]
    fn the_subject_tells_trusted_from_untrusted() {
        assert_eq!(
            subject("firmware/buoy", Trust::Trusted),
            "project:firmware/buoy"
        );
        assert_eq!(
            subject("firmware/buoy", Trust::Untrusted),
            "untrusted:firmware/buoy"
        );
    }

    #[test]
    fn every_place_on_the_way_has_to_allow_an_audience() {
        let list = |place: &str, allowed: &[&str]| {
            let allowed = allowed.iter().map(|one| (*one).to_owned()).collect();
            (place.to_owned(), allowed)
        };
        let lists = [
            list("", &[]),
            list(
                "firmware",
                &["https://store.example", "https://cloud.example"],
            ),
            list("firmware/buoy", &["https://store.example"]),
        ];
        assert_eq!(may_address(&lists, "https://store.example"), Ok(()));
        let refused = may_address(&lists, "https://cloud.example").unwrap_err();
        assert_eq!(
            refused.to_string(),
            "firmware/buoy allows its jobs tokens for https://store.example only"
        );
        assert!(may_address(&lists[..1], "anything").is_ok());
        for wrong in ["", "two words", "line\nbreak"] {
            assert_eq!(
                may_address(&lists[..1], wrong),
                Err(AudienceRefusal::Invalid),
                "{wrong:?}"
            );
        }
    }

    /// Follows the plan for three years, looking every six hours: at any time one published key signs, each was published a day
    /// before it signed (but for the first), and each stays published while a token of its is valid.
    #[test]
    fn keys_take_turns_without_a_gap() {
        let begin = Moment::default() + Duration::from_secs(1_000_000);
        let mut keys: Vec<KeyAge> = Vec::new();
        let mut made: Vec<(String, Moment)> = Vec::new();
        let mut last_signed: Vec<(String, Moment)> = Vec::new();
        for look in 0..(3 * 365 * 4) {
            let now = begin + HOUR * 6 * look;
            let mut plan = plan_keys(&keys, SigningAlgorithm::Rs256, now);
            if let Some(signs_from) = plan.make {
                let id = format!("key-{}", made.len());
                made.push((id.clone(), now));
                keys.push(KeyAge {
                    id,
                    algorithm: SigningAlgorithm::Rs256,
                    signs_from,
                });
                plan = plan_keys(&keys, SigningAlgorithm::Rs256, now);
                assert_eq!(plan.make, None, "one is enough");
            }
            for id in &plan.remove {
                let last = last_signed.iter().rfind(|(signed, _)| signed == id);
                assert!(last.is_none_or(|(_, at)| now.since(*at) > TOKEN_LIFETIME));
            }
            keys.retain(|key| !plan.remove.contains(&key.id));
            let signs = plan.signs.expect("a key signs");
            let known = made
                .iter()
                .find(|(id, _)| *id == signs)
                .expect("it was made");
            assert!(signs == "key-0" || now.since(known.1) >= KEY_ANNOUNCED);
            assert!(keys.iter().any(|key| key.id == signs), "it is published");
            assert!(keys.len() <= 3, "{}", keys.len());
            last_signed.push((signs, now));
        }
        assert!((36..=38).contains(&made.len()), "{}", made.len());
    }

    #[test]
    fn a_service_that_was_off_for_long_goes_on_with_its_old_key_until_the_next_is_known() {
        let begin = Moment::default() + Duration::from_secs(1_000_000);
        let old = KeyAge {
            id: "old".to_owned(),
            algorithm: SigningAlgorithm::Es256,
            signs_from: begin,
        };
        let now = begin + KEY_SIGNS * 5;
        let plan = plan_keys(&[old], SigningAlgorithm::Es256, now);
        assert_eq!(plan.signs.as_deref(), Some("old"));
        assert_eq!(plan.make, Some(now + KEY_ANNOUNCED));
    }
}
