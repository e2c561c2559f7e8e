//! Who asks, and what they may do.

use crate::error::ServiceError;
use pennine_core::access::{
    Action, ActorKind, Grant, Refusal, Rights, may, may_anywhere, place_name,
};
use pennine_core::dispatch::Reach;
use pennine_core::id::PersonId;
use pennine_core::time::Moment;
use pennine_core::visibility::Visibility;
use pennine_store::audit::{Actor, Permit};
use pennine_store::person::Person;
use pennine_store::pool::OwnedPool;
use pennine_store::sign_in::SignIn;
use pennine_store::token::Token;
use std::net::IpAddr;
use uuid::Uuid;

/// Who asks: a token, or a person who is signed in at the console.
#[derive(Clone, Debug)]
pub struct Principal {
    /// The token's or the person's.
    pub id: Uuid,
    /// The token's or the person's.
    pub name: String,
    /// Who it is for the audit log, and from where the request comes.
    pub actor: Actor,
    /// The person's name for others; empty for a token.
    pub full_name: String,
    /// The person who is signed in, or whose own token this is.
    pub person: Option<PersonId>,
    /// The sign-in at the console.
    pub session: Option<Uuid>,
    pub rights: Rights,
    /// What may be seen.
    pub sees: Visibility,
    /// When the token expires.
    pub expires_at: Option<Moment>,
    /// When the sign-in ends, where it is one.
    pub until: Option<Moment>,
}

/// From where a request comes.
#[derive(Clone, Debug, Default)]
pub struct Origin {
    pub address: Option<IpAddr>,
    /// The request's id.
    pub request: Option<String>,
    /// What the client calls itself.
    pub user_agent: String,
}

impl Origin {
    /// The address as it is recorded.
    pub fn shown(&self) -> Option<String> {
        self.address
            .map(|address| address.to_canonical().to_string())
    }
}

/// The path of the place above another. A team or a project is changed by who may do that there, so that a team's operators
/// cannot raise its weight or limit.
pub fn place_above(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(above, _)| above)
}

impl Principal {
    /// The principal of a token. A person's own token permits what its limit and the person's roles both permit.
    pub fn of_token(token: Token, session: Option<&SignIn>) -> Self {
        let grant = Grant {
            role: token.role.0,
            place: token.place,
        };
        let purpose = token.purpose.map(|purpose| purpose.0);
        let rights = match token.owner_id {
            None => Rights {
                grants: vec![grant],
                purpose,
            },
            Some(_) => Rights {
                grants: token.owner_granted.grants(),
                purpose,
            }
            .limited_to(&grant),
        };
        Principal {
            id: token.id,
            actor: Actor::named(ActorKind::Token, &token.name),
            name: token.name,
            full_name: String::new(),
            person: token.owner_id.map(|id| id.0),
            session: session.map(|session| session.id),
            sees: Visibility::of(&rights, Action::View),
            rights,
            expires_at: token.expires_at.map(|at| at.0),
            until: session.map(|session| session.expires_at.0),
        }
    }

    /// A person who is signed in.
    pub fn of_person(person: Person, session: &SignIn) -> Self {
        let rights = Rights {
            grants: person.granted.grants(),
            purpose: None,
        };
        Principal {
            id: person.id.0.0,
            actor: Actor::named(ActorKind::Person, &person.name),
            name: person.name,
            full_name: person.full_name,
            person: Some(person.id.0),
            session: Some(session.id),
            sees: Visibility::of(&rights, Action::View),
            rights,
            expires_at: None,
            until: Some(session.expires_at.0),
        }
    }

    /// The person who is signed in, where this is no token.
    pub fn signed_in_person(&self) -> Option<PersonId> {
        self.person.filter(|person| person.0 == self.id)
    }

    /// Whether this is still valid at a moment, as far as its own times tell.
    pub fn holds_at(&self, now: Moment) -> bool {
        let ends = [self.expires_at, self.until];
        ends.into_iter().flatten().all(|end| end > now)
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
            // A project that is not approved yet sees what it could use.
            ..Reach::default()
        };
        self.sees.includes_pool(&owned.owner, &reach)
    }

    /// Refuses what is not allowed at a place, given by its path; the root's is empty. Returns the permit for the audit row.
    pub fn require(&self, action: Action, place: &str) -> Result<Permit, ServiceError> {
        match may(&self.rights, action, place) {
            Ok(_) => Ok(self.actor.clone().at(place)),
            Err(refusal) => Err(self.refused(refusal)),
        }
    }

    /// Returns the permit of an action on the principal's own account.
    pub fn own_permit(&self) -> Permit {
        self.actor.clone().at("")
    }

    /// Refuses what is not allowed at any place.
    pub fn require_anywhere(&self, action: Action) -> Result<(), ServiceError> {
        may_anywhere(&self.rights, action).map_err(|refusal| self.refused(refusal))
    }

    /// What the audit log and messages call this.
    fn called(&self) -> String {
        match self.signed_in_person() {
            Some(_) => self.name.clone(),
            None => format!("the token {:?}", self.name),
        }
    }

    fn refused(&self, refusal: Refusal) -> ServiceError {
        let called = self.called();
        let (missing, place) = match &refusal {
            Refusal::Purpose(_) => (String::new(), ""),
            Refusal::Role {
                held: Some(held),
                place,
                ..
            } => (format!("; {called} has {held} there"), place.as_str()),
            Refusal::Role {
                held: None, place, ..
            } => {
                let grants = self.rights.grants.iter();
                let held: Vec<String> = grants
                    .map(|grant| format!("{} at {}", grant.role, place_name(&grant.place)))
                    .collect();
                let held = match held.as_slice() {
                    [] => "no role".to_owned(),
                    held => held.join(", "),
                };
                (format!("; {called} has {held}"), place.as_str())
            }
        };
        let error = ServiceError::forbidden(
            "role-needed",
            "This is not permitted",
            format!("{refusal}{missing}"),
        );
        error.remedy(format!(
            "ask an administrator of {} for that role, or use a token that has it",
            place_name(place)
        ))
    }
}
