//! The rules of alerts. The service evaluates the conditions; this module decides the transitions of each alert.

use crate::lifecycle::alert::{AlertEvent, AlertState};
use crate::lifecycle::words;
use crate::time::{Micros, Moment};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;
use utoipa::ToSchema;

/// The kinds of alerts.
#[derive(
    Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum AlertKind {
    /// More jobs waited too long than a target allows.
    TargetMissed,
    /// A target's error budget is burning fast.
    TargetAtRisk,
    /// A supplier fails.
    SupplierFailing,
    /// Jobs wait for a requirement that no runner and no pool can satisfy.
    NoMatch,
    /// Jobs have been waiting for a pool that is at its ceiling.
    PoolFull,
    /// A pool's budget is nearly spent.
    BudgetNear,
    /// Runners have had no job for days.
    MachinesIdle,
    /// A job or runner was set aside because it made the dispatch state inconsistent.
    SetAside,
    /// A background task of the leading replica makes no progress.
    TaskStalled,
    /// A token that is in use expires soon.
    TokenExpiring,
    /// Many sign-ins under a person's name have failed.
    SignInGuessing,
}

words!(AlertKind {
    TargetMissed = "target-missed",
    TargetAtRisk = "target-at-risk",
    SupplierFailing = "supplier-failing",
    NoMatch = "no-match",
    PoolFull = "pool-full",
    BudgetNear = "budget-near",
    MachinesIdle = "machines-idle",
    SetAside = "set-aside",
    TaskStalled = "task-stalled",
    TokenExpiring = "token-expiring",
    SignInGuessing = "sign-in-guessing",
});

impl AlertKind {
    /// Whether it needs attention soon, rather than during working hours.
    pub fn urgent(self) -> bool {
        !matches!(
            self,
            AlertKind::BudgetNear | AlertKind::MachinesIdle | AlertKind::TokenExpiring
        )
    }
}

/// How long a condition of each kind must hold before the alert is raised; no entry means at once.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct AlertDelays(pub BTreeMap<AlertKind, Duration>);

/// The thresholds of alerts that are not raised at once.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Thresholds {
    /// How long jobs wait for a requirement that no runner and no pool can satisfy.
    pub no_match_us: Micros,
    /// How long a supplier fails.
    pub supplier_us: Micros,
    /// How long jobs wait while a pool is at its ceiling.
    pub ceiling_us: Micros,
    /// How long runners have had no job.
    pub idle_us: Micros,
    /// The spent part of a pool's budget, in percent.
    pub budget_percent: u32,
}

impl Default for Thresholds {
    fn default() -> Self {
        let seconds = |seconds| Micros::from(Duration::from_secs(seconds));
        Thresholds {
            no_match_us: seconds(60),
            supplier_us: seconds(120),
            ceiling_us: seconds(30 * 60),
            idle_us: seconds(3 * 86_400),
            budget_percent: 80,
        }
    }
}

impl Thresholds {
    /// Returns the delays. That of idle runners is part of the condition itself.
    pub fn patience(&self) -> AlertDelays {
        let all = [
            (AlertKind::NoMatch, self.no_match_us),
            (AlertKind::SupplierFailing, self.supplier_us),
            (AlertKind::PoolFull, self.ceiling_us),
        ];
        AlertDelays(all.map(|(kind, length)| (kind, length.into())).into())
    }

    /// Errors: the name of an invalid field, and the reason.
    pub fn check(&self) -> Result<(), (&'static str, &'static str)> {
        const WEEK: Duration = Duration::from_secs(7 * 86_400);
        const HOUR: Duration = Duration::from_secs(3600);
        for (name, length) in [
            ("no_match_us", self.no_match_us),
            ("supplier_us", self.supplier_us),
            ("ceiling_us", self.ceiling_us),
        ] {
            if Duration::from(length) > WEEK {
                return Err((name, "an alert is delayed by a week at most"));
            }
        }
        if !(HOUR..=365 * 24 * HOUR).contains(&Duration::from(self.idle_us)) {
            return Err(("idle_us", "the time is an hour to a year"));
        }
        if !(1..=100).contains(&self.budget_percent) {
            return Err(("budget_percent", "the part of a budget is 1 to 100 percent"));
        }
        Ok(())
    }
}

