//! What names, labels, variables and reasons may be.

use crate::error::{Result, ServiceError};
use pennine_wire::runner_protocol::{OLDEST_PROTOCOL, PROTOCOL};

/// The longest name of anything, in characters.
pub const NAME_LENGTH: usize = 63;

/// Checks the name of something to be made.
pub fn check_name(field: &str, name: &str) -> Result<(), ServiceError> {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    if name.is_empty()
        || name.len() > NAME_LENGTH
        || !name.chars().all(fits)
        || name.starts_with(['-', '.'])
    {
        return Err(ServiceError::invalid(
            field,
            format!(
                "a name is 1 to {NAME_LENGTH} letters, digits, -, _ or . and begins with a letter or a digit; got {name:?}"
            ),
        ));
    }
    Ok(())
}

/// Checks labels and folds them to lower case.
pub fn check_labels(field: &str, labels: &[String]) -> Result<Vec<String>, ServiceError> {
    if labels.len() > 64 {
        return Err(ServiceError::invalid(field, "at most 64 labels"));
    }
    let mut folded = Vec::with_capacity(labels.len());
    for (i, label) in labels.iter().enumerate() {
        check_name(&format!("{field}[{i}]"), label)?;
        let label = label.to_lowercase();
        if ["and", "or", "not", "has"].contains(&label.as_str()) {
            let message =
                format!("{label} is a word of the requirement language and cannot be a label");
            return Err(ServiceError::invalid(&format!("{field}[{i}]"), message));
        }
        if !folded.contains(&label) {
            folded.push(label);
        }
    }
    Ok(folded)
}

/// Checks an environment variable.
pub fn check_variable(field: &str, name: &str, value: &str) -> Result<(), ServiceError> {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
    if name.is_empty() || !name.chars().all(fits) || name.starts_with(|c: char| c.is_ascii_digit())
    {
        let message = format!(
            "invalid variable name {name:?}: use letters, digits and _, not beginning with a digit"
        );
        return Err(ServiceError::invalid(field, message));
    }
    if value.contains('\0') {
        return Err(ServiceError::invalid(
            &format!("{field}.{name}"),
            "the value contains a NUL byte",
        ));
    }
    Ok(())
}

/// Checks the reason of an action.
pub fn check_reason(reason: &str) -> Result<(), ServiceError> {
    if reason.trim().is_empty() || reason.len() > 500 {
        let message = "give a reason of at most 500 bytes; it is recorded";
        return Err(ServiceError::invalid("reason", message));
    }
    Ok(())
}

/// Checks a description.
pub fn check_description(description: &str) -> Result<(), ServiceError> {
    if description.len() > 500 {
        return Err(ServiceError::invalid(
            "description",
            "a description has at most 500 bytes",
        ));
    }
    Ok(())
}

/// The most slots that one runner may have.
const MOST_SLOTS: u32 = 256;

/// The most characters that are kept of the version of a runner's program.
pub const PROGRAM_TEXT: usize = 64;

/// Why a runner takes no jobs: the first so many characters.
pub const REASON_TEXT: usize = 300;
/// The most characters that are kept of the message with which an attempt ends.
pub const MESSAGE_TEXT: usize = 2000;

pub fn check_protocol(number: u32) -> Result<()> {
    if (OLDEST_PROTOCOL..=PROTOCOL).contains(&number) {
        return Ok(());
    }
    let message = format!(
        "the runner speaks protocol {number}; this service supports {OLDEST_PROTOCOL} to {PROTOCOL}"
    );
    let remedy = if number > PROTOCOL {
        "update the service"
    } else {
        "update pennine-runner on this machine"
    };
    Err(
        ServiceError::conflict("protocol-not-spoken", "Unsupported protocol", message)
            .remedy(remedy),
    )
}

/// Returns the beginning of a text that a runner reports, at most `most` characters.
pub fn shortened(text: &str, most: usize) -> &str {
    text.char_indices()
        .nth(most)
        .and_then(|(end, _)| text.get(..end))
        .unwrap_or(text)
}

pub fn check_slots(slots: u32) -> Result<()> {
    if (1..=MOST_SLOTS).contains(&slots) {
        return Ok(());
    }
    Err(ServiceError::invalid(
        "slots",
        format!("a runner has 1 to {MOST_SLOTS} slots"),
    ))
}
