//! What a job asks of a runner: a small language of Pennine's own.
//!
//! ```
//! use pennine_core::fact::{FactValue, Facts, Subject};
//! use pennine_core::requirement::Requirement;
//!
//! let wanted: Requirement = "linux and gcc >= 12.2 and (gpu or bench)".parse().unwrap();
//! let facts = Facts::from([
//!     ("os".into(), FactValue::Text("linux".into())),
//!     ("gcc".into(), FactValue::Text("12.2.0".into())),
//! ]);
//! let runner = Subject::new("fell-03", "staithe", ["bench"], &facts);
//! assert!(wanted.satisfied_by(&runner));
//! ```
//!
//! Bare words are labels; facts compare with `= != < <= > >=`; `has NAME` asks that a fact is known; `not` binds
//! tightest, then `and`, then `or`. A comparison with a fact that is not known is false: so `gcc != 9` is false on a
//! runner without gcc, and `not (gcc = 9)` is true there.

mod explain;
mod parse;

pub(crate) use explain::nearest;
pub use explain::{ClauseCount, Explanation, Hint, NearMiss, Vocabulary, explain, hints};
pub use parse::{MAX_DEPTH, MAX_LENGTH, SyntaxError};

use crate::fact::{self, FactKind, FactValue, Subject};
use crate::size::{self, ByteSize};
use crate::version::Version;
use std::cmp::Ordering;
use std::fmt;

/// A parsed requirement in its normal form: folded to lower case, nested `and` and `or` flattened, their parts
/// sorted and without repeats. Two requirements that differ only in these are equal, and print the same.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Requirement(Option<Expr>);

/// One node of a requirement.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Expr {
    Label(String),
    Has(String),
    Compare {
        fact: String,
        op: Comparison,
        value: Literal,
    },
    Not(Box<Expr>),
    All(Vec<Expr>),
    Any(Vec<Expr>),
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Comparison {
    Equal,
    NotEqual,
    Less,
    AtMost,
    More,
    AtLeast,
}

impl Comparison {
    fn sign(self) -> &'static str {
        match self {
            Comparison::Equal => "=",
            Comparison::NotEqual => "!=",
            Comparison::Less => "<",
            Comparison::AtMost => "<=",
            Comparison::More => ">",
            Comparison::AtLeast => ">=",
        }
    }

    fn holds(self, ordering: Ordering) -> bool {
        match self {
            Comparison::Equal => ordering.is_eq(),
            Comparison::NotEqual => ordering.is_ne(),
            Comparison::Less => ordering.is_lt(),
            Comparison::AtMost => ordering.is_le(),
            Comparison::More => ordering.is_gt(),
            Comparison::AtLeast => ordering.is_ge(),
        }
    }
}

/// The right side of a comparison, as written (folded), with what it was found to be.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
struct Literal {
    text: String,
    size: Option<ByteSize>,
    count: Option<u64>,
}

impl Literal {
    /// What a text says beside a fact of this kind. Sizes with blanks between figure and unit are the same as without: only
    /// as words do the two differ.
    fn of(kind: FactKind, text: String) -> Self {
        if matches!(kind, FactKind::Word) {
            let (size, count) = (None, None);
            return Literal { text, size, count };
        }
        let size: Option<ByteSize> = text.parse().ok();
        let spelled = size.and_then(|_| size::spelled(&text));
        Literal {
            size,
            count: text.parse().ok(),
            text: spelled.map_or(text, |spelled| spelled.to_ascii_lowercase()),
        }
    }
}

impl Requirement {
    /// The requirement that asks for nothing: any runner whose pool takes unlabelled work.
    pub const ANY: Requirement = Requirement(None);

    /// The requirement that every runner satisfies.
    pub fn any() -> Requirement {
        Requirement(None)
    }

    /// Whether it asks for nothing.
    pub fn is_any(&self) -> bool {
        self.0.is_none()
    }

    /// Whether the runner satisfies it. The pool's `open` is not asked here; dispatch asks it for [`Self::is_any`].
    pub fn satisfied_by(&self, subject: &Subject) -> bool {
        self.0.as_ref().is_none_or(|expr| expr.holds(subject))
    }

    /// Whether it asks for any of these facts.
    pub fn names(&self, facts: &[&str]) -> bool {
        self.0.as_ref().is_some_and(|expr| expr.names(facts))
    }

    /// The parts that must all hold: the operands of an outermost `and`, or the whole.
    fn clauses(&self) -> &[Expr] {
        match &self.0 {
            None => &[],
            Some(Expr::All(parts)) => parts,
            Some(whole) => std::slice::from_ref(whole),
        }
    }
}

impl Expr {
    fn holds(&self, subject: &Subject) -> bool {
        match self {
            Expr::Label(word) => subject.has_label(word),
            Expr::Has(name) => subject.fact(name).is_some(),
            Expr::Compare { fact, op, value } => subject
                .fact(fact)
                .is_some_and(|found| compare(fact, found, *op, value)),
            Expr::Not(inner) => !inner.holds(subject),
            Expr::All(parts) => parts.iter().all(|part| part.holds(subject)),
            Expr::Any(parts) => parts.iter().any(|part| part.holds(subject)),
        }
    }

