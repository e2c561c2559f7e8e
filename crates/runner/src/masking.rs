//! Hides the values of secrets in a job's output, before it is written down anywhere: so offsets in the log stay as they are.
//!
//! Hidden are a value as it is, each line of a longer one, and its usual encodings: base64 (both alphabets, at any of the three
//! alignments), hexadecimal, percent-encoding and the escapes of JSON. This is a best effort against accidents: a job that wants to
//! show a secret can.

use aho_corasick::{AhoCorasick, MatchKind};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use std::borrow::Cow;
use std::collections::BTreeSet;

/// What is shown instead.
pub const MASK: &str = "***";
/// Shorter texts are not hidden: they would be found everywhere.
pub const SHORTEST: usize = 4;
/// Shorter lines and encodings are not hidden.
const SHORTEST_PART: usize = 8;
/// The columns at which `base64` breaks its lines.
const COLUMNS: usize = 76;
/// Of output that may be the beginning of a secret, this much is held back until more of it comes.
const SUSPICIOUS: usize = 4;
/// What percent-encoding leaves as it is (RFC 3986, section 2.3).
const ENCODED: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~');

/// Hides secrets in a stream of bytes.
pub struct Masker {
    patterns: Option<Patterns>,
    /// What is not shown yet, because a secret may begin in it.
    held: Vec<u8>,
}

struct Patterns {
    automaton: AhoCorasick,
    texts: Vec<Vec<u8>>,
    /// The length of the longest, in bytes.
    longest: usize,
}

impl Masker {
    /// Returns what hides these values. Without any that are long enough, everything passes as it is.
    pub fn new<'a>(values: impl IntoIterator<Item = &'a str>) -> Masker {
        let texts: BTreeSet<Vec<u8>> = values.into_iter().flat_map(forms).collect();
        let texts: Vec<Vec<u8>> = texts.into_iter().collect();
        let longest = texts.iter().map(Vec::len).max().unwrap_or_default();
        // Only a set of patterns beyond all limits cannot be built; nothing is shown then.
        let automaton = AhoCorasick::builder()
            .match_kind(MatchKind::LeftmostLongest)
            .build(&texts);
        let patterns = match automaton {
            Ok(automaton) if longest > 0 => Some(Patterns {
                automaton,
                texts,
                longest,
            }),
            _ => None,
        };
        Masker {
            patterns,
            held: Vec::new(),
        }
    }

    /// Takes bytes. Returns what can be shown by now.
    pub fn feed<'a>(&mut self, bytes: &'a [u8]) -> Cow<'a, [u8]> {
        let Some(patterns) = &self.patterns else {
            return Cow::Borrowed(bytes);
        };
        self.held.extend_from_slice(bytes);
        let mut shown = Vec::new();
        // What begins before this can be told: the longest secret that begins there has come whole.
        let known = (self.held.len() + 1).saturating_sub(patterns.longest);
        let rest = patterns.mask(&self.held, known, &mut shown);
        self.held.drain(..rest);
        Cow::Owned(shown)
    }

    /// Whether something is held back.
    pub fn holds(&self) -> bool {
        !self.held.is_empty()
    }

    /// The output rests. Returns what was held back, but for an end that looks like the beginning of a secret.
    pub fn rest(&mut self) -> Vec<u8> {
        let Some(patterns) = &self.patterns else {
            return Vec::new();
        };
        let mut shown = Vec::new();
        let known = self.held.len() - patterns.begun(&self.held);
        let rest = patterns.mask(&self.held, known, &mut shown);
        self.held.drain(..rest);
        shown
    }

    /// The output has ended. Returns what was held back.
    pub fn finish(&mut self) -> Vec<u8> {
        let mut shown = Vec::new();
        if let Some(patterns) = &self.patterns {
            patterns.mask(&self.held, self.held.len(), &mut shown);
        }
        self.held.clear();
        shown
    }
}

