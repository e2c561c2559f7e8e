//! Which faults come in which order: decided by a seed alone.

use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::fmt;
use std::time::Duration;

/// One thing that goes wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Killed, and started again a while later.
    KillReplica {
        number: usize,
        away: Duration,
    },
    /// Stopped, and let go on a while later.
    StopReplica {
        number: usize,
        away: Duration,
    },
    KillRunner {
        number: usize,
        away: Duration,
    },
    StopRunner {
        number: usize,
        away: Duration,
    },
    /// PostgreSQL with all its processes.
    KillDatabase {
        away: Duration,
    },
    /// Every open connection between clients and replicas.
    CutConnections,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let line = match self {
            Fault::KillReplica { number, away } => {
                format!("replica {number} killed for {away:?}")
            }
            Fault::StopReplica { number, away } => {
                format!("replica {number} stopped for {away:?}")
            }
            Fault::KillRunner { number, away } => format!("runner {number} killed for {away:?}"),
            Fault::StopRunner { number, away } => format!("runner {number} stopped for {away:?}"),
            Fault::KillDatabase { away } => format!("PostgreSQL killed for {away:?}"),
            Fault::CutConnections => "all connections cut".to_owned(),
        };
        f.write_str(&line)
    }
}

/// An endless sequence of faults.
pub struct Plan {
    random: StdRng,
    replicas: usize,
    runners: usize,
}

impl Plan {
    /// The sequence of a seed.
    pub fn new(seed: u64, replicas: usize, runners: usize) -> Plan {
        Plan {
            random: StdRng::seed_from_u64(seed),
            replicas,
            runners,
        }
    }

    /// The next fault, and the pause before it.
    pub fn next(&mut self) -> (Duration, Fault) {
        let pause = self.millis(500, 4000);
        let replica = self.random.random_range(0..self.replicas);
        let runner = self.random.random_range(0..self.runners);
        let fault = match self.random.random_range(0..20) {
            0..6 => Fault::KillReplica {
                number: replica,
                away: self.millis(100, 4000),
            },
            6..9 => Fault::StopReplica {
                number: replica,
                away: self.millis(500, 10_000),
            },
            9..14 => Fault::KillRunner {
                number: runner,
                away: self.millis(100, 4000),
            },
            14..16 => Fault::StopRunner {
                number: runner,
                away: self.millis(500, 10_000),
            },
            16..18 => Fault::KillDatabase {
                away: self.millis(100, 3000),
            },
            _ => Fault::CutConnections,
        };
        (pause, fault)
    }

    fn millis(&mut self, least: u64, most: u64) -> Duration {
        Duration::from_millis(self.random.random_range(least..most))
    }
}

/// How many faults there were of each kind.
#[derive(Clone, Copy, Debug, Default)]
pub struct Tally {
    replicas: u32,
    runners: u32,
    database: u32,
    stops: u32,
    cuts: u32,
}

impl Tally {
    /// Counts a fault.
    pub fn count(&mut self, fault: &Fault) {
        *match fault {
            Fault::KillReplica { .. } => &mut self.replicas,
            Fault::KillRunner { .. } => &mut self.runners,
            Fault::KillDatabase { .. } => &mut self.database,
            Fault::StopReplica { .. } | Fault::StopRunner { .. } => &mut self.stops,
            Fault::CutConnections => &mut self.cuts,
        } += 1;
    }
}

impl fmt::Display for Tally {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "{} kills: {} of replicas, {} of runners, {} of PostgreSQL; {} processes stopped for a while; connections cut {} times",
            self.replicas + self.runners + self.database,
            self.replicas,
            self.runners,
            self.database,
            self.stops,
            self.cuts
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;
    use std::mem::discriminant;

    #[test]
    fn a_seed_gives_the_same_faults_again_and_every_kind_comes() {
        let faults = |seed| {
            let mut plan = Plan::new(seed, 3, 6);
            (0..200).map(|_| plan.next()).collect::<Vec<_>>()
        };
        assert_eq!(faults(7), faults(7));
        assert_ne!(faults(7), faults(8));
        let kinds: BTreeSet<String> = faults(7)
            .iter()
            .map(|(_, fault)| format!("{:?}", discriminant(fault)))
            .collect();
        assert_eq!(kinds.len(), 6);
    }
}
