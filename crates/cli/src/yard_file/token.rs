//! Tokens in a yard file: those of programs, which belong to a place. Their secrets are not in it.

use super::invalid::{FieldError, same_time};
use crate::view;
use pennine_core::access::{Purpose, Role};
use pennine_core::time::Micros;
use pennine_wire::{NewToken, Token, TokenChange};
use serde::{Deserialize, Serialize};

/// A token.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TokenEntry {
    pub role: Role,
    /// The path of a team or project where the role is valid; the whole installation if omitted.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub at: String,
    /// What it is limited to.
    #[serde(rename = "for", default, skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
    /// How long it is valid from one rotation to the next.
    #[serde(default = "usual_time")]
    pub valid_for: String,
}

fn usual_time() -> String {
    "90d".to_owned()
}

impl TokenEntry {
    /// As the service has it. None for what no file describes: a person's own token, one that is not valid any more, and one that
    /// never expires.
    pub fn of(token: &Token) -> Option<TokenEntry> {
        let expires = token.expires_at?;
        if token.owner.is_some() || token.state != "valid" {
            return None;
        }
        Some(TokenEntry {
            role: token.role,
            at: token.place.clone(),
            purpose: token.purpose,
            valid_for: view::exact(expires.since(token.renewed_at).into()),
        })
    }

    /// Checked, and written in its usual form.
    ///
    /// # Errors
    /// Where the time cannot be read.
    pub fn settle(&mut self, name: &str) -> Result<(), FieldError> {
        same_time(&format!("token {name}: valid_for"), &mut self.valid_for)
    }

    /// What was settled can be read.
    fn lifetime(&self) -> Option<Micros> {
        view::time(&self.valid_for).ok().map(Micros::from)
    }

    /// As the service is asked for it.
    pub fn new_token(&self, name: &str) -> NewToken {
        NewToken {
            name: name.to_owned(),
            role: self.role,
            place: self.at.clone(),
            purpose: self.purpose,
            lifetime_us: self.lifetime(),
            is_own: false,
        }
    }

    /// As the service is asked to change it. The lifetime is left out where it stays, because it would have to be in the future.
    pub fn change(&self, is: &TokenEntry) -> TokenChange {
        TokenChange {
            role: Some(self.role),
            place: Some(self.at.clone()),
            purpose: Some(self.purpose),
            lifetime_us: self.lifetime().filter(|_| self.valid_for != is.valid_for),
        }
    }
}
