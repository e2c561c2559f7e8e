//! Who asks, and what they may do.

use crate::error::ServiceError;
use pennine_core::access::{Action, Grant, Refusal, Rights, may, place_name};
use pennine_core::dispatch::Reach;
use pennine_core::time::Moment;
use pennine_core::visibility::Visibility;
use pennine_store::pool::OwnedPool;
use pennine_store::token::Token;
use uuid::Uuid;

/// Who asks.
#[derive(Clone, Debug)]
pub struct Principal {
    pub token: Uuid,
    /// For the audit log.
    pub name: String,
    /// The token's role and place.
    pub grant: Grant,
    pub rights: Rights,
    /// What may be seen.
    pub sees: Visibility,
    /// When the token expires.
    pub expires_at: Option<Moment>,
    /// When the sign-in ends, where it is one.
    pub until: Option<Moment>,
}

/// The path of the place above another. A team or a project is changed by who may do that there, so that a team's operators
/// cannot raise its weight or limit.
pub fn place_above(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(above, _)| above)
}

impl Principal {
    pub fn of(token: Token, until: Option<Moment>) -> Self {
        let grant = Grant {
            role: token.role.0,
            place: token.place,
        };
        let rights = Rights {
            grants: vec![grant.clone()],
            purpose: token.purpose.map(|purpose| purpose.0),
        };
        Principal {
            token: token.id,
            name: token.name,
            sees: Visibility::of(&rights, Action::View),
            rights,
            grant,
            expires_at: token.expires_at.map(|at| at.0),
            until,
        }
    }

    /// Whether this is allowed at a place, given by its path; the root's is empty.
    pub fn may(&self, action: Action, place: &str) -> bool {
        may(&self.rights, action, place).is_ok()
    }

    /// The paths of the places of which everything may be seen, with what is below them; none where that is the whole
    /// installation.
    pub fn visible_places(&self) -> Option<Vec<String>> {
        self.sees.paths().map(<[String]>::to_vec)
    }

    /// Whether a pool may be seen, with its runners.
    pub fn sees_pool(&self, owned: &OwnedPool) -> bool {
        let reach = Reach {
            narrow_to: owned.pool.narrow_to.clone(),
            widen_to: owned.pool.widen_to.clone(),
            takes_untrusted: owned.pool.takes_untrusted,
        };
        self.sees.includes_pool(&owned.owner, &reach)
    }

    /// Refuses what is not allowed at a place, given by its path; the root's is empty.
    pub fn require(&self, action: Action, place: &str) -> Result<(), ServiceError> {
        let refusal = match may(&self.rights, action, place) {
            Ok(_) => return Ok(()),
            Err(refusal) => refusal,
        };
        let missing = match &refusal {
            Refusal::Purpose(_) => String::new(),
            Refusal::Role {
                held: Some(held), ..
            } => {
                format!("; the token {:?} has {held} there", self.name)
            }
            Refusal::Role { held: None, .. } => {
                let Grant { role, place } = &self.grant;
                format!(
                    "; the token {:?} has {role} at {}",
                    self.name,
                    place_name(place)
                )
            }
        };
        let error = ServiceError::forbidden(
            "role-needed",
            "The token does not permit this",
            format!("{refusal}{missing}"),
        );
        Err(error.remedy(format!(
            "use a token with that role, or ask an administrator of {}",
            place_name(place)
        )))
    }
}