impl Patterns {
    /// Appends `bytes` to `shown`, with every secret hidden that begins before `known`. Returns how many bytes were dealt with:
    /// `known` at least.
    fn mask(&self, bytes: &[u8], known: usize, shown: &mut Vec<u8>) -> usize {
        let mut done = 0;
        for found in self.automaton.find_iter(bytes) {
            if found.start() >= known {
                break;
            }
            shown.extend_from_slice(bytes.get(done..found.start()).unwrap_or_default());
            shown.extend_from_slice(MASK.as_bytes());
            done = found.end();
        }
        let plain = known.max(done);
        shown.extend_from_slice(bytes.get(done..plain).unwrap_or_default());
        plain
    }

    /// How long the end of `bytes` is that is the beginning of a secret, where it is long enough to matter.
    fn begun(&self, bytes: &[u8]) -> usize {
        let begun = |text: &Vec<u8>| {
            let most = text.len().saturating_sub(1).min(bytes.len());
            (SUSPICIOUS..=most).rev().find(|length| {
                let end = bytes.len() - length;
                bytes.get(end..) == text.get(..*length)
            })
        };
        self.texts
            .iter()
            .filter_map(begun)
            .max()
            .unwrap_or_default()
    }
}

/// The texts in which a value may show itself.
fn forms(value: &str) -> Vec<Vec<u8>> {
    let trimmed = value.trim_end_matches(['\r', '\n']);
    if trimmed.len() < SHORTEST {
        return Vec::new();
    }
    let mut all: Vec<String> = vec![trimmed.to_owned()];
    let mut parts: Vec<String> = Vec::new();
    if trimmed.contains('\n') {
        parts.extend(trimmed.lines().map(|line| line.trim().to_owned()));
    }
    let quoted = serde_json::to_string(trimmed).unwrap_or_default();
    parts.push(quoted.trim_matches('"').to_owned());
    let percent = utf8_percent_encode(trimmed, ENCODED).to_string();
    parts.push(lower_escapes(&percent));
    parts.push(percent);
    for text in [value, trimmed] {
        let hex: String = text.bytes().map(|byte| format!("{byte:02x}")).collect();
        parts.push(hex.to_uppercase());
        parts.push(hex);
        for before in 0..3 {
            parts.extend(in_base64(text.as_bytes(), before));
        }
        // The lines that `base64` prints.
        let whole = STANDARD_NO_PAD.encode(text);
        if whole.len() > COLUMNS {
            let lines = whole.as_bytes().chunks(COLUMNS);
            parts.extend(lines.filter_map(|line| String::from_utf8(line.to_vec()).ok()));
        }
    }
    parts.retain(|part| part.len() >= SHORTEST_PART);
    all.extend(parts);
    all.into_iter().map(String::into_bytes).collect()
}

/// A percent-encoded text with small letters in its escapes.
fn lower_escapes(text: &str) -> String {
    let mut pieces = text.split('%');
    let mut lower = pieces.next().unwrap_or_default().to_owned();
    for piece in pieces {
        let (escape, rest) = piece.split_at_checked(2).unwrap_or((piece, ""));
        lower.push('%');
        lower.push_str(&escape.to_lowercase());
        lower.push_str(rest);
    }
    lower
}

