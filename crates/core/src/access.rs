//! Who may do what where: roles, the places at which they are granted, and the one function that decides.
//!
//! The tree of places is the root, teams and projects. A role that is granted at a place is valid there and at everything below it.
//! Each thing belongs to a place: a job to its project, a pool and its runners to the pool's owner, and what all teams share, such
//! as suppliers and seats, to the root.

use crate::dispatch::below;
use crate::lifecycle::words;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A role. Each includes the ones before it.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Sees.
    Viewer,
    /// Submits and cancels jobs.
    Submitter,
    /// Manages pools, runners and machines, teams and projects.
    Operator,
    /// Manages access, suppliers and what leaves the installation.
    Admin,
}

words!(Role {
    Viewer = "viewer",
    Submitter = "submitter",
    Operator = "operator",
    Admin = "admin",
});

/// Gives the actions their words, roles and descriptions: one line for each, so that none is without.
macro_rules! actions {
    ($($variant:ident = $word:literal, $role:ident, $purposes:expr, $what:literal;)+) => {
        /// What a person or a program may do at a place.
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
        pub enum Action {
            $(#[doc = $what] $variant,)+
        }

        impl Action {
            /// Every action.
            pub const ALL: &'static [Action] = &[$(Action::$variant),+];

            /// The word as it is shown and recorded.
            pub fn word(self) -> &'static str {
                match self { $(Action::$variant => $word),+ }
            }

            /// The least role that includes the action.
            pub fn role(self) -> Role {
                match self { $(Action::$variant => Role::$role),+ }
            }

            /// What the action is, for people.
            pub fn description(self) -> &'static str {
                match self { $(Action::$variant => $what),+ }
            }

            /// The purposes to which a token may be limited that include the action.
            fn purposes(self) -> &'static [Purpose] {
                match self { $(Action::$variant => &$purposes),+ }
            }
        }
    };
}

use Purpose::{Metrics, Read, RunnerTickets, Submit};

actions! {
    View = "view", Viewer, [Read, Submit, RunnerTickets],
        "See a place: its jobs, their logs and results, its pools with runners and machines, its measures and alerts";
    ReadMetrics = "read-metrics", Viewer, [Read, Metrics], "Read the metrics for monitoring systems";
    SubmitJob = "submit-job", Submitter, [Submit], "Submit a job, or retry one";
    CancelJob = "cancel-job", Submitter, [Submit], "Cancel a job";
    MoveJob = "move-job", Submitter, [Submit], "Move a job to another band";
    AddPlace = "add-place", Operator, [], "Add a team or a project";
    ChangePlace = "change-place", Operator, [], "Change a team or project below the place: its weight, limit, give-up time or team";
    RemovePlace = "remove-place", Operator, [], "Remove a team or a project below the place that is empty";
    ManagePool = "manage-pool", Operator, [], "Add, change and remove a pool, its reach and its policy";
    ApproveUse = "approve-use", Operator, [], "Approve the first use of a pool by a project, or by one job";
    ManageTickets = "manage-tickets", Operator, [RunnerTickets], "Make and revoke tickets with which runners join a pool";
    ManageRunner = "manage-runner", Operator, [],
        "Pause, drain, change, retire and take over a runner; schedule maintenance";
    ManageMachines = "manage-machines", Operator, [], "Order and stop machines of a pool";
    ManageTarget = "manage-target", Operator, [], "Add, change and remove a target";
    ManageVariables = "manage-variables", Operator, [], "Set and remove variables of the jobs of a place or a pool";
    AcknowledgeAlert = "acknowledge-alert", Operator, [], "Acknowledge an alert";
    ChangeThresholds = "change-thresholds", Operator, [], "Change the thresholds of alerts";
    ManageSeats = "manage-seats", Operator, [], "Add, change and remove seats";
    CheckSupplier = "check-supplier", Operator, [], "Check a supplier with a trial machine";
    ApplyYardFile = "apply-yard-file", Operator, [], "Export, compare and apply the yard file";
    ReadDeliveries = "read-deliveries", Operator, [], "See alert subscribers and repeat deliveries to them";
    ManageSubscribers = "manage-subscribers", Admin, [], "Add, change and remove alert subscribers";
    ManageSecrets = "manage-secrets", Admin, [], "Set and remove secrets of the jobs of a place";
    ManageSupplier = "manage-supplier", Admin, [], "Add, change and remove a supplier";
    ImportHistory = "import-history", Admin, [], "Import history from a file";
    ReadAudit = "read-audit", Admin, [], "Read the audit log of the place";
    ManageAccess = "manage-access", Admin, [], "Add people, grant roles, and make, rotate and revoke tokens";
}

