//! What is wrong with a job sheet, and where.

use std::collections::BTreeSet;
use std::fmt;
use std::ops::Range;

/// A mistake in a job sheet.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct SheetError {
    /// From 1.
    pub line: usize,
    /// In characters, from 1.
    pub column: usize,
    pub message: String,
}

impl fmt::Display for SheetError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "line {}, column {}: {}",
            self.line, self.column, self.message
        )
    }
}

/// The mistakes that were found so far, with the text in which they stand.
pub(super) struct Mistakes<'a> {
    text: &'a str,
    found: Vec<SheetError>,
}

impl<'a> Mistakes<'a> {
    pub fn new(text: &'a str) -> Mistakes<'a> {
        Mistakes {
            text,
            found: Vec::new(),
        }
    }

    /// The line and column of a byte of the text.
    pub fn position(&self, offset: usize) -> (usize, usize) {
        let mut end = offset.min(self.text.len());
        while !self.text.is_char_boundary(end) {
            end -= 1;
        }
        let before = self.text.get(..end).unwrap_or_default();
        let line = before.matches('\n').count() + 1;
        let last = before.rsplit('\n').next().unwrap_or_default();
        (line, last.chars().count() + 1)
    }

    /// Notes a mistake at a byte of the text.
    pub fn add(&mut self, offset: usize, message: impl Into<String>) {
        let (line, column) = self.position(offset);
        self.found.push(SheetError {
            line,
            column,
            message: message.into(),
        });
    }

    /// Notes a mistake in a string of the text, some characters into it. Where the string is written with escapes or over several
    /// lines, at its beginning.
    pub fn add_within(
        &mut self,
        span: Range<usize>,
        value: &str,
        characters: usize,
        message: String,
    ) {
        let written = self.text.get(span.clone()).unwrap_or_default();
        let mut quoted = written.chars();
        let is_plain = quoted
            .next()
            .is_some_and(|first| first == '"' || first == '\'')
            && quoted.as_str().strip_suffix(['"', '\'']) == Some(value);
        let into: usize = match is_plain {
            true => {
                1 + value
                    .chars()
                    .take(characters)
                    .map(char::len_utf8)
                    .sum::<usize>()
            }
            false => 0,
        };
        self.add(span.start + into, message);
    }

    /// The mistakes in the order of the text.
    pub fn into_sorted(mut self) -> Vec<SheetError> {
        self.found.sort();
        self.found.dedup();
        self.found
    }

    pub fn is_empty(&self) -> bool {
        self.found.is_empty()
    }
}

/// The known word that is nearest to a wrong one, where one is near.
pub(super) fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let known: BTreeSet<String> = known.into_iter().map(str::to_owned).collect();
    crate::requirement::nearest(wrong, &known)
}

/// What the TOML reader says, in our words: a misspelt key with the nearest known one.
pub(super) fn reader_message(message: &str) -> String {
    let mut quoted = message.split('`').skip(1).step_by(2);
    if message.starts_with("unknown field") {
        let wrong = quoted.next().unwrap_or_default();
        let known: Vec<&str> = quoted.collect();
        let nearest = nearest(wrong, known.iter().copied());
        return match nearest {
            Some(near) => format!("unknown key `{wrong}`; did you mean `{near}`?"),
            None => format!("unknown key `{wrong}`; known keys: {}", known.join(", ")),
        };
    }
    if message.starts_with("missing field") {
        return format!("the key `{}` is missing", quoted.next().unwrap_or_default());
    }
    message.lines().next().unwrap_or_default().to_owned()
}
