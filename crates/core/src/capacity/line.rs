//! How a pool stands, as one sentence or two.

use super::Numbers;
use crate::queue_sample::QueueSample;

fn slots(count: u32) -> String {
    match count {
        1 => "1 slot".to_owned(),
        n => format!("{n} slots"),
    }
}

/// How a pool stands: what waits for it, what is being done about it, and what stands in the way. It has numbers where it
/// gets machines, and none where people bring them.
pub fn pool_line(
    name: &str,
    level: &QueueSample,
    numbers: Option<&Numbers>,
    short: Option<&str>,
) -> String {
    let all = level.executing + level.idle;
    let mut message = match level.waiting {
        0 => format!("Nothing waits for {name}."),
        1 => format!("1 job waits that {name} can run."),
        n => format!("{n} jobs wait that {name} can run."),
    };
    message += &match (all, level.idle) {
        (0, _) if level.coming > 0 => " It has no slots yet".to_owned(),
        (0, _) => match numbers {
            None => " None of its runners accepts jobs".to_owned(),
            Some(numbers) if numbers.existing() == 0 => " It has no machines".to_owned(),
            Some(_) => " None of its machines accepts jobs".to_owned(),
        },
        (1, 0) => " Its 1 slot is busy".to_owned(),
        (n, 0) => format!(" All of its {} are busy", slots(n)),
        (n, idle) => format!(" {idle} of its {} are free", slots(n)),
    };
    match level.coming {
        0 => {}
        1 => message += ", and a machine with 1 slot is coming",
        n => message += &format!(", and machines with {} are coming", slots(n)),
    }
    message.push('.');
    match (short, numbers) {
        (Some(short), _) => message += &format!(" No machine can be ordered: {short}."),
        (None, Some(numbers)) if level.waiting > 0 && numbers.existing() >= numbers.ceiling => {
            message += &format!(" It is at its ceiling of {} machines.", numbers.ceiling);
        }
        (None, _) => {}
    }
    message
}

#[cfg(test)]
mod tests {
    use super::*;

    fn describe(
        waiting: u32,
        executing: u32,
        idle: u32,
        coming: u32,
        short: Option<&str>,
    ) -> String {
        let level = QueueSample {
            waiting,
            executing,
            idle,
            coming,
        };
        let numbers = Numbers {
            busy: executing,
            idle,
            coming,
            ceiling: 6,
            ..Numbers::default()
        };
        pool_line("slipway", &level, Some(&numbers), short)
    }

    #[test]
    fn the_status_line_names_waits_reasons_and_progress() {
        assert_eq!(
            describe(0, 0, 0, 0, None),
            "Nothing waits for slipway. It has no machines."
        );
        assert_eq!(
            describe(0, 1, 1, 0, None),
            "Nothing waits for slipway. 1 of its 2 slots are free."
        );
        assert_eq!(
            describe(9, 3, 0, 3, None),
            "9 jobs wait that slipway can run. All of its 3 slots are busy, and machines with 3 slots are coming. It is at its ceiling of 6 machines."
        );
        assert_eq!(
            describe(1, 0, 0, 0, Some("chandler fails: no connection")),
            "1 job waits that slipway can run. It has no machines. No machine can be ordered: chandler fails: no \
             connection."
        );
    }

    #[test]
    fn a_pool_whose_machines_people_bring_has_no_ceiling() {
        let level = QueueSample {
            waiting: 2,
            executing: 3,
            ..QueueSample::default()
        };
        assert_eq!(
            pool_line("staithe", &level, None, None),
            "2 jobs wait that staithe can run. All of its 3 slots are busy."
        );
        assert_eq!(
            pool_line("staithe", &QueueSample::default(), None, None),
            "Nothing waits for staithe. None of its runners accepts jobs."
        );
    }
}