    fn names(&self, facts: &[&str]) -> bool {
        match self {
            Expr::Label(_) => false,
            Expr::Has(fact) | Expr::Compare { fact, .. } => facts.contains(&fact.as_str()),
            Expr::Not(inner) => inner.names(facts),
            Expr::All(parts) | Expr::Any(parts) => parts.iter().any(|part| part.names(facts)),
        }
    }

    /// Sorts, flattens and drops repeats, all the way down.
    fn normal(self) -> Expr {
        match self {
            Expr::Not(inner) => match inner.normal() {
                Expr::Not(twice) => *twice,
                other => Expr::Not(Box::new(other)),
            },
            Expr::All(parts) => gather(parts, Expr::All, |expr| match expr {
                Expr::All(inner) => Ok(inner),
                other => Err(other),
            }),
            Expr::Any(parts) => gather(parts, Expr::Any, |expr| match expr {
                Expr::Any(inner) => Ok(inner),
                other => Err(other),
            }),
            leaf => leaf,
        }
    }
}

fn gather(
    parts: Vec<Expr>,
    wrap: fn(Vec<Expr>) -> Expr,
    open: fn(Expr) -> Result<Vec<Expr>, Expr>,
) -> Expr {
    let mut flat = Vec::with_capacity(parts.len());
    for part in parts {
        match open(part.normal()) {
            Ok(inner) => flat.extend(inner),
            Err(other) => flat.push(other),
        }
    }
    flat.sort();
    flat.dedup();
    if flat.len() == 1 {
        flat.remove(0)
    } else {
        wrap(flat)
    }
}

fn compare(fact: &str, found: &FactValue, op: Comparison, wanted: &Literal) -> bool {
    let ordering = match fact::kind(fact) {
        FactKind::Count => fact::as_count(found)
            .zip(wanted.count)
            .map(|(a, b)| a.cmp(&b)),
        FactKind::Size => fact::as_size(found)
            .zip(wanted.size)
            .map(|(a, b)| a.cmp(&b)),
        FactKind::Word => return words(&found.to_string(), op, &wanted.text),
        FactKind::Open => match (fact::as_version(found), wanted.text.parse::<Version>()) {
            (Some(found), Ok(wanted)) => return versions(&found, op, &wanted),
            _ => match (fact::as_size(found), wanted.size) {
                (Some(a), Some(b)) => Some(a.cmp(&b)),
                _ => return words(&found.to_string(), op, &wanted.text),
            },
        },
    };
    ordering.is_some_and(|ordering| op.holds(ordering))
}

/// Words are equal or they are not; there is no order among them.
fn words(found: &str, op: Comparison, wanted: &str) -> bool {
    match op {
        Comparison::Equal => found == wanted,
        Comparison::NotEqual => found != wanted,
        _ => false,
    }
}

/// `gcc = 12` means any 12, so equality asks whether the found version begins with the wanted parts.
fn versions(found: &Version, op: Comparison, wanted: &Version) -> bool {
    match op {
        Comparison::Equal => found.is_a(wanted),
        Comparison::NotEqual => !found.is_a(wanted),
        Comparison::AtMost => found.is_a(wanted) || found < wanted,
        Comparison::More => !found.is_a(wanted) && found > wanted,
        Comparison::Less | Comparison::AtLeast => op.holds(found.cmp(wanted)),
    }
}

impl fmt::Display for Requirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.as_ref().map_or(Ok(()), |expr| expr.write(f, 0))
    }
}

impl fmt::Display for Expr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write(f, 0)
    }
}

impl Expr {
    /// Writes it with brackets only where `tightness` (0 or, 1 and, 2 not) needs them.
    fn write(&self, f: &mut fmt::Formatter<'_>, tightness: u8) -> fmt::Result {
        match self {
            Expr::Label(word) => f.write_str(word),
            Expr::Has(name) => write!(f, "has {name}"),
            Expr::Compare { fact, op, value } => write!(f, "{fact} {} {value}", op.sign()),
            Expr::Not(inner) => {
                f.write_str("not ")?;
                inner.write(f, 3)
            }
            Expr::All(parts) => join(f, parts, " and ", 2, tightness >= 2),
            Expr::Any(parts) => join(f, parts, " or ", 1, tightness >= 1),
        }
    }
}

fn join(
    f: &mut fmt::Formatter<'_>,
    parts: &[Expr],
    word: &str,
    inner: u8,
    bracket: bool,
) -> fmt::Result {
    if bracket {
        f.write_str("(")?;
    }
    for (i, part) in parts.iter().enumerate() {
        if i > 0 {
            f.write_str(word)?;
        }
        part.write(f, inner)?;
    }
    if bracket { f.write_str(")") } else { Ok(()) }
}

impl fmt::Display for Literal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let (Some(_), Some(size)) = (self.size, size::spelled(&self.text)) {
            // Folded for comparison; units are written in their usual case.
            f.write_str(&size)
        } else if parse::is_plain(&self.text) {
            f.write_str(&self.text)
        } else {
            write!(f, "\"{}\"", self.text)
        }
    }
}

#[cfg(test)]
mod tests;
