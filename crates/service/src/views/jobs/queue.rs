//! The queue by reason, and the picture of it that the answer line is made from. What waits is read as the leader shows it
//! (`store::waiting_line`), so that an answer costs the same however many jobs wait.

use crate::access::Principal;
use crate::app::App;
use crate::error::{Result, ServiceError};
use crate::views;
use crate::visible_yard::VisibleYard;
use pennine_core::access::Action;
use pennine_core::answer::{AnswerInput, Longest};
use pennine_core::dispatch::{EligibilityCounts, Origin, Reason, Remedy};
use pennine_core::id::{ShortName, StrandId};
use pennine_core::requirement::Requirement;
use pennine_core::time::Moment;
use pennine_core::visibility::Visibility;
use pennine_store::waiting_line::{self, AfterPart, LineFilter, LineGroup, ShownPart};
use pennine_store::{Connection, Error};
use pennine_wire::{Queue, QueueGroup, QueueStrand};
use serde::Deserialize;
use std::cmp::Reverse;
use std::str::FromStr;
use utoipa::IntoParams;
use uuid::Uuid;

/// Groups in one answer.
const GROUPS: usize = 20;
/// Strands of each, where there are many groups; all together where there are few.
const FEWEST_OF_EACH: usize = 2;
const STRANDS: usize = 24;

/// Which part of the queue is asked for.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct QueueParams {
    /// Only jobs that wait for this reason; their strands are then listed page by page.
    pub reason: Option<String>,
    /// Only jobs that wait for this: a group's `cause`.
    pub cause: Option<String>,
    /// Only jobs of this project: its path, or its name if that is unique.
    pub project: Option<String>,
    /// Only jobs of this team and the teams below it.
    pub team: Option<String>,
    /// Only jobs with an equivalent requirement.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub requirement: Option<String>,
    /// The `next` of the page before.
    pub after: Option<String>,
    /// How many strands of a reason: 1 to 100, 20 when not given.
    pub limit: Option<i64>,
}

