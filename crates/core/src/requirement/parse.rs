//! From text to a requirement, with errors that point at the column.

use super::{Comparison, Expr, Literal, Requirement};
use crate::fact::{self, FactKind};
use std::str::FromStr;

/// The longest requirement, in bytes.
pub const MAX_LENGTH: usize = 2000;
/// A normal form is shorter than so many times the text.
const LONGEST_GROWTH: usize = 4;
/// How deep brackets and `not` may nest.
pub const MAX_DEPTH: usize = 32;

/// A requirement that cannot be read.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("column {column}: {message}")]
pub struct SyntaxError {
    /// Where, in characters, counted from 1.
    pub column: usize,
    /// What was found and what was expected.
    pub message: String,
}

#[derive(Clone, PartialEq, Debug)]
enum Token {
    Word(String),
    Quoted(String),
    Comparison(Comparison),
    Open,
    Close,
}

const EXPECTED_TERM: &str = "expected a label, a comparison such as mem >= 16GiB, has, not or (";

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '+' | ':' | '/')
}

/// Whether the text can stand without quotes.
pub(super) fn is_plain(text: &str) -> bool {
    !text.is_empty() && text.chars().all(is_word) && !is_keyword(text)
}

fn is_keyword(word: &str) -> bool {
    matches!(word, "and" | "or" | "not" | "has")
}

fn fail<T>(column: usize, message: impl Into<String>) -> Result<T, SyntaxError> {
    Err(SyntaxError {
        column,
        message: message.into(),
    })
}

fn tokens(text: &str) -> Result<Vec<(usize, Token)>, SyntaxError> {
    let mut found = Vec::new();
    let mut chars = text.chars().enumerate().peekable();
    while let Some((at, c)) = chars.next() {
        let column = at + 1;
        let mut followed_by_equals = || chars.next_if(|(_, c)| *c == '=').is_some();
        let token = match c {
            c if c.is_whitespace() => continue,
            '(' => Token::Open,
            ')' => Token::Close,
            '=' => {
                if followed_by_equals() {
                    return fail(
                        column,
                        "found ==; a comparison for equality is written with one =",
                    );
                }
                Token::Comparison(Comparison::Equal)
            }
            '!' if followed_by_equals() => Token::Comparison(Comparison::NotEqual),
            '<' => Token::Comparison(if followed_by_equals() {
                Comparison::AtMost
            } else {
                Comparison::Less
            }),
            '>' => Token::Comparison(if followed_by_equals() {
                Comparison::AtLeast
            } else {
                Comparison::More
            }),
            '"' => {
                let mut inner = String::new();
                loop {
                    match chars.next() {
                        Some((_, '"')) => break,
                        Some((_, c)) => inner.extend(c.to_lowercase()),
                        None => return fail(column, "the quotation that begins here has no end"),
                    }
                }
                Token::Quoted(inner)
            }
            c if is_word(c) => {
                let mut word: String = c.to_lowercase().collect();
                while let Some((_, c)) = chars.next_if(|(_, c)| is_word(*c)) {
                    word.extend(c.to_lowercase());
                }
                Token::Word(word)
            }
            '!' => return fail(column, "found !; write not, or != to compare"),
            '&' => return fail(column, "found &; write and"),
            '|' => return fail(column, "found |; write or"),
            ',' => return fail(column, "found a comma; write and between parts"),
            other => {
                return fail(
                    column,
                    format!("found {other:?}, which has no meaning here; {EXPECTED_TERM}"),
                );
            }
        };
        found.push((column, token));
    }
    Ok(found)
}

struct Parser {
    tokens: std::iter::Peekable<std::vec::IntoIter<(usize, Token)>>,
    end: usize,
}

/// What is stored is the normal form, so it has to be readable: spaces and brackets in it can make it longer than the text.
fn check_normal_form(text: &str, requirement: &Requirement) -> Result<(), SyntaxError> {
    if text.len() * LONGEST_GROWTH <= MAX_LENGTH {
        return Ok(());
    }
    let length = requirement.to_string().len();
    if length <= MAX_LENGTH {
        return Ok(());
    }
    fail(
        1,
        format!(
            "a requirement has at most {MAX_LENGTH} bytes in its normal form; this one has {length}"
        ),
    )
}

impl FromStr for Requirement {
    type Err = SyntaxError;

