//! Why a job waits: a total function of its strand's eligibility counts.

use super::yard::{Availability, Origin, PoolView, RunnerView};
use crate::id::{JobId, ShortName};
use crate::lifecycle::words;
use crate::requirement::Requirement;
use crate::trust::Trust;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// Why a job waits. Each waiting job has exactly one reason at any time.
#[derive(
    Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// A pool that satisfies it asks for approval of its project's first use.
    NeedsApproval,
    /// No runner satisfies it.
    NoMatch,
    /// Runners satisfy it, but their pools' reach excludes its project.
    OutOfReach,
    /// Every runner that satisfies it is busy.
    AllBusy,
    /// A machine for it is coming.
    MachineComing,
    /// A machine would be ordered but for a budget, a quota, or a failing supplier.
    SupplyShort,
    /// A seat that it needs is taken.
    SeatTaken,
    /// Its team or project has reached its limit.
    TeamLimit,
    /// Only runners that are offline satisfy it.
    Offline,
    /// The runners that satisfy it are paused or draining.
    Paused,
    /// A seat is reserved for a job that needs several.
    SeatReserved,
    /// It is assigned but not started yet.
    Handover,
    /// It waited elsewhere: imported jobs have no recorded reason.
    Unknown,
}

words!(Reason {
    NeedsApproval = "needs-approval",
    NoMatch = "no-match",
    OutOfReach = "out-of-reach",
    AllBusy = "all-busy",
    MachineComing = "machine-coming",
    SupplyShort = "supply-short",
    SeatTaken = "seat-taken",
    TeamLimit = "team-limit",
    Offline = "offline",
    Paused = "paused",
    SeatReserved = "seat-reserved",
    Handover = "handover",
    Unknown = "unknown",
});

impl Reason {
    /// Returns a short description.
    pub fn describe(self) -> &'static str {
        match self {
            Reason::NeedsApproval => "its project's use of the pool is not approved yet",
            Reason::NoMatch => "no runner satisfies it",
            Reason::OutOfReach => "the project may not use the runners that satisfy it",
            Reason::AllBusy => "all runners that satisfy it are busy",
            Reason::MachineComing => "a machine for it is coming",
            Reason::SupplyShort => "no machine can be added for it",
            Reason::SeatTaken => "a seat that it needs is taken",
            Reason::TeamLimit => "its team has reached its limit",
            Reason::Offline => "the runners that satisfy it are offline",
            Reason::Paused => "the runners that satisfy it are paused",
            Reason::SeatReserved => "a seat is reserved for a job that needs several",
            Reason::Handover => "a runner is about to start it",
            Reason::Unknown => "the reason was not recorded",
        }
    }

    /// What time spent waiting for it was for, as a noun: "39 % of the time spent waiting was for busy runners".
    pub fn noun(self) -> &'static str {
        match self {
            Reason::NeedsApproval => "a person's approval",
            Reason::NoMatch => "a runner that satisfies the requirement",
            Reason::OutOfReach => "runners that the project may not use",
            Reason::AllBusy => "busy runners",
            Reason::MachineComing => "machines that were coming",
            Reason::SupplyShort => "machines that could not be added",
            Reason::SeatTaken => "taken seats",
            Reason::TeamLimit => "a team's limit",
            Reason::Offline => "offline runners",
            Reason::Paused => "paused runners",
            Reason::SeatReserved => "reserved seats",
            Reason::Handover => "the handover to a runner",
            Reason::Unknown => "reasons that were not recorded",
        }
    }

    /// Whether a reached limit of its team takes precedence as the reason.
    pub(super) fn yields_to_a_limit(self) -> bool {
        !matches!(
            self,
            Reason::NeedsApproval
                | Reason::NoMatch
                | Reason::OutOfReach
                | Reason::Offline
                | Reason::Paused
        )
    }

    /// Whether the job waits indefinitely unless a person acts.
    pub fn needs_a_person(self) -> bool {
        matches!(
            self,
            Reason::NeedsApproval
                | Reason::NoMatch
                | Reason::OutOfReach
                | Reason::Offline
                | Reason::Paused
        )
    }
}

/// Consecutive waiting jobs of a strand, from the head, with one reason.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Segment {
    /// The reason of these jobs.
    pub reason: Reason,
    /// How many jobs from the end of the segment before; none means all the rest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jobs: Option<u32>,
}

/// Returns the reason of the job with `ahead` jobs of its strand before it. `handover` if no reason was recorded yet.
pub fn reason_at(message: &[Segment], mut ahead: u32) -> Reason {
    for segment in message {
        match segment.jobs {
            Some(jobs) if ahead >= jobs => ahead -= jobs,
            _ => return segment.reason,
        }
    }
    Reason::Handover
}

