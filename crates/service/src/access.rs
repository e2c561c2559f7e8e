//! Who asks, and what they may do.

use crate::error::ServiceError;
use pennine_core::time::Moment;
use pennine_store::token::Token;
use uuid::Uuid;

/// Roles. Each includes the ones before it.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Role {
    /// Looks.
    Viewer,
    /// Submits and cancels jobs.
    Submitter,
    /// Makes pools and tickets, pauses runners.
    Operator,
    /// Everything.
    Admin,
}

impl Role {
    fn of(word: &str) -> Role {
        match word {
            "admin" => Role::Admin,
            "operator" => Role::Operator,
            "submitter" => Role::Submitter,
            _ => Role::Viewer,
        }
    }
}

/// Who asks.
#[derive(Clone, Debug)]
pub struct Principal {
    pub token: Uuid,
    /// For the audit log.
    pub name: String,
    pub role: Role,
    pub role_word: String,
    /// When the sign-in ends, where it is one.
    pub until: Option<Moment>,
}

impl Principal {
    pub fn of(token: Token, until: Option<Moment>) -> Self {
        Principal {
            token: token.id,
            name: token.name,
            role: Role::of(&token.role),
            role_word: token.role,
            until,
        }
    }

    /// Refuses what the role does not include.
    pub fn require(&self, role: Role) -> Result<(), ServiceError> {
        if self.role >= role {
            return Ok(());
        }
        let needed = format!("{role:?}").to_lowercase();
        Err(ServiceError::forbidden(
            "role-needed",
            "The token does not permit this",
            format!(
                "this needs the role {needed}; the token {:?} has {}",
                self.name, self.role_word
            ),
        ))
    }
}