/// The kind of the actor of an audit log entry.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum ActorKind {
    /// A person who is signed in.
    Person,
    /// A token, also a person's own.
    Token,
    /// A runner, or the machine that becomes one.
    Runner,
    /// The service itself, or a client that is not signed in.
    Service,
}

words!(ActorKind {
    Person = "person",
    Token = "token",
    Runner = "runner",
    Service = "service",
});

/// A limit on what a token is for, beside its role.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// Makes and revokes tickets of runners.
    RunnerTickets,
    /// Submits, cancels and moves jobs.
    Submit,
    /// Sees.
    Read,
    /// Reads the metrics.
    Metrics,
}

words!(Purpose {
    RunnerTickets = "runner-tickets",
    Submit = "submit",
    Read = "read",
    Metrics = "metrics",
});

/// A role at a place.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema)]
pub struct Grant {
    pub role: Role,
    /// The place's path; empty for the root.
    pub place: String,
}

impl Grant {
    /// A role at the root.
    pub fn at_root(role: Role) -> Grant {
        Grant {
            role,
            place: String::new(),
        }
    }

    /// Whether the grant includes all of another: its role and its place.
    pub fn includes(&self, other: &Grant) -> bool {
        self.role >= other.role && below(&self.place, &other.place)
    }
}

/// The grants of a person or a token, as [`may`] needs them.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Rights {
    pub grants: Vec<Grant>,
    /// The only purpose of the token that is used, where it has one.
    pub purpose: Option<Purpose>,
}

impl Rights {
    /// What remains of these rights where a token of the same person limits them to a role at a place, and below it.
    pub fn limited_to(&self, limit: &Grant) -> Rights {
        let overlapping = self.grants.iter().filter_map(|own| {
            let place = if below(&limit.place, &own.place) {
                &own.place
            } else if below(&own.place, &limit.place) {
                &limit.place
            } else {
                return None;
            };
            Some(Grant {
                role: own.role.min(limit.role),
                place: place.clone(),
            })
        });
        Rights {
            grants: overlapping.collect(),
            purpose: self.purpose,
        }
    }

    /// The highest role, wherever it was granted.
    pub fn highest(&self) -> Option<Role> {
        self.grants.iter().map(|grant| grant.role).max()
    }
}

/// Why an action is refused.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum Refusal {
    /// The token is limited to a purpose that does not include the action.
    #[error("the token is limited to {0}")]
    Purpose(Purpose),
    /// No grant at the place or above it has the role.
    #[error("this needs the role {role} at {}", place_name(.place))]
    Role {
        role: Role,
        place: String,
        /// The highest role that was granted there.
        held: Option<Role>,
    },
}

/// A place for people: its path, or the root.
pub fn place_name(path: &str) -> &str {
    if path.is_empty() { "the root" } else { path }
}

/// Decides whether rights include an action at a place. Returns the grant by which they do: the one nearest to the place, and of
/// several there the one with the highest role.
///
/// # Errors
/// The refusal, with what is missing.
pub fn may<'a>(rights: &'a Rights, action: Action, place: &str) -> Result<&'a Grant, Refusal> {
    if let Some(purpose) = rights.purpose
        && !action.purposes().contains(&purpose)
    {
        return Err(Refusal::Purpose(purpose));
    }
    let valid = || {
        let grants = rights.grants.iter();
        grants.filter(|grant| below(&grant.place, place))
    };
    let needed = action.role();
    valid()
        .filter(|grant| grant.role >= needed)
        .max_by_key(|grant| (grant.place.len(), grant.role))
        .ok_or_else(|| Refusal::Role {
            role: needed,
            place: place.to_owned(),
            held: valid().map(|grant| grant.role).max(),
        })
}

