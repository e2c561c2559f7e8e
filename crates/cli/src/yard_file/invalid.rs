//! What makes no sense in a yard file.

use crate::view;

/// A yard file that makes no sense: where, and what is wrong.
#[derive(Debug, thiserror::Error)]
#[error("{place}: {message}")]
pub struct FieldError {
    pub place: String,
    pub message: String,
}

pub fn wrong(place: &str, message: impl Into<String>) -> FieldError {
    FieldError {
        place: place.to_owned(),
        message: message.into(),
    }
}

/// A time in its usual form, so that `90s` and `1m 30s` are the same.
pub fn same_time(place: &str, text: &mut String) -> Result<(), FieldError> {
    let time = view::time(text).map_err(|message| wrong(place, message))?;
    *text = view::exact(time.into());
    Ok(())
}