/// A value in base64 as it stands after `before` other bytes of a group of three: without the characters that depend on what comes
/// before and after it.
fn in_base64(value: &[u8], before: usize) -> [String; 2] {
    let bytes = [vec![0; before], value.to_vec()].concat();
    let skip = if before == 0 { 0 } else { before + 1 };
    let drop = usize::from(!bytes.len().is_multiple_of(3));
    [&STANDARD_NO_PAD, &URL_SAFE_NO_PAD].map(|engine| {
        let text = engine.encode(&bytes);
        let end = text.len().saturating_sub(drop);
        text.get(skip..end).unwrap_or_default().to_owned()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use base64::engine::general_purpose::STANDARD;
    use proptest::prelude::*;

    /// What is shown of an output that comes in pieces.
    fn shown(secrets: &[&str], pieces: &[&[u8]]) -> String {
        let mut masker = Masker::new(secrets.iter().copied());
        let mut all = Vec::new();
        for piece in pieces {
            all.extend_from_slice(&masker.feed(piece));
        }
        all.extend(masker.finish());
        String::from_utf8_lossy(&all).into_owned()
    }

    const KEY: &str = "slack+water/at?noon=7";

    #[test]
    fn a_value_is_hidden_wherever_the_output_is_cut() {
        let line = format!("key={KEY} and again {KEY}.\n").into_bytes();
        for cut in 0..line.len() {
            let (one, two) = line.split_at(cut);
            let text = shown(&[KEY], &[one, two]);
            assert_eq!(text, "key=*** and again ***.\n", "cut at {cut}");
        }
    }

    #[test]
    fn its_usual_encodings_are_hidden() {
        let hex: String = KEY.bytes().map(|byte| format!("{byte:02x}")).collect();
        let percent = utf8_percent_encode(KEY, NON_ALPHANUMERIC).to_string();
        for text in [hex.to_uppercase(), hex, percent.to_lowercase(), percent] {
            let text = shown(&[KEY], &[format!("<{text}>").as_bytes()]);
            assert_eq!(text, "<***>");
        }
        for around in ["", "a", "ab", "abc", "user:"] {
            let text = format!("{around}{KEY}{around}");
            for encoded in [STANDARD.encode(&text), URL_SAFE_NO_PAD.encode(&text)] {
                let text = shown(&[KEY], &[encoded.as_bytes()]);
                assert!(text.contains(MASK), "{text}");
                // At most a character at each side is left of it.
                assert!(text.len() <= around.len() * 4 + 12, "{text}");
            }
        }
        let quoted = serde_json::to_string("open \"sesame\"\\").unwrap();
        let text = shown(&["open \"sesame\"\\"], &[quoted.as_bytes()]);
        assert_eq!(text, "\"***\"");
    }

    #[test]
    fn each_line_of_a_longer_value_is_hidden() {
        let key = "-----BEGIN KEY-----\nAAAABBBBCCCC\nDDDDEEEEFFFF\n-----END KEY-----\n";
        let output = "begin\n  AAAABBBBCCCC\n> DDDDEEEEFFFF <\nend\n";
        assert_eq!(
            shown(&[key], &[output.as_bytes()]),
            "begin\n  ***\n> *** <\nend\n"
        );
        let printed: String = STANDARD.encode(key.repeat(2));
        let lines: Vec<&str> = [printed.get(..COLUMNS), printed.get(COLUMNS..2 * COLUMNS)]
            .into_iter()
            .flatten()
            .collect();
        let text = shown(&[&key.repeat(2)], &[lines.join("\n").as_bytes()]);
        assert_eq!(text, "***\n***");
    }

    #[test]
    fn the_longer_of_two_secrets_is_hidden_whole() {
        let text = shown(&["tide", "tidewater"], &[b"tide", b"water tide"]);
        assert_eq!(text, "*** ***");
    }

    #[test]
    fn output_that_rests_is_shown_but_for_the_beginning_of_a_secret() {
        let mut masker = Masker::new([KEY]);
        let mut text = masker.feed(b"waiting ... ").into_owned();
        text.extend(masker.rest());
        assert_eq!(text, b"waiting ... ");
        assert!(!masker.holds());
        let mut text = masker.feed(b"key=slack+wa").into_owned();
        text.extend(masker.rest());
        assert_eq!(text, b"key=");
        text.extend_from_slice(&masker.feed(&KEY.as_bytes()[8..]));
        text.extend(masker.rest());
        assert_eq!(text, b"key=***");
    }

    #[test]
    fn without_secrets_everything_passes_as_it_is() {
        let mut masker = Masker::new(["", "abc"]);
        assert!(matches!(masker.feed(b"abc abc"), Cow::Borrowed(b"abc abc")));
        assert!(!masker.holds());
    }

    proptest! {
        /// Against the simplest model: the whole output at once.
        #[test]
        fn pieces_make_no_difference(
            secrets in prop::collection::vec("[ab]{4,7}", 1..3),
            output in prop::collection::vec("[ab ]{0,12}", 0..8),
        ) {
            let secrets: Vec<&str> = secrets.iter().map(String::as_str).collect();
            let whole = output.concat();
            let pieces: Vec<&[u8]> = output.iter().map(|piece| piece.as_bytes()).collect();
            let text = shown(&secrets, &pieces);
            prop_assert_eq!(&text, &shown(&secrets, &[whole.as_bytes()]));
            for secret in secrets {
                prop_assert!(!text.contains(secret), "{} in {}", secret, text);
            }
        }
    }
}