impl QueueParams {
    /// The conditions that an action on many jobs has as well.
    fn conditions(&self) -> [(&'static str, &Option<String>); 3] {
        [
            ("project", &self.project),
            ("team", &self.team),
            ("where", &self.requirement),
        ]
    }

    /// Returns how many strands are asked for.
    pub fn limit(&self) -> i64 {
        self.limit.unwrap_or(20)
    }
}

/// The groups in the order in which they are shown: what needs a person first, then the longest wait.
pub async fn groups(
    connection: &mut Connection,
    filter: &LineFilter,
) -> Result<Vec<LineGroup>, Error> {
    let mut groups = waiting_line::groups(connection, filter).await?;
    groups.sort_by_key(|group| Reverse(group.reason.needs_a_person()));
    Ok(groups)
}

fn count(number: i64) -> u64 {
    number.max(0).unsigned_abs()
}

/// How many jobs wait.
pub fn waiting(groups: &[LineGroup]) -> u64 {
    groups.iter().map(|group| count(group.jobs)).sum()
}

/// How the jobs of a part stand in the yard. What is stored was parsed before; should it not parse any more, no runner matches.
fn standing(
    part: &ShownPart,
    requirement: Option<&Requirement>,
    yard: &VisibleYard<'_>,
) -> EligibilityCounts {
    let origin = Origin {
        project: &part.project,
        trust: part.key.0.trust,
        approved_in: &part.key.0.approved_in,
    };
    let standing = requirement
        .map(|requirement| yard.standing(requirement, origin, &part.key.0.seats, Some(part.first)));
    standing.unwrap_or_default()
}

fn strand(part: &ShownPart, yard: &VisibleYard<'_>, now: Moment) -> QueueStrand {
    let (reason, key) = (part.reason.0, &part.key.0);
    let text = key.requirement.clone();
    let origin = Origin {
        project: &part.project,
        trust: key.trust,
        approved_in: &key.approved_in,
    };
    let parsed = text.parse::<Requirement>().ok();
    let standing = standing(part, parsed.as_ref(), yard);
    let hints = match &parsed {
        Some(requirement) if reason == Reason::NoMatch => yard.seen.hints(requirement),
        _ => Vec::new(),
    };
    let jobs = count(part.jobs);
    let wait = views::jobs::remedies::Wait {
        reason,
        standing: &standing,
        origin,
        requirement: &text,
        jobs,
        job: None,
    };
    QueueStrand {
        actions: views::jobs::remedies::actions(&wait, yard),
        band: key.band,
        seats: key.seats.clone(),
        trust: key.trust,
        project: part.project.clone(),
        jobs,
        longest_us: now.since(part.oldest.0).into(),
        first: ShortName::Job.name(part.first),
        message: standing.describe(reason),
        standing,
        remedy: Remedy::of(reason, &text, key.trust),
        hints,
        requirement: text,
    }
}

fn group(
    params: &QueueParams,
    may_cancel: bool,
    group: &LineGroup,
    parts: &[ShownPart],
    yard: &VisibleYard<'_>,
    now: Moment,
) -> QueueGroup {
    let is_of = |part: &&ShownPart| part.reason == group.reason && part.cause == group.cause;
    QueueGroup {
        reason: group.reason.0,
        cause: group.cause.clone(),
        message: group.reason.describe().to_owned(),
        needs_a_person: group.reason.needs_a_person(),
        jobs: count(group.jobs),
        longest_us: now.since(group.oldest.0).into(),
        strand_count: count(group.strands),
        actions: match may_cancel {
            true => views::jobs::remedies::of_group(&params.conditions(), group),
            false => Vec::new(),
        },
        strands: parts
            .iter()
            .filter(is_of)
            .map(|part| strand(part, yard, now))
            .collect(),
    }
}

/// The picture that the answer line is made from.
pub async fn picture(
    connection: &mut Connection,
    shown: &LineFilter,
    groups: &[LineGroup],
    yard: &VisibleYard<'_>,
    now: Moment,
) -> Result<AnswerInput, Error> {
    let (slots, free) = crate::yard::slots(&yard.seen.runners);
    let counts = crate::yard::counts(&yard.seen.runners);
    let longest = waiting_line::parts(connection, shown, None, 1).await?;
    let longest = longest.into_iter().next();
    let stuck: u64 = groups
        .iter()
        .filter(|group| group.reason.needs_a_person())
        .map(|group| count(group.jobs))
        .sum();
    let told = (longest.as_ref())
        .filter(|part| part.reason.needs_a_person())
        .map_or(0, |part| count(part.jobs));
    Ok(AnswerInput {
        waiting: waiting(groups),
        slots: u64::from(slots),
        free: u64::from(free),
        runners: u64::from(counts.joined()),
        offline: u64::from(counts.offline),
        any_pool: !yard.seen.pools.is_empty(),
        makers: yard
            .seen
            .pools
            .iter()
            .filter(|pool| pool.supply().is_some())
            .count() as u64,
        coming: yard
            .seen
            .pools
            .iter()
            .map(|pool| u64::from(pool.view().coming))
            .sum(),
        longest: longest.map(|part| {
            let requirement = part.key.0.requirement.clone();
            Longest {
                job: ShortName::Job.name(part.first),
                waited: now.since(part.oldest.0),
                reason: part.reason.0,
                standing: standing(&part, requirement.parse().ok().as_ref(), yard),
                requirement,
            }
        }),
        stuck_elsewhere: stuck.saturating_sub(told),
    })
}

/// A cursor as text: when the part's longest wait began, its strand, and the part.
fn cursor(part: &ShownPart) -> String {
    let oldest = part.oldest.0.micros();
    format!("{oldest}.{}.{}", part.strand_id.0.0.simple(), part.part)
}

fn after(text: &str) -> Option<AfterPart> {
    let mut words = text.splitn(3, '.');
    Some(AfterPart {
        oldest: Moment::from_micros(words.next()?.parse().ok()?),
        strand: StrandId(Uuid::parse_str(words.next()?).ok()?),
        part: words.next()?.parse().ok()?,
    })
}

/// Reads which part of the queue is meant.
///
/// # Errors
/// A reason, place or requirement that does not exist or cannot be read.
pub async fn filter(
    connection: &mut Connection,
    sees: &Visibility,
    reason: Option<&str>,
    (project, team): (Option<&str>, Option<&str>),
    requirement: Option<&str>,
) -> Result<LineFilter> {
    let reason = reason
        .map(Reason::from_str)
        .transpose()
        .map_err(|error| ServiceError::invalid("reason", error))?;
    let requirement = requirement
        .map(str::parse::<Requirement>)
        .transpose()
        .map_err(|error| ServiceError::requirement("where", error))?;
    Ok(LineFilter {
        place: views::people::place::path(connection, sees, project, team).await?,
        visible: sees.paths().map(<[String]>::to_vec),
        requirement: requirement.map(|requirement| requirement.to_string()),
        reason,
        cause: None,
    })
}

/// The waiting jobs that this person may see, grouped by why they wait.
pub async fn queue(app: &App, who: &Principal, params: &QueueParams) -> Result<Queue> {
    let limit = params.limit();
    if !(1..=100).contains(&limit) {
        return Err(ServiceError::invalid("limit", "limit is 1 to 100"));
    }
    let behind = match &params.after {
        Some(text) => Some(after(text).ok_or_else(|| {
            ServiceError::invalid(
                "after",
                "invalid cursor: send the `next` of the previous page",
            )
        })?),
        None => None,
    };
    let mut connection = app.store.people().await?;
    let place = (params.project.as_deref(), params.team.as_deref());
    let (reason, requirement) = (params.reason.as_deref(), params.requirement.as_deref());
    let mut meant = filter(&mut connection, &who.sees, reason, place, requirement).await?;
    meant.cause.clone_from(&params.cause);
    let mut all = groups(&mut connection, &meant).await?;
    let waiting = waiting(&all);
    let (parts, next) = if meant.reason.is_some() {
        let mut parts = waiting_line::parts(&mut connection, &meant, behind, limit + 1).await?;
        let more = parts.len() as i64 > limit;
        parts.truncate(usize::try_from(limit).unwrap_or(0));
        let next = parts.last().filter(|_| more).map(cursor);
        all.retain(|group| {
            let is_of =
                |part: &ShownPart| (part.reason, &part.cause) == (group.reason, &group.cause);
            parts.iter().any(is_of)
        });
        (parts, next)
    } else {
        let shown = all.get(..GROUPS.min(all.len())).unwrap_or_default();
        let each = FEWEST_OF_EACH.max(STRANDS / shown.len().max(1));
        let each = i64::try_from(each).unwrap_or(i64::MAX);
        let parts = waiting_line::heads(&mut connection, &meant, shown, each).await?;
        (parts, None)
    };
    drop(connection);
    let yard = app.yard.recent(&app.store, &app.clock).await?;
    let yard = VisibleYard::of(&yard, who);
    let now = app.clock.now();
    let listed = all.iter().take(GROUPS);
    let may_cancel = who.may(
        Action::CancelJob,
        meant.place.as_deref().unwrap_or_default(),
    );
    Ok(Queue {
        waiting,
        groups: listed
            .map(|one| group(params, may_cancel, one, &parts, &yard, now))
            .collect(),
        more_groups: all.len().saturating_sub(GROUPS) as u64,
        next,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_whole_cursor_is_a_place_in_the_queue() {
        let strand = Uuid::from_u128(7);
        let text = format!("1700000000000000.{}.2", strand.simple());
        let expected = AfterPart {
            oldest: Moment::from_micros(1_700_000_000_000_000),
            strand: StrandId(strand),
            part: 2,
        };
        assert_eq!(after(&text), Some(expected));
        for wrong in [
            "",
            "5",
            "5.x.1",
            "5.00000000000000000000000000000007",
            "a.b.c.d",
        ] {
            assert_eq!(after(wrong), None, "{wrong}");
        }
    }
}
