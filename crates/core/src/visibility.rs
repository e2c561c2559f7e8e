//! What rights make visible: the places at which seeing is granted with everything below them, and the pools that these may
//! use.

use crate::access::{Action, Rights, may};
use crate::dispatch::{Reach, below};

/// The part of an installation that a person or a token may see.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Visibility {
    /// Paths of places that are visible with everything below them; none where the root is.
    places: Option<Vec<String>>,
}

impl Visibility {
    /// The whole installation.
    pub fn whole() -> Visibility {
        Visibility { places: None }
    }

    /// What these rights make visible to an action that reads, such as [`Action::View`].
    pub fn of(rights: &Rights, action: Action) -> Visibility {
        let grants = rights.grants.iter();
        let visible = grants.filter(|grant| may(rights, action, &grant.place).is_ok());
        let places: Vec<String> = visible.map(|grant| grant.place.clone()).collect();
        let whole = places.iter().any(String::is_empty);
        Visibility {
            places: (!whole).then_some(places),
        }
    }

    /// Whether nothing is hidden.
    pub fn is_whole(&self) -> bool {
        self.places.is_none()
    }

    /// The paths that are visible with everything below them; none where nothing is hidden.
    pub fn paths(&self) -> Option<&[String]> {
        self.places.as_deref()
    }

    /// Whether what belongs to a place is visible, given the place's path.
    pub fn includes(&self, place: &str) -> bool {
        let Some(places) = &self.places else {
            return true;
        };
        places.iter().any(|visible| below(visible, place))
    }

    /// Whether a pool is visible: what belongs to its owner is, or a visible project may use the pool. Users of a pool see
    /// it with its runners, and nothing else of its owner.
    pub fn includes_pool(&self, owner: &str, reach: &Reach) -> bool {
        let Some(places) = &self.places else {
            return true;
        };
        // A project that is at or below both exists or may be added.
        let meet = |a: &str, b: &str| below(a, b) || below(b, a);
        let lowest = |a: &'_ str, b: &'_ str| (if below(a, b) { b } else { a }).to_owned();
        let used_from = |visible: &str| {
            let of_owner = meet(visible, owner) && {
                let common = lowest(visible, owner);
                let narrow_to = &reach.narrow_to;
                narrow_to.is_empty() || narrow_to.iter().any(|path| meet(path, &common))
            };
            of_owner || reach.widen_to.iter().any(|path| meet(path, visible))
        };
        self.includes(owner) || places.iter().any(|visible| used_from(visible))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::{Grant, Purpose, Role};
    use crate::dispatch::{Origin, PoolView};
    use proptest::prelude::*;

    const PLACES: [&str; 9] = [
        "",
        "firmware",
        "firmware/boards",
        "firmware/boards/buoy",
        "firmware/boards/radio",
        "firmware/barometer",
        "firmwares",
        "shore",
        "shore/soundings",
    ];
    /// The places without any below them.
    const PROJECTS: [&str; 5] = [
        "firmware/boards/buoy",
        "firmware/boards/radio",
        "firmware/barometer",
        "firmwares",
        "shore/soundings",
    ];

    fn rights(places: &[&str]) -> Rights {
        let grants = places.iter().map(|place| Grant {
            role: Role::Viewer,
            place: (*place).to_owned(),
        });
        Rights {
            grants: grants.collect(),
            purpose: None,
        }
    }

    #[test]
    fn a_place_is_visible_with_what_is_below_it() {
        let visible = Visibility::of(&rights(&["firmware", "shore/soundings"]), Action::View);
        assert!(visible.includes("firmware") && visible.includes("firmware/boards/buoy"));
        assert!(visible.includes("shore/soundings"));
        for hidden in ["", "shore", "firmwares"] {
            assert!(!visible.includes(hidden), "{hidden:?}");
        }
        assert!(Visibility::of(&rights(&["shore", ""]), Action::View).is_whole());
        assert!(!Visibility::of(&rights(&[]), Action::View).includes("shore"));
    }

    #[test]
    fn a_token_that_is_limited_to_metrics_sees_nothing_else() {
        let mut scraper = rights(&[""]);
        scraper.purpose = Some(Purpose::Metrics);
        assert!(!Visibility::of(&scraper, Action::View).includes(""));
        assert!(Visibility::of(&scraper, Action::ReadMetrics).is_whole());
    }

    fn place() -> impl Strategy<Value = String> {
        proptest::sample::select(PLACES.as_slice()).prop_map(str::to_owned)
    }

    fn places() -> impl Strategy<Value = Vec<String>> {
        proptest::collection::vec(place(), 0..3)
    }

    proptest! {
        /// A pool is visible where its owner is, or a visible project may use it.
        #[test]
        fn a_pool_is_visible_to_its_owners_and_users(
            granted in places(), owner in place(), narrow_to in places(), widen_to in places(),
        ) {
            // An owner narrows a pool to places below it alone.
            prop_assume!(narrow_to.iter().all(|path| below(&owner, path)));
            let granted: Vec<&str> = granted.iter().map(String::as_str).collect();
            let visible = Visibility::of(&rights(&granted), Action::View);
            let pool = PoolView {
                owner: owner.clone(),
                reach: Reach { narrow_to, widen_to, ..Reach::default() },
                ..PoolView::default()
            };
            let used = PROJECTS.iter().any(|project| {
                visible.includes(project) && pool.reaches(Origin::trusted(project))
            });
            prop_assert_eq!(
                visible.includes_pool(&pool.owner, &pool.reach),
                visible.includes(&owner) || used
            );
        }
    }
}
