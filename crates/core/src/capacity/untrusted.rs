//! Which pools can take untrusted jobs.

use super::supply::Supply;
use crate::job_policy::{IsolationLevel, JobPolicy};

/// What the machines of a supplier share with other machines.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum MachineSeparation {
    /// Nothing: each is a machine with a kernel of its own.
    Own,
    /// The kernel of one host.
    SharedHost,
}

/// Why a pool cannot take untrusted jobs.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
pub enum UnfitForUntrusted {
    /// Machines that people add stay after a job.
    #[error("a pool that takes untrusted jobs needs a supplier that makes its machines")]
    NoSupplier,
    /// What a job leaves behind would meet the next job.
    #[error("a pool that takes untrusted jobs needs single-use machines")]
    NotSingleUse,
    /// Jobs below the level `sandbox` reach the host that other machines share.
    #[error(
        "the pool's machines share a host: a pool that takes untrusted jobs on them needs the isolation level sandbox"
    )]
    NotSandboxed,
}

/// Checks that a pool can take untrusted jobs: its machines take one job each, and either are machines of their own or
/// keep their jobs in a sandbox.
pub fn check_untrusted(
    supply: Option<&Supply>,
    separation: MachineSeparation,
    jobs: &JobPolicy,
) -> Result<(), UnfitForUntrusted> {
    let Some(supply) = supply else {
        return Err(UnfitForUntrusted::NoSupplier);
    };
    if !supply.single_use {
        return Err(UnfitForUntrusted::NotSingleUse);
    }
    match separation {
        MachineSeparation::SharedHost if jobs.isolation < IsolationLevel::Sandbox => {
            Err(UnfitForUntrusted::NotSandboxed)
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_single_use_machines_that_are_apart_or_sandboxed_take_untrusted_jobs() {
        let standing = Supply::default();
        let single_use = Supply {
            single_use: true,
            ..Supply::default()
        };
        let at = |isolation| JobPolicy {
            isolation,
            ..JobPolicy::default()
        };
        let (process, sandbox) = (at(IsolationLevel::Process), at(IsolationLevel::Sandbox));
        let (own, shared) = (MachineSeparation::Own, MachineSeparation::SharedHost);
        for (supply, separation, jobs, expected) in [
            (None, own, sandbox, Err(UnfitForUntrusted::NoSupplier)),
            (
                Some(&standing),
                own,
                sandbox,
                Err(UnfitForUntrusted::NotSingleUse),
            ),
            (
                Some(&single_use),
                shared,
                process,
                Err(UnfitForUntrusted::NotSandboxed),
            ),
            (Some(&single_use), shared, sandbox, Ok(())),
            (Some(&single_use), own, process, Ok(())),
        ] {
            assert_eq!(
                check_untrusted(supply, separation, &jobs),
                expected,
                "{supply:?} {separation:?}"
            );
        }
    }
}
