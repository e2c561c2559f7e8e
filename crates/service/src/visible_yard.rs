//! The yard as the principal sees it: who may take a job is counted over all of it, and names come from the visible part alone.

use crate::access::Principal;
use crate::yard::Yard;
use pennine_core::dispatch::{EligibilityCounts, Origin, SeatNeeds};
use pennine_core::requirement::Requirement;
use std::borrow::Cow;

/// A yard, and the part of it that the principal sees.
pub struct VisibleYard<'a> {
    whole: &'a Yard,
    /// Who sees it.
    pub who: &'a Principal,
    /// Its visible pools with their runners, visible places, and seats that visible jobs hold.
    pub seen: Cow<'a, Yard>,
}

impl<'a> VisibleYard<'a> {
    /// The part of a yard that the principal sees.
    pub fn of(whole: &'a Yard, who: &'a Principal) -> VisibleYard<'a> {
        let seen = match who.sees.is_whole() {
            true => Cow::Borrowed(whole),
            false => Cow::Owned(whole.part(
                |owned| who.sees_pool(owned),
                |place| who.sees.includes(place),
            )),
        };
        VisibleYard { whole, who, seen }
    }

    /// How a project's requirement stands in the whole yard (see [`Yard::standing`]); the job for which seats are reserved is
    /// named to those who see everything.
    pub fn standing(
        &self,
        requirement: &Requirement,
        origin: Origin<'_>,
        needs: &SeatNeeds,
        job: Option<i64>,
    ) -> EligibilityCounts {
        self.hide(self.whole.standing(requirement, origin, needs, job))
    }

    /// How a requirement stands in the whole yard for any project.
    pub fn standing_of_anybody(&self, requirement: &Requirement) -> EligibilityCounts {
        self.hide(self.whole.standing_of_anybody(requirement))
    }

    fn hide(&self, mut standing: EligibilityCounts) -> EligibilityCounts {
        if matches!(self.seen, Cow::Owned(_)) {
            for seat in &mut standing.seats {
                seat.set_aside_for = None;
            }
        }
        standing
    }
}