/// Whether these rights allow a grant to another: never of more than they are themselves.
pub fn may_grant(rights: &Rights, grant: &Grant) -> bool {
    let grants = rights.grants.iter();
    may(rights, Action::ManageAccess, &grant.place).is_ok()
        && grants.into_iter().any(|own| own.includes(grant))
}

/// Decides whether an action is allowed at any place at all.
///
/// # Errors
/// The refusal, with what is missing.
pub fn may_anywhere(rights: &Rights, action: Action) -> Result<(), Refusal> {
    let allowed = |grant: &Grant| may(rights, action, &grant.place).is_ok();
    if rights.grants.iter().any(allowed) {
        return Ok(());
    }
    may(rights, action, "").map(|_| ())
}

/// Whether these rights allow managing the account of a person with these grants: only where they include all of them, because the
/// manager of an account can set its password and act as its person. An account without grants is managed at the root.
pub fn may_manage_account(rights: &Rights, grants: &[Grant]) -> bool {
    match grants {
        [] => may(rights, Action::ManageAccess, "").is_ok(),
        grants => grants.iter().all(|grant| may_grant(rights, grant)),
    }
}

/// The table of actions and roles, for the documents: one row for each action, in Markdown.
pub fn table() -> String {
    let mut lines = vec![
        "| action | viewer | submitter | operator | admin | token purposes |".to_owned(),
        "| --- | --- | --- | --- | --- | --- |".to_owned(),
    ];
    for action in Action::ALL {
        let of_roles = Role::ALL.iter().map(|role| match *role >= action.role() {
            true => "yes",
            false => "–",
        });
        let purposes = action.purposes().iter().map(|purpose| purpose.word());
        let purposes: Vec<&str> = purposes.collect();
        let cells: Vec<&str> = of_roles.collect();
        lines.push(format!(
            "| {} (`{}`) | {} | {} |",
            action.description(),
            action.word(),
            cells.join(" | "),
            purposes.join(", ")
        ));
    }
    lines.join("\n") + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rights(grants: &[(Role, &str)]) -> Rights {
        let grants = grants.iter().map(|(role, place)| Grant {
            role: *role,
            place: (*place).to_owned(),
        });
        Rights {
            grants: grants.collect(),
            purpose: None,
        }
    }

    #[test]
    fn a_role_is_valid_at_its_place_and_below_and_nowhere_else() {
        let mira = rights(&[(Role::Submitter, "firmware"), (Role::Viewer, "")]);
        let at = |place| may(&mira, Action::SubmitJob, place);
        assert!(at("firmware").is_ok() && at("firmware/buoy").is_ok());
        let refused = Refusal::Role {
            role: Role::Submitter,
            place: "firmwares/x".to_owned(),
            held: Some(Role::Viewer),
        };
        assert_eq!(at("firmwares/x"), Err(refused));
        assert_eq!(
            at("").unwrap_err().to_string(),
            "this needs the role submitter at the root"
        );
        assert!(may(&mira, Action::View, "shore/soundings").is_ok());
        let none = may(&Rights::default(), Action::View, "").unwrap_err();
        assert!(matches!(none, Refusal::Role { held: None, .. }));
    }

    #[test]
    fn the_nearest_grant_is_the_one_that_is_named() {
        let mira = rights(&[
            (Role::Admin, ""),
            (Role::Operator, "firmware"),
            (Role::Submitter, "firmware"),
        ]);
        let by = |action, place| may(&mira, action, place).unwrap().clone();
        assert_eq!(by(Action::View, "firmware/buoy").role, Role::Operator);
        assert_eq!(by(Action::ManageAccess, "firmware/buoy").place, "");
        assert_eq!(by(Action::View, "shore").place, "");
    }

    #[test]
    fn a_purpose_narrows_a_role_and_never_widens_it() {
        let mut token = rights(&[(Role::Operator, "")]);
        token.purpose = Some(Purpose::RunnerTickets);
        assert!(may(&token, Action::ManageTickets, "firmware").is_ok());
        assert_eq!(
            may(&token, Action::SubmitJob, "firmware"),
            Err(Refusal::Purpose(Purpose::RunnerTickets))
        );
        token.grants = vec![Grant::at_root(Role::Viewer)];
        assert!(may(&token, Action::ManageTickets, "firmware").is_err());
    }

    #[test]
    fn nobody_gives_more_than_they_have() {
        let lead = rights(&[(Role::Admin, "firmware")]);
        let grant = |role, place: &str| Grant {
            role,
            place: place.to_owned(),
        };
        assert!(may_grant(&lead, &grant(Role::Admin, "firmware")));
        assert!(may_grant(&lead, &grant(Role::Viewer, "firmware/buoy")));
        assert!(!may_grant(&lead, &grant(Role::Viewer, "shore")));
        assert!(!may_grant(&lead, &grant(Role::Viewer, "")));
        let operator = rights(&[(Role::Operator, "")]);
        assert!(!may_grant(&operator, &grant(Role::Viewer, "firmware")));
    }

    #[test]
    fn an_account_is_managed_by_those_who_have_all_that_it_has() {
        let lead = rights(&[(Role::Admin, "firmware")]);
        let grant = |role, place: &str| Grant {
            role,
            place: place.to_owned(),
        };
        let own = grant(Role::Submitter, "firmware/buoy");
        assert!(may_manage_account(&lead, std::slice::from_ref(&own)));
        assert!(!may_manage_account(
            &lead,
            &[own.clone(), grant(Role::Viewer, "shore")]
        ));
        assert!(!may_manage_account(&lead, &[grant(Role::Admin, "")]));
        assert!(!may_manage_account(&lead, &[]));
        let root = rights(&[(Role::Admin, "")]);
        assert!(may_manage_account(&root, &[]) && may_manage_account(&root, &[own]));
    }

    #[test]
    fn every_action_has_a_row_in_the_table() {
        let table = table();
        assert_eq!(table.lines().count(), 2 + Action::ALL.len());
        let row = table.lines().find(|line| line.contains("`manage-tickets`"));
        assert!(
            row.unwrap()
                .ends_with("| – | – | yes | yes | runner-tickets |")
        );
        let words: std::collections::BTreeSet<_> = Action::ALL.iter().map(|a| a.word()).collect();
        assert_eq!(words.len(), Action::ALL.len(), "words differ");
    }

    const PLACES: [&str; 6] = [
        "",
        "firmware",
        "firmware/buoy",
        "firmware/barometer",
        "shore",
        "shore/soundings",
    ];

    proptest! {
        /// A person's own token permits exactly what the person and the token's limit both permit.
        #[test]
        fn a_limit_permits_what_both_permit(
            granted in prop::collection::vec((0usize..4, 0usize..PLACES.len()), 0..5),
            limit in (0usize..4, 0usize..PLACES.len()),
            action in 0usize..Action::ALL.len(),
            place in 0usize..PLACES.len(),
        ) {
            let granted: Vec<_> = granted.iter().map(|(role, at)| (Role::ALL[*role], PLACES[*at])).collect();
            let limit = Grant { role: Role::ALL[limit.0], place: PLACES[limit.1].to_owned() };
            let (action, place) = (Action::ALL[action], PLACES[place]);
            let own = rights(&granted);
            let alone = Rights { grants: vec![limit.clone()], purpose: None };
            let both = may(&own, action, place).is_ok() && may(&alone, action, place).is_ok();
            prop_assert_eq!(may(&own.limited_to(&limit), action, place).is_ok(), both);
        }

        /// The model: the grants of every place on the way up, one after another.
        #[test]
        fn the_decision_is_that_of_a_walk_up_the_tree(
            granted in prop::collection::vec((0usize..4, 0usize..PLACES.len()), 0..5),
            action in 0usize..Action::ALL.len(),
            place in 0usize..PLACES.len(),
        ) {
            let granted: Vec<_> = granted.iter().map(|(role, at)| (Role::ALL[*role], PLACES[*at])).collect();
            let (action, place) = (Action::ALL[action], PLACES[place]);
            let mut above = vec![place];
            let mut rest = place;
            while let Some((parent, _)) = rest.rsplit_once('/') {
                above.push(parent);
                rest = parent;
            }
            above.push("");
            let expected = above.iter().any(|at| {
                granted.iter().any(|(role, place)| place == at && *role >= action.role())
            });
            prop_assert_eq!(may(&rights(&granted), action, place).is_ok(), expected);
        }
    }
}
