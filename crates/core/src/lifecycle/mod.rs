//! The states of things, and the only functions that change them.

pub mod alert;
pub mod attempt;
pub mod bulk;
pub mod job;
pub mod machine;
pub mod outcome;
pub mod runner;

/// An event that makes no sense in the state that a thing is in. Nothing changed.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("a {noun} that is {state} cannot take the event {event}")]
pub struct InvalidTransition {
    /// What kind of thing it is.
    pub noun: &'static str,
    /// The state it is in.
    pub state: String,
    /// What was said to happen.
    pub event: String,
}

/// Gives an enum of plain words its text in both directions.
macro_rules! words {
    ($name:ident { $($variant:ident = $word:literal),+ $(,)? }) => {
        impl $name {
            /// Every one of them.
            pub const ALL: &'static [$name] = &[$($name::$variant),+];

            /// The word as it is stored, sent and shown.
            pub fn word(self) -> &'static str {
                match self { $($name::$variant => $word),+ }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }

        impl std::str::FromStr for $name {
            type Err = String;
            fn from_str(text: &str) -> Result<Self, String> {
                Self::ALL.iter().copied().find(|one| one.word() == text).ok_or_else(|| {
                    let words: Vec<_> = Self::ALL.iter().map(|one| one.word()).collect();
                    format!("unknown value {text:?}; known: {}", words.join(", "))
                })
            }
        }
    };
}
pub(crate) use words;