    fn from_str(text: &str) -> Result<Self, SyntaxError> {
        if text.len() > MAX_LENGTH {
            return fail(
                1,
                format!(
                    "a requirement has at most {MAX_LENGTH} bytes; this one has {}",
                    text.len()
                ),
            );
        }
        let tokens = tokens(text)?;
        if tokens.is_empty() {
            return Ok(Requirement::ANY);
        }
        let mut parser = Parser {
            tokens: tokens.into_iter().peekable(),
            end: text.chars().count() + 1,
        };
        let expr = parser.any(0)?;
        match parser.tokens.next() {
            None => {
                let requirement = Requirement(Some(expr.normal()));
                check_normal_form(text, &requirement)?;
                Ok(requirement)
            }
            Some((column, Token::Close)) => fail(column, "this ) closes nothing"),
            Some((column, Token::Word(word))) => fail(
                column,
                format!("found {word}; expected and or or between two parts"),
            ),
            Some((column, Token::Comparison(op))) => fail(
                column,
                format!(
                    "found {}; a comparison is NAME {} VALUE",
                    op.sign(),
                    op.sign()
                ),
            ),
            Some((column, _)) => fail(column, "expected and, or, or the end"),
        }
    }
}

impl Parser {
    fn next_is(&mut self, keyword: &str) -> bool {
        self.tokens
            .next_if(|(_, token)| matches!(token, Token::Word(word) if word == keyword))
            .is_some()
    }

    fn any(&mut self, depth: usize) -> Result<Expr, SyntaxError> {
        let mut parts = vec![self.all(depth)?];
        while self.next_is("or") {
            parts.push(self.all(depth)?);
        }
        Ok(Expr::Any(parts))
    }

    fn all(&mut self, depth: usize) -> Result<Expr, SyntaxError> {
        let mut parts = vec![self.term(depth)?];
        while self.next_is("and") {
            parts.push(self.term(depth)?);
        }
        Ok(Expr::All(parts))
    }

    fn term(&mut self, depth: usize) -> Result<Expr, SyntaxError> {
        let Some((column, token)) = self.tokens.next() else {
            return fail(
                self.end,
                format!("the requirement ends here; {EXPECTED_TERM}"),
            );
        };
        if depth >= MAX_DEPTH {
            return fail(column, format!("nested deeper than {MAX_DEPTH} levels"));
        }
        match token {
            Token::Open => {
                let inner = self.any(depth + 1)?;
                match self.tokens.next() {
                    Some((_, Token::Close)) => Ok(inner),
                    Some((at, _)) => fail(at, "expected and, or, or )"),
                    None => fail(self.end, format!("the ( at column {column} is not closed")),
                }
            }
            Token::Word(word) if word == "not" => Ok(Expr::Not(Box::new(self.term(depth + 1)?))),
            Token::Word(word) if word == "has" => match self.tokens.next() {
                Some((_, Token::Word(name))) if !is_keyword(&name) => Ok(Expr::Has(name)),
                Some((at, _)) => fail(
                    at,
                    "expected the name of a fact after has, such as has python",
                ),
                None => fail(
                    self.end,
                    "expected the name of a fact after has, such as has python",
                ),
            },
            Token::Word(word) if is_keyword(&word) => {
                fail(column, format!("found {word}; {EXPECTED_TERM}"))
            }
            Token::Word(word) => match self
                .tokens
                .next_if(|(_, token)| matches!(token, Token::Comparison(_)))
            {
                Some((at, Token::Comparison(op))) => self.comparison(word, at, op),
                _ => Ok(Expr::Label(word)),
            },
            Token::Quoted(word) => fail(
                column,
                format!("found \"{word}\"; a label is written without quotation marks"),
            ),
            Token::Close => fail(column, format!("found ); {EXPECTED_TERM}")),
            Token::Comparison(op) => fail(
                column,
                format!(
                    "found {}; its left side, the name of a fact, is missing",
                    op.sign()
                ),
            ),
        }
    }

    fn comparison(&mut self, fact: String, at: usize, op: Comparison) -> Result<Expr, SyntaxError> {
        let (column, text) = match self.tokens.next() {
            Some((column, Token::Quoted(text))) => (column, text),
            Some((column, Token::Word(text))) if !is_keyword(&text) => (column, text),
            Some((column, _)) => {
                return fail(
                    column,
                    format!("expected a value after {} {}", fact, op.sign()),
                );
            }
            None => {
                return fail(
                    self.end,
                    format!("expected a value after {} {}", fact, op.sign()),
                );
            }
        };
        let value = Literal::of(fact::kind(&fact), text);
        let ordered = !matches!(op, Comparison::Equal | Comparison::NotEqual);
        match fact::kind(&fact) {
            FactKind::Count if value.count.is_none() => fail(
                column,
                format!("{fact} is a whole number, such as 8; found {}", value.text),
            ),
            FactKind::Size if value.size.is_none() => fail(
                column,
                format!(
                    "{fact} is a size with a unit (KiB MiB GiB TiB, KB MB GB TB), such as 16GiB; found {}",
                    value.text
                ),
            ),
            FactKind::Word if ordered => fail(
                at,
                format!("{fact} is a word: it is equal (=) or not (!=), but has no order"),
            ),
            _ => Ok(Expr::Compare { fact, op, value }),
        }
    }
}
