//! Points in time and lengths of time, in whole microseconds.

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};
use std::fmt;
use std::ops::{Add, Sub};
use std::time::Duration;
use utoipa::openapi::{ObjectBuilder, RefOr, Schema, SchemaFormat, Type, schema::KnownFormat};
use utoipa::{PartialSchema, ToSchema};

/// A point in time: microseconds since 1970-01-01T00:00:00Z. Written as RFC 3339, which knows the years 1 to 9999:
/// what is read, and what is computed by adding a length or taking one away, stays within them.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, Default)]
pub struct Moment(i64);

impl Moment {
    /// The start of year 1.
    pub const EARLIEST: Moment = Moment(-62_135_596_800_000_000);
    /// Close to the end of year 9999: every zone's clock still shows that year.
    pub const LATEST: Moment = Moment(253_402_207_200_000_000);

    /// The moment to the minute, for sentences: `2026-11-23 06:31 UTC`.
    pub fn minute(self) -> String {
        let at = jiff::Timestamp::from_microsecond(self.0).unwrap_or_default();
        at.strftime("%Y-%m-%d %H:%M UTC").to_string()
    }

    /// The moment that many microseconds after the start of 1970.
    pub const fn from_micros(micros: i64) -> Self {
        Self(micros)
    }

    /// Microseconds since the start of 1970.
    pub const fn micros(self) -> i64 {
        self.0
    }

    /// How long after `earlier` this is; zero when it is not after it.
    pub fn since(self, earlier: Moment) -> Duration {
        Duration::from_micros(u64::try_from(self.0.saturating_sub(earlier.0)).unwrap_or(0))
    }
}

fn whole_micros(length: Duration) -> i64 {
    i64::try_from(length.as_micros()).unwrap_or(i64::MAX)
}

impl Add<Duration> for Moment {
    type Output = Moment;
    fn add(self, length: Duration) -> Moment {
        Moment(self.0.saturating_add(whole_micros(length))).min(Moment::LATEST.max(self))
    }
}

impl Sub<Duration> for Moment {
    type Output = Moment;
    fn sub(self, length: Duration) -> Moment {
        Moment(self.0.saturating_sub(whole_micros(length))).max(Moment::EARLIEST.min(self))
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match jiff::Timestamp::from_microsecond(self.0) {
            Ok(at) => write!(f, "{at:.6}"),
            Err(_) => write!(f, "{} us", self.0),
        }
    }
}

impl Serialize for Moment {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Moment {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        let at: jiff::Timestamp = text.parse().map_err(de::Error::custom)?;
        let at = Moment(at.as_microsecond());
        if at < Moment::EARLIEST {
            return Err(de::Error::custom("a time before the year 1"));
        }
        Ok(at)
    }
}

impl PartialSchema for Moment {
    fn schema() -> RefOr<Schema> {
        ObjectBuilder::new()
            .schema_type(Type::String)
            .format(Some(SchemaFormat::KnownFormat(KnownFormat::DateTime)))
            .description(Some("A point in time, RFC 3339, to the microsecond."))
            .into()
    }
}

impl ToSchema for Moment {
    fn name() -> std::borrow::Cow<'static, str> {
        "Moment".into()
    }
}

/// A length of time that crosses a wire or is stored: whole microseconds.
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
pub struct Micros(pub u64);

impl From<Duration> for Micros {
    fn from(length: Duration) -> Self {
        Micros(u64::try_from(length.as_micros()).unwrap_or(u64::MAX))
    }
}

impl From<Micros> for Duration {
    fn from(length: Micros) -> Self {
        Duration::from_micros(length.0)
    }
}

/// Reads a length of time as people write it: `90s`, `20m`, `1h 30m`, `3d` (of 24 hours); a bare number is seconds.
///
/// # Errors
/// What is wrong with it, with examples.
pub fn parse_length(text: &str) -> Result<Duration, String> {
    let wrong = || format!("{text:?} is not a length of time; use 90s, 20m, 2h or 3d");
    if let Some(Ok(days)) = text.strip_suffix('d').map(str::parse::<u64>) {
        return Ok(Duration::from_secs(days.saturating_mul(86_400)));
    }
    if let Ok(seconds) = text.parse() {
        return Ok(Duration::from_secs(seconds));
    }
    let length: jiff::SignedDuration = text.parse().map_err(|_| wrong())?;
    Duration::try_from(length).map_err(|_| wrong())
}

/// A length of time as people say it: `850 ms`, `12.4 s`, `4 min 10 s`, `2 h 5 min`, `3 d 4 h`.
pub fn spoken(length: Duration) -> String {
    let millis = length.as_millis();
    let seconds = length.as_secs();
    let (minutes, hours, days) = (seconds / 60, seconds / 3600, seconds / 86_400);
    let pair = |big: u64, unit: &str, rest: u64, small: &str| {
        if rest == 0 {
            format!("{big} {unit}")
        } else {
            format!("{big} {unit} {rest} {small}")
        }
    };
    match seconds {
        0 if millis == 0 && length.as_micros() > 0 => format!("{} us", length.as_micros()),
        0 => format!("{millis} ms"),
        1..=9 => format!("{seconds}.{} s", millis / 100 % 10),
        10..=59 => format!("{seconds} s"),
        60..=3599 => pair(minutes, "min", seconds % 60, "s"),
        3600..=86_399 => pair(hours, "h", minutes % 60, "min"),
        _ => pair(days, "d", hours % 24, "h"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_written_as_rfc_3339_and_read_back() {
        let at = Moment::from_micros(1_795_415_517_000_042);
        let text = serde_json::to_string(&at).unwrap();
        assert_eq!(text, "\"2026-11-23T06:31:57.000042Z\"");
        assert_eq!(serde_json::from_str::<Moment>(&text).unwrap(), at);
        assert!(serde_json::from_str::<Moment>("\"yesterday\"").is_err());
    }

    #[test]
    fn a_length_is_spoken_in_its_two_largest_units() {
        let describe = |micros| spoken(Duration::from_micros(micros));
        assert_eq!(describe(0), "0 ms");
        assert_eq!(describe(12), "12 us");
        assert_eq!(describe(850_000), "850 ms");
        assert_eq!(describe(9_440_000), "9.4 s");
        assert_eq!(describe(9_990_000), "9.9 s");
        assert_eq!(describe(250_000_000), "4 min 10 s");
        assert_eq!(describe(7_500_000_000), "2 h 5 min");
        assert_eq!(describe(273_600_000_000), "3 d 4 h");
    }

    #[test]
    fn no_length_moves_a_moment_out_of_the_years_that_can_be_written() {
        let at = Moment::from_micros(0);
        assert_eq!(
            (at - Duration::MAX).to_string(),
            "0001-01-01T00:00:00.000000Z"
        );
        assert_eq!(
            (at + Duration::MAX).to_string(),
            "9999-12-30T22:00:00.000000Z"
        );
        let far = "\"-009999-01-02T01:59:59Z\"";
        let error = serde_json::from_str::<Moment>(far).expect_err("is refused");
        assert!(error.to_string().contains("before the year 1"), "{error}");
    }

    #[test]
    fn the_time_since_a_later_moment_is_zero() {
        assert_eq!(
            Moment::from_micros(5).since(Moment::from_micros(9)),
            Duration::ZERO
        );
    }
}
