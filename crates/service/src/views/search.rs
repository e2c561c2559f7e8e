//! The text that a list is searched for.

use crate::error::{Result, ServiceError};

/// The most bytes of a search text.
const LIMIT: usize = 200;

/// Returns the text to search for, without blanks around it; empty where none is given.
///
/// Errors: a text that is too long.
pub fn text(given: Option<&str>) -> Result<&str> {
    let text = given.map(str::trim).unwrap_or_default();
    if text.len() > LIMIT {
        let message = format!("a search text has at most {LIMIT} bytes");
        return Err(ServiceError::invalid("search", message));
    }
    Ok(text)
}