/// A condition that holds.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Condition<A> {
    pub kind: AlertKind,
    /// The thing concerned; each has at most one alert of a kind.
    pub subject: String,
    /// Since when it holds, as far as known.
    pub since: Option<Moment>,
    /// The message: one sentence.
    pub message: String,
    /// Further details, stored with the alert.
    pub about: A,
}

/// An alert that has not ended.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Open<I> {
    pub id: I,
    pub kind: AlertKind,
    pub subject: String,
    pub state: AlertState,
    pub since: Moment,
    /// Since when the condition has been false.
    pub absent: Option<Moment>,
}

/// A transition of an alert.
#[derive(Clone, PartialEq, Eq, Debug)]
#[must_use]
pub enum AlertStep<I, A> {
    /// A new alert in this state.
    Begin {
        state: AlertState,
        since: Moment,
        condition: Condition<A>,
    },
    /// The condition still holds.
    Hold {
        id: I,
        state: AlertState,
        condition: Condition<A>,
    },
    /// The condition has been false since this moment.
    Miss {
        id: I,
        state: AlertState,
        absent: Moment,
    },
}

/// Returns the transitions that follow from the conditions that hold now. Of several conditions with the same kind and subject,
/// the first counts.
pub fn step<I: Copy, A>(
    open: &[Open<I>],
    conditions: Vec<Condition<A>>,
    patience: &AlertDelays,
    now: Moment,
) -> Vec<AlertStep<I, A>> {
    let mut holding: BTreeMap<(AlertKind, String), Condition<A>> = BTreeMap::new();
    for condition in conditions {
        let key = (condition.kind, condition.subject.clone());
        holding.entry(key).or_insert(condition);
    }
    let holds = |since: Moment, kind: AlertKind| AlertEvent::Holds {
        lasted: now.since(since),
        patience: patience.0.get(&kind).copied().unwrap_or_default(),
    };
    let mut steps = Vec::new();
    for one in open {
        match holding.remove(&(one.kind, one.subject.clone())) {
            Some(condition) => {
                let since = condition.since.unwrap_or(one.since).min(one.since);
                if let Ok(state) = one.state.after(holds(since, one.kind)) {
                    steps.push(AlertStep::Hold {
                        id: one.id,
                        state,
                        condition,
                    });
                }
            }
            None => {
                let absent = one.absent.unwrap_or(now);
                let event = AlertEvent::Absent {
                    lasted: now.since(absent),
                };
                if let Ok(state) = one.state.after(event) {
                    steps.push(AlertStep::Miss {
                        id: one.id,
                        state,
                        absent,
                    });
                }
            }
        }
    }
    for (_, condition) in holding {
        let since = condition.since.unwrap_or(now).min(now);
        // A new condition may have held for long already.
        if let Ok(state) = AlertState::Pending.after(holds(since, condition.kind)) {
            steps.push(AlertStep::Begin {
                state,
                since,
                condition,
            });
        }
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lifecycle::alert::CALM;
    use proptest::prelude::*;

    const PATIENCE: u64 = 60;

    fn at(seconds: u64) -> Moment {
        Moment::from_micros(i64::try_from(seconds).unwrap() * 1_000_000)
    }

    /// One condition at regular moments, and when its alert was raised and ended.
    fn life(seen: &[bool], every: u64) -> Vec<(u64, AlertState)> {
        let patience = AlertDelays([(AlertKind::NoMatch, Duration::from_secs(PATIENCE))].into());
        let mut open: Option<Open<u8>> = None;
        let mut changes = Vec::new();
        for (n, seen) in seen.iter().enumerate() {
            let now = n as u64 * every;
            let condition = Condition {
                kind: AlertKind::NoMatch,
                subject: "amr64".to_owned(),
                since: None,
                message: String::new(),
                about: (),
            };
            let conditions = if *seen { vec![condition] } else { Vec::new() };
            let known: Vec<_> = open.iter().cloned().collect();
            let steps = step(&known, conditions, &patience, at(now));
            assert!(steps.len() <= 1);
            for step in steps {
                let before = open.as_ref().map(|one| one.state);
                let (state, since, absent) = match step {
                    AlertStep::Begin { state, since, .. } => (state, since, None),
                    AlertStep::Hold { state, .. } => (state, known[0].since, None),
                    AlertStep::Miss { state, absent, .. } => (state, known[0].since, Some(absent)),
                };
                if before != Some(state) {
                    changes.push((now, state));
                }
                open = (state != AlertState::Ended).then(|| Open {
                    id: 1,
                    kind: AlertKind::NoMatch,
                    subject: "amr64".to_owned(),
                    state,
                    since,
                    absent,
                });
            }
        }
        changes
    }

    #[test]
    fn an_invalid_threshold_is_named() {
        let usual = Thresholds::default();
        assert_eq!(usual.check(), Ok(()));
        let days = |days: u64| Micros::from(Duration::from_secs(days * 86_400));
        let with = |change: fn(&mut Thresholds, Micros), length| {
            let mut changed = Thresholds::default();
            change(&mut changed, length);
            changed.check().map_err(|(field, _)| field)
        };
        for (change, field) in [
            (
                (|all, length| all.no_match_us = length) as fn(&mut Thresholds, Micros),
                "no_match_us",
            ),
            (|all, length| all.supplier_us = length, "supplier_us"),
            (|all, length| all.ceiling_us = length, "ceiling_us"),
        ] {
            assert_eq!(with(change, days(0)), Ok(()));
            assert_eq!(with(change, days(7)), Ok(()));
            assert_eq!(with(change, days(8)), Err(field));
        }
        assert_eq!(with(|all, length| all.idle_us = length, days(365)), Ok(()));
        for length in [Micros(0), days(366)] {
            assert_eq!(
                with(|all, length| all.idle_us = length, length),
                Err("idle_us")
            );
        }
        for percent in [0, 101] {
            let odd = Thresholds {
                budget_percent: percent,
                ..usual
            };
            assert_eq!(
                odd.check().map_err(|(field, _)| field),
                Err("budget_percent")
            );
        }
        // Alerts of idle runners depend on when they became idle; budgets are reported at once.
        let patience = usual.patience().0;
        assert_eq!(
            patience.get(&AlertKind::PoolFull),
            Some(&Duration::from_secs(1800))
        );
        assert!(
            !patience.contains_key(&AlertKind::MachinesIdle)
                && !patience.contains_key(&AlertKind::BudgetNear)
        );
    }

    #[test]
    fn a_lasting_condition_raises_an_alert_and_a_flapping_one_only_one() {
        use AlertState::{Clearing, Ended, Pending, Raised};
        assert_eq!(life(&[true, true, false], 30), [(0, Pending), (60, Ended)]);
        let flapping = [
            true, true, true, false, true, false, false, false, false, false, false,
        ];
        assert_eq!(
            life(&flapping, 30),
            [
                (0, Pending),
                (60, Raised),
                (90, Clearing),
                (120, Raised),
                (150, Clearing),
                (270, Ended)
            ]
        );
    }

    proptest! {
        /// Told only after it has held for long enough without a break, and over only after it was absent for long enough.
        #[test]
        fn nobody_is_told_too_early_nor_left_in_the_dark(
            seen in proptest::collection::vec(any::<bool>(), 1..80),
            every in 1u64..100,
        ) {
            let changes = life(&seen, every);
            let mut told = false;
            for (when, state) in changes {
                let place = usize::try_from(when / every).unwrap();
                match state {
                    AlertState::Raised if !told => {
                        told = true;
                        let begun = seen[..=place].iter().rposition(|seen| !seen).map_or(0, |n| n + 1);
                        prop_assert!(when - begun as u64 * every >= PATIENCE);
                    }
                    AlertState::Ended => {
                        let ended = seen[..=place].iter().rposition(|seen| *seen).map_or(0, |n| n + 1);
                        if told {
                            prop_assert!(when - ended as u64 * every >= CALM.as_secs());
                        }
                        told = false;
                    }
                    _ => {}
                }
            }
        }
    }
}