/// The runners and pools by how far they can run jobs with one requirement of one project, and the other conditions of a start.
#[derive(Clone, PartialEq, Eq, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EligibilityCounts {
    /// Runners that satisfy the requirement, within reach or not.
    pub satisfying: u32,
    /// Of these, the ones that the project may use.
    pub in_reach: u32,
    /// Of these, connected and accepting jobs.
    pub taking: u32,
    /// Of those in reach, paused or draining.
    pub paused: u32,
    /// Of those in reach, offline.
    pub offline: u32,
    /// Pools that could order a machine which satisfies the requirement, within reach or not.
    #[serde(default)]
    pub makers: u32,
    /// Of these, the ones that the project may use.
    #[serde(default)]
    pub makers_in_reach: u32,
    /// Slots of machines that are coming in them.
    #[serde(default)]
    pub coming: u32,
    /// The pools that satisfy it and ask for approval of its project's first use, by name.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub awaiting_approval: BTreeSet<String>,
    /// Why some of those pools cannot order machines.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub short: Vec<String>,
    /// Those of them that are at their ceiling.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub full: Vec<FullPool>,
    /// The limit that its project has reached, or a team above it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<Limit>,
    /// The seats that it needs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub seats: Vec<SeatStanding>,
    /// Whether the job is trusted.
    #[serde(default, skip_serializing_if = "Trust::is_trusted")]
    pub trust: Trust,
}

/// A pool at its ceiling.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct FullPool {
    pub pool: String,
    /// Machines that it may have.
    pub ceiling: u32,
}

/// A reached limit.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Limit {
    /// The path of the team or project.
    pub place: String,
    /// Slots that it holds.
    pub held: u32,
    /// Slots that it may hold.
    pub limit: u32,
}

/// The availability of one kind of seat for a job that needs it.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeatStanding {
    pub name: String,
    /// How many the job needs.
    pub wanted: u32,
    /// How many there are.
    pub count: u32,
    /// How many are taken.
    pub taken: u32,
    /// How many are reserved for older jobs that need several.
    #[serde(default)]
    pub set_aside: u32,
    /// The oldest of those jobs: its short name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub set_aside_for: Option<String>,
}

/// Seats of one kind that are reserved, once they become free, for a job that needs several.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Serialize, Deserialize)]
pub struct SeatReservation {
    pub job: JobId,
    pub number: i64,
    /// How many it needs.
    pub count: u32,
}

impl SeatReservation {
    /// The job's short name.
    pub fn name(&self) -> String {
        ShortName::Job.name(self.number)
    }
}

/// Reservations by the seat's name, the oldest job's first.
pub type SeatReservations = BTreeMap<String, Vec<SeatReservation>>;

impl SeatStanding {
    /// Whether too few are free.
    pub fn is_short(&self) -> bool {
        self.count.saturating_sub(self.taken) < self.wanted
    }

    /// Whether enough are free, but too few without the reserved ones.
    pub fn is_reserved(&self) -> bool {
        let vacant = self.count.saturating_sub(self.taken);
        !self.is_short() && vacant.saturating_sub(self.set_aside) < self.wanted
    }
}

impl EligibilityCounts {
    /// Counts one runner that satisfies the requirement.
    pub fn count(&mut self, in_reach: bool, willingness: Availability) {
        self.satisfying += 1;
        if in_reach {
            self.in_reach += 1;
            match willingness {
                Availability::Takes => self.taking += 1,
                Availability::Paused => self.paused += 1,
                Availability::Offline => self.offline += 1,
            }
        }
    }

    /// Counts one pool in reach whose machines would satisfy the requirement.
    pub(super) fn count_maker(&mut self, pool: &PoolView) {
        if pool.paused {
            // What it would make would not take it either.
            self.count(true, Availability::Paused);
            return;
        }
        self.makers_in_reach += 1;
        self.coming += pool.coming;
        if let Some(short) = &pool.short {
            self.short.push(format!("{}: {short}", pool.name));
        } else if let Some(ceiling) = pool.full {
            let pool = pool.name.clone();
            self.full.push(FullPool { pool, ceiling });
        }
    }

    /// Whether no pool in reach would make a further machine.
    fn held_back(&self) -> bool {
        self.short.len() + self.full.len() >= self.makers_in_reach as usize
    }

