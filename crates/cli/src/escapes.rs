//! Makes a job's output harmless to a terminal. Otherwise a job could send any command to the reader's terminal: move the
//! cursor, change the title, type an answer.

/// What stands for an escape character that is not let through: U+241B, "symbol for escape".
const SHOWN_ESCAPE: char = '\u{241b}';
/// The most characters of the parameters of a sequence.
const LONGEST: usize = 40;

/// Where in a sequence the text is.
#[derive(Default)]
enum Place {
    /// In none.
    #[default]
    Text,
    /// After an escape character.
    Escape,
    /// Within the parameters of a control sequence (ECMA-48, 5.4).
    Parameters(String),
}

/// A filter for output that comes in parts. Lets text, tabs, line ends and colours through (ECMA-48, 8.3.117, "select
/// graphic rendition"); every other control character is shown and has no effect.
pub struct TerminalFilter {
    place: Place,
    /// The beginning of a character whose rest is still to come.
    begun: Vec<u8>,
    colours: bool,
}

impl TerminalFilter {
    /// A filter; without colours these are left out.
    pub fn new(colours: bool) -> TerminalFilter {
        TerminalFilter {
            place: Place::default(),
            begun: Vec::new(),
            colours,
        }
    }

    /// Returns what may be printed of the next part.
    pub fn filter(&mut self, part: &[u8]) -> String {
        let mut bytes = std::mem::take(&mut self.begun);
        bytes.extend_from_slice(part);
        let mut text = String::with_capacity(bytes.len());
        let mut read = 0;
        for chunk in bytes.utf8_chunks() {
            for character in chunk.valid().chars() {
                self.take(character, &mut text);
            }
            read += chunk.valid().len() + chunk.invalid().len();
            // A character may be cut off at the end of a part.
            let is_last = read == bytes.len();
            if is_last
                && std::str::from_utf8(chunk.invalid()).is_err_and(|e| e.error_len().is_none())
            {
                self.begun = chunk.invalid().to_vec();
            } else if !chunk.invalid().is_empty() {
                self.take(char::REPLACEMENT_CHARACTER, &mut text);
            }
        }
        text
    }

    fn take(&mut self, character: char, text: &mut String) {
        self.place = match (std::mem::take(&mut self.place), character) {
            (Place::Text, '\u{1b}') => Place::Escape,
            (Place::Text, other) => {
                text.push(harmless(other));
                Place::Text
            }
            (Place::Escape, '[') => Place::Parameters(String::new()),
            (Place::Escape, other) => {
                text.push(SHOWN_ESCAPE);
                return self.take(other, text);
            }
            (Place::Parameters(mut all), '0'..='9' | ';' | ':') if all.len() < LONGEST => {
                all.push(character);
                Place::Parameters(all)
            }
            (Place::Parameters(all), 'm') => {
                if self.colours {
                    *text += &format!("\u{1b}[{all}m");
                }
                Place::Text
            }
            (Place::Parameters(all), other) => {
                *text += &format!("{SHOWN_ESCAPE}[{all}");
                return self.take(other, text);
            }
        };
    }
}

/// A character, or a picture of it if it is a control character.
fn harmless(character: char) -> char {
    match character {
        '\n' | '\t' | '\r' => character,
        // The pictures of control characters stand in the same order from U+2400 on.
        '\0'..='\u{1f}' => char::from_u32(0x2400 + u32::from(character)).unwrap_or(' '),
        '\u{7f}' => '\u{2421}',
        '\u{80}'..='\u{9f}' => char::REPLACEMENT_CHARACTER,
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(parts: &[&[u8]]) -> String {
        let mut filter = TerminalFilter::new(true);
        parts.iter().map(|part| filter.filter(part)).collect()
    }

    #[test]
    fn text_and_colours_pass_and_every_other_control_is_shown() {
        for (given, shown) in [
            ("plain\ttext\r\n", "plain\ttext\r\n"),
            ("\x1b[1;31mred\x1b[0m", "\x1b[1;31mred\x1b[0m"),
            ("\x1b[2J\x1b[H", "\u{241b}[2J\u{241b}[H"),
            ("\x1b]0;title\x07", "\u{241b}]0;title\u{2407}"),
            ("\x1bc\x08\x7f", "\u{241b}c\u{2408}\u{2421}"),
            ("\u{9b}2J", "\u{fffd}2J"),
            ("\x1b[6n", "\u{241b}[6n"),
            ("\x1b[?1049h", "\u{241b}[?1049h"),
        ] {
            assert_eq!(all(&[given.as_bytes()]), shown, "{given:?}");
        }
    }

    #[test]
    fn sequences_and_characters_may_be_cut_anywhere() {
        let text = "é\x1b[1;31m→\x1b[2J.".as_bytes();
        for at in 0..text.len() {
            let (first, second) = text.split_at(at);
            assert_eq!(all(&[first, second]), "é\x1b[1;31m→\u{241b}[2J.", "{at}");
        }
        assert_eq!(all(&[b"a\xff", b"\x9bm"]), "a\u{fffd}\u{fffd}m");
    }

    #[test]
    fn without_colours_none_pass() {
        assert_eq!(
            TerminalFilter::new(false).filter(b"\x1b[1mbold\x1b[m"),
            "bold"
        );
    }
}
