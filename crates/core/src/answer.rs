//! The answer line: one plain sentence that says how things stand, with links to the things it names.

use crate::count::grouped;
use crate::dispatch::{EligibilityCounts, Reason};
use crate::time::spoken;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// How things stand, as far as the answer needs it.
#[derive(Clone, Debug, Default)]
pub struct AnswerInput {
    /// Jobs that wait for a runner.
    pub waiting: u64,
    /// Slots of connected runners that take work.
    pub slots: u64,
    /// Of these, free.
    pub free: u64,
    /// Runners by connection: all that ever connected and are not retired, and those of them that are offline.
    pub runners: u64,
    pub offline: u64,
    /// Whether any pool was made yet.
    pub any_pool: bool,
    /// Pools that get machines made for them, and slots of machines that are being made.
    pub makers: u64,
    pub coming: u64,
    /// The strand whose first job has waited longest, if any job waits.
    pub longest: Option<Longest>,
    /// Jobs waiting for a reason that ends only when a person acts, and that are not in `longest`'s strand.
    pub stuck_elsewhere: u64,
}

/// The strand whose first job has waited longest.
#[derive(Clone, Debug)]
pub struct Longest {
    pub job: String,
    pub requirement: String,
    pub waited: Duration,
    pub reason: Reason,
    pub standing: EligibilityCounts,
}

/// A stretch of the sentence, perhaps with a link.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
pub struct SentencePart {
    /// The words.
    pub text: String,
    /// What they name, if they name something that has a page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<Link>,
}

/// Something that has a page.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", content = "name", rename_all = "kebab-case")]
pub enum Link {
    /// The queue.
    Queue,
    /// The yard.
    Yard,
    /// One job, by its short name.
    Job(String),
}

/// The sentence as plain text.
pub fn text(pieces: &[SentencePart]) -> String {
    pieces.iter().map(|piece| piece.text.as_str()).collect()
}

fn plain(text: impl Into<String>) -> SentencePart {
    SentencePart {
        text: text.into(),
        link: None,
    }
}

fn linked(text: impl Into<String>, link: Link) -> SentencePart {
    SentencePart {
        text: text.into(),
        link: Some(link),
    }
}

fn jobs(count: u64) -> String {
    if count == 1 {
        "1 job waits".into()
    } else {
        format!("{} jobs wait", grouped(count))
    }
}

/// Composes the answer.
pub fn answer(picture: &AnswerInput) -> Vec<SentencePart> {
    if let Some(longest) = &picture.longest {
        return waiting(picture, longest);
    }
    let mut message = vec![plain("Nothing waits. ")];
    if !picture.any_pool {
        message.push(plain("No pools yet. Add a pool, then "));
        message.push(linked("add a machine", Link::Yard));
        message.push(plain("."));
    } else if picture.runners == 0 && picture.makers > 0 {
        let what = match picture.coming {
            0 => "No machines are running",
            1 => "A machine with 1 slot is coming",
            _ => "Machines are coming",
        };
        message.push(linked(what, Link::Yard));
        message.push(plain("; one is ordered when a job needs it."));
    } else if picture.runners == 0 {
        message.push(plain("No machines have joined yet: "));
        message.push(linked("add one", Link::Yard));
        message.push(plain("."));
    } else {
        let free = match picture.slots {
            0 => "No runners are connected".to_owned(),
            1 => format!("{} of 1 slot is free", picture.free),
            all => format!(
                "{} of {all} slots {} free",
                picture.free,
                if picture.free == 1 { "is" } else { "are" }
            ),
        };
        message.push(linked(free, Link::Yard));
        message.push(plain("."));
    }
    if picture.offline > 0 && picture.runners > 0 {
        let is = if picture.offline == 1 {
            "runner is"
        } else {
            "runners are"
        };
        message.push(plain(" "));
        message.push(linked(
            format!("{} {is} offline", picture.offline),
            Link::Yard,
        ));
        message.push(plain("."));
    }
    message
}

fn waiting(picture: &AnswerInput, longest: &Longest) -> Vec<SentencePart> {
    let mut message = vec![linked(jobs(picture.waiting), Link::Queue), plain(". ")];
    let who = if picture.waiting == 1 {
        "It"
    } else {
        "The longest"
    };
    let wants = match longest.requirement.as_str() {
        "" => "any runner".to_owned(),
        requirement => requirement.to_owned(),
    };
    message.push(plain(format!("{who} (")));
    message.push(linked(longest.job.clone(), Link::Job(longest.job.clone())));
    message.push(plain(format!(
        ", {}) wants {wants}: ",
        spoken(longest.waited)
    )));
    message.push(plain(longest.standing.describe(longest.reason)));
    message.push(plain("."));
    if longest.reason.needs_a_person() {
        message.push(plain(" It needs your attention."));
    }
    if picture.stuck_elsewhere > 0 {
        message.push(plain(" "));
        let others = if picture.stuck_elsewhere == 1 {
            "other job needs"
        } else {
            "other jobs need"
        };
        message.push(linked(
            format!("{} {others} your attention", picture.stuck_elsewhere),
            Link::Queue,
        ));
        message.push(plain("."));
    }
    message
}

#[cfg(test)]
mod tests {
    use super::*;

    fn describe(picture: &AnswerInput) -> String {
        text(&answer(picture))
    }

    #[test]
    fn an_empty_installation_shows_the_next_step() {
        assert_eq!(
            describe(&AnswerInput::default()),
            "Nothing waits. No pools yet. Add a pool, then add a machine."
        );
        let picture = AnswerInput {
            any_pool: true,
            ..AnswerInput::default()
        };
        assert_eq!(
            describe(&picture),
            "Nothing waits. No machines have joined yet: add one."
        );
    }

    #[test]
    fn an_idle_yard_reports_free_slots_and_offline_runners() {
        let picture = AnswerInput {
            any_pool: true,
            slots: 9,
            free: 5,
            runners: 5,
            offline: 1,
            ..AnswerInput::default()
        };
        assert_eq!(
            describe(&picture),
            "Nothing waits. 5 of 9 slots are free. 1 runner is offline."
        );
    }

    #[test]
    fn waiting_jobs_raise_an_alert_with_the_longest_wait_and_its_reason() {
        let mut picture = AnswerInput {
            waiting: 6,
            longest: Some(Longest {
                job: "j-12".into(),
                requirement: "arm64".into(),
                waited: Duration::from_secs(250),
                reason: Reason::AllBusy,
                standing: EligibilityCounts {
                    satisfying: 3,
                    in_reach: 3,
                    taking: 3,
                    ..EligibilityCounts::default()
                },
            }),
            stuck_elsewhere: 1,
            ..AnswerInput::default()
        };
        assert_eq!(
            describe(&picture),
            "6 jobs wait. The longest (j-12, 4 min 10 s) wants arm64: all 3 runners that can run it are busy. \
             1 other job needs your attention."
        );
        picture.waiting = 1;
        picture.stuck_elsewhere = 0;
        if let Some(longest) = &mut picture.longest {
            longest.reason = Reason::NoMatch;
        }
        assert_eq!(
            describe(&picture),
            "1 job waits. It (j-12, 4 min 10 s) wants arm64: no runner satisfies it. It needs your attention."
        );
    }
}