    /// How a requirement of jobs from there stands in a yard.
    pub fn of<'a>(
        requirement: &Requirement,
        origin: Origin<'a>,
        pools: impl IntoIterator<Item = &'a PoolView>,
        yard: impl IntoIterator<Item = (&'a RunnerView, &'a PoolView)>,
    ) -> EligibilityCounts {
        let mut standing = EligibilityCounts {
            trust: origin.trust,
            ..EligibilityCounts::default()
        };
        for pool in pools {
            let made = pool.makes.as_ref();
            if made.is_some_and(|made| pool.admits(requirement, made)) {
                standing.makers += 1;
                if pool.reaches(origin) {
                    standing.count_maker(pool);
                } else if pool.lacks_approval(origin) {
                    standing.awaiting_approval.insert(pool.name.clone());
                }
            }
        }
        for (runner, pool) in yard {
            if pool.admits(requirement, &runner.subject) {
                standing.count(pool.reaches(origin), pool.willingness(runner));
                if pool.lacks_approval(origin) {
                    standing.awaiting_approval.insert(pool.name.clone());
                }
            }
        }
        standing
    }

    /// The reason of a job that could not be started.
    pub fn reason(&self) -> Reason {
        let seat = if self.seats.iter().any(SeatStanding::is_short) {
            Some(Reason::SeatTaken)
        } else if self.seats.iter().any(SeatStanding::is_reserved) {
            Some(Reason::SeatReserved)
        } else {
            None
        };
        let reason = self.reason_with(seat);
        if reason.yields_to_a_limit() && self.limit.is_some() {
            Reason::TeamLimit
        } else {
            reason
        }
    }

    /// The reason, limits aside, where the seats have this one.
    pub(super) fn reason_with(&self, seat: Option<Reason>) -> Reason {
        match self {
            EligibilityCounts {
                satisfying: 0,
                makers: 0,
                ..
            } => Reason::NoMatch,
            EligibilityCounts {
                in_reach: 0,
                makers_in_reach: 0,
                awaiting_approval,
                ..
            } => match awaiting_approval.is_empty() {
                true => Reason::OutOfReach,
                false => Reason::NeedsApproval,
            },
            EligibilityCounts {
                taking: 0,
                makers_in_reach: 0,
                paused,
                ..
            } => {
                if *paused > 0 {
                    Reason::Paused
                } else {
                    Reason::Offline
                }
            }
            _ => seat.unwrap_or(match self {
                EligibilityCounts {
                    makers_in_reach: 0, ..
                } => Reason::AllBusy,
                // It will be ordered with the next capacity decision.
                _ if !self.held_back() => Reason::MachineComing,
                EligibilityCounts { short, .. } if !short.is_empty() => Reason::SupplyShort,
                // At the ceiling: an existing machine has to become free or to be replaced.
                EligibilityCounts { taking: 1.., .. } => Reason::AllBusy,
                EligibilityCounts { full, .. } if full.iter().any(|full| full.ceiling > 0) => {
                    Reason::AllBusy
                }
                _ => Reason::SupplyShort,
            }),
        }
    }

    /// Returns the reason with its numbers, as a sentence.
    pub fn describe(&self, reason: Reason) -> String {
        let runners = |n: u32| {
            if n == 1 {
                "1 runner".to_owned()
            } else {
                format!("{n} runners")
            }
        };
        let is = |n: u32| if n == 1 { "is" } else { "are" };
        match reason {
            Reason::AllBusy => {
                let mut message = match self.taking {
                    0 => format!(
                        "all machines that can run it are busy; {}",
                        self.describe_ceilings()
                    ),
                    1 => "the 1 runner that can run it is busy".to_owned(),
                    n => format!("all {n} runners that can run it are busy"),
                };
                for (count, state) in [(self.paused, "paused"), (self.offline, "offline")] {
                    if count > 0 {
                        message += &format!(", {count} more {} {state}", is(count));
                    }
                }
                if self.taking > 0 && !self.full.is_empty() {
                    message += &format!("; {}", self.describe_ceilings());
                }
                message
            }
            Reason::TeamLimit => match &self.limit {
                Some(Limit { place, held, limit }) => {
                    let slots = if *held == 1 { "slot" } else { "slots" };
                    format!("{place} uses {held} {slots}; its limit is {limit}")
                }
                None => reason.describe().to_owned(),
            },
            Reason::SeatTaken => self.describe_seats(SeatStanding::is_short, reason),
            Reason::SeatReserved => self.describe_seats(SeatStanding::is_reserved, reason),
            Reason::MachineComing if self.coming > 0 => match self.coming {
                1 => "a machine with a slot for it is coming".to_owned(),
                n => format!("machines with {n} slots are coming"),
            },
            Reason::SupplyShort if !self.short.is_empty() || !self.full.is_empty() => {
                let mut causes = self.short.clone();
                if !self.full.is_empty() {
                    causes.push(self.describe_ceilings());
                }
                format!("no machine can be added: {}", causes.join("; "))
            }
            Reason::NeedsApproval => {
                let pools: Vec<&str> = self.awaiting_approval.iter().map(String::as_str).collect();
                let ask = if pools.len() == 1 { "asks" } else { "ask" };
                format!(
                    "{} {ask} for approval of the project's first use",
                    pools.join(", ")
                )
            }
            Reason::OutOfReach => {
                let (who, pools) = match (self.satisfying, self.makers) {
                    (0, 1) => ("machines of 1 pool satisfy".to_owned(), "that pool"),
                    (0, n) => (format!("machines of {n} pools satisfy"), "those pools"),
                    (1, _) => ("1 runner satisfies".to_owned(), "its pool"),
                    (n, _) => (format!("{n} runners satisfy"), "their pools"),
                };
                let jobs = match self.trust {
                    Trust::Trusted => "",
                    Trust::Untrusted => " for untrusted jobs",
                };
                format!("{who} it, but the project may not use {pools}{jobs}")
            }
            Reason::Offline => match self.offline {
                1 => "the 1 runner that satisfies it is offline".to_owned(),
                n => format!("all {n} runners that satisfy it are offline"),
            },
            Reason::Paused => {
                let mut message = format!(
                    "{} that can run it {} paused",
                    runners(self.paused),
                    is(self.paused)
                );
                if self.offline > 0 {
                    message += &format!(", {} {} offline", runners(self.offline), is(self.offline));
                }
                message
            }
            other => other.describe().to_owned(),
        }
    }
}

