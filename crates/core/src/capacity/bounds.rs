//! What a pool may have: its ceiling, its budget, its supplier's backoffs.

use super::decided::Numbers;
use super::event::ManagedPool;
use super::fleet::{Load, Tally};
use super::keeper::Keeper;
use super::spend::Money;
use crate::time::Moment;
use std::time::Duration;

/// A budget has to last this long for all machines of a pool, or no further one is ordered.
const BUDGET_LASTS: Duration = Duration::from_secs(600);

/// What one pool may have.
#[derive(Clone, Default)]
pub(super) struct Bounds {
    pub(super) floor: u32,
    pub(super) spare: u32,
    /// Machines that may exist.
    pub(super) cap: u32,
    /// Further machines that may be ordered now.
    pub(super) more: u32,
    pub(super) short: Option<String>,
    /// Whether what it may cost is used up.
    pub(super) spent: bool,
}

impl Bounds {
    /// How many machines there should be: the one number by which it is ordered and released.
    pub(super) fn machines_to_keep(&self, numbers: &Numbers, slots: u32, waiting: u32) -> u32 {
        let serve = waiting.div_ceil(slots.max(1));
        let keep = self
            .floor
            .max(numbers.busy + serve.saturating_add(self.spare));
        if self.spent {
            return numbers.busy;
        }
        keep.min(self.cap.saturating_sub(numbers.leaving))
            .max(numbers.busy.min(self.cap))
    }
}

impl Keeper {
    /// What a pool may have, and what it could still order.
    pub(super) fn bounds(
        &self,
        care: &ManagedPool,
        tally: &Tally,
        load: Load,
        now: Moment,
    ) -> Bounds {
        let supply = &care.supply;
        let (floor, spare) = supply.floor_and_spare(&care.zone, now);
        let mut bounds = Bounds {
            floor,
            spare,
            cap: supply.ceiling,
            ..Bounds::default()
        };
        let existing = tally.numbers.existing();
        bounds.more = bounds.cap.saturating_sub(existing);
        if care.paused {
            bounds.more = 0;
            bounds.floor = 0;
            bounds.spare = 0;
        }
        if let Some(message) = self.budget_used(care, tally, now, &mut bounds) {
            bounds.short = Some(message);
        }
        let mut faulty = |backoff: Option<&super::SupplierBackoff>, asked: bool, name: &str| {
            let Some(backoff) = backoff else { return };
            bounds.short = Some(format!("{name}{}", backoff.message));
            // When it is time to try again, one order goes ahead of the others.
            let may_try = now >= backoff.until && !asked;
            bounds.more = bounds.more.min(u32::from(may_try));
        };
        let Some(maker) = self.makers.get(&care.supplier) else {
            bounds.more = 0;
            bounds.short = Some(format!("unknown supplier {:?}", supply.supplier));
            return bounds;
        };
        let backoff = self.pool_backoffs.get(&care.id);
        faulty(backoff, tally.numbers.coming > 0, "");
        faulty(
            self.supplier_backoffs.get(&care.supplier),
            load.ordered > 0,
            &format!("{} fails: ", maker.name),
        );
        bounds
    }

    /// Why a pool's budget allows no further machine, and what follows of it for the bounds.
    fn budget_used(
        &self,
        care: &ManagedPool,
        tally: &Tally,
        now: Moment,
        bounds: &mut Bounds,
    ) -> Option<String> {
        let budget = care.supply.budget;
        if budget.is_none() {
            return None;
        }
        let (day, month) = self.meters.get(&care.id)?.spent(now);
        let mut message = None;
        for (limit, spent, when) in [
            (budget.day, day, "today's"),
            (budget.month, month, "this month's"),
        ] {
            let Some(limit) = limit else { continue };
            if spent >= limit {
                bounds.spent = true;
                bounds.more = 0;
                message = Some(format!("{when} budget ({limit}) is spent"));
                continue;
            }
            // All of its machines, with the further ones, for as long as the budget has to last.
            let left = limit.0 - spent.0;
            let one = Money(
                u64::try_from(u128::from(care.price.0) * BUDGET_LASTS.as_secs() as u128 / 3600)
                    .unwrap_or(u64::MAX),
            );
            let Some(all) = left.checked_div(one.0) else {
                continue;
            };
            let there = u64::from(tally.numbers.existing());
            let more = u32::try_from(all.saturating_sub(there)).unwrap_or(u32::MAX);
            if more < bounds.more {
                bounds.more = more;
                if more == 0 && message.is_none() {
                    message = Some(format!(
                        "{when} budget ({limit}) is nearly spent: another machine would use up the rest within {}",
                        crate::time::spoken(BUDGET_LASTS)
                    ));
                }
            }
        }
        message
    }
}