impl EligibilityCounts {
    fn describe_ceilings(&self) -> String {
        let message = self.full.iter().map(|full| match full.ceiling {
            0 => format!("{} has a ceiling of 0", full.pool),
            1 => format!("{} is at its ceiling of 1 machine", full.pool),
            ceiling => format!("{} is at its ceiling of {ceiling} machines", full.pool),
        });
        message.collect::<Vec<_>>().join("; ")
    }

    fn describe_seats(&self, which: impl Fn(&SeatStanding) -> bool, reason: Reason) -> String {
        let message: Vec<String> = self
            .seats
            .iter()
            .filter(|seat| which(seat))
            .map(|seat| {
                let SeatStanding {
                    name,
                    wanted,
                    count,
                    taken,
                    ..
                } = seat;
                if wanted > count {
                    format!("it needs {wanted} {name} seats, and only {count} exist")
                } else if seat.is_short() {
                    format!("{taken} of {count} {name} seats are taken; it needs {wanted}")
                } else {
                    let kept = seat.set_aside.min(count - taken);
                    let job = seat.set_aside_for.as_deref().unwrap_or("an older job");
                    format!(
                        "{kept} of {count} {name} seats are reserved for {job}, which has waited longer and needs \
                         several"
                    )
                }
            })
            .collect();
        if message.is_empty() {
            reason.describe().to_owned()
        } else {
            message.join("; ")
        }
    }
}

/// A remedy for a wait.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct Remedy {
    /// The remedy as a sentence.
    pub message: String,
}

impl Remedy {
    /// Returns the remedy for a wait with this reason, if a person can do something.
    pub fn of(reason: Reason, requirement: &str, trust: Trust) -> Option<Remedy> {
        let message = match reason {
            Reason::NoMatch if requirement.is_empty() => {
                "Add a runner to a pool that accepts jobs without a requirement, or open a pool."
                    .to_owned()
            }
            Reason::NoMatch => format!(
                "Add a machine that satisfies {requirement}, add the missing label to a runner, or cancel the job and submit it with another requirement."
            ),
            Reason::NeedsApproval => {
                "An operator of the pool approves the project, or this job: pennine pool approve POOL --project PROJECT"
                    .to_owned()
            }
            Reason::OutOfReach if !trust.is_trusted() => {
                "Let a pool of single-use machines take untrusted jobs, or review the code and submit the job as trusted."
                    .to_owned()
            }
            Reason::OutOfReach => {
                "Let the project use one of these pools, or add a pool for its team.".to_owned()
            }
            Reason::Offline => {
                "Start pennine-runner on the machine again, or add another machine.".to_owned()
            }
            Reason::Paused => {
                "Resume the runner. A runner that takes no jobs by itself says why: pennine runner doctor RUNNER"
                    .to_owned()
            }
            Reason::AllBusy => "Wait, add a machine, or raise its pool's ceiling.".to_owned(),
            Reason::SupplyShort => {
                "Raise the limit, fix the supplier, or add a machine.".to_owned()
            }
            _ => return None,
        };
        Some(Remedy { message })
    }
}
