//! The queue by reason, and the picture of it that the answer line is made from.

use crate::app::App;
use crate::error::Result;
use crate::views;
use crate::views::yard::Yard;
use pennine_core::answer::{AnswerInput, Longest};
use pennine_core::dispatch::{Reason, Remedy, Segment};
use pennine_core::id::{ShortName, StrandId};
use pennine_core::requirement::{Requirement, hints};
use pennine_core::time::{Micros, Moment};
use pennine_store::line::{self, StrandLine, TimelineSpan};
use pennine_store::{Connection, Error, strand};
use pennine_wire::{Queue, QueueGroup, QueueStrand};
use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap};

/// Reads the queue, group by group: what needs a person first, then the longest wait.
pub async fn read(connection: &mut Connection, yard: &Yard, now: Moment) -> Result<Queue, Error> {
    let counts = line::strands(connection).await?;
    let ids: Vec<StrandId> = counts.iter().map(|count| count.strand_id.0).collect();
    if ids.is_empty() {
        return Ok(Queue {
            waiting: 0,
            groups: Vec::new(),
        });
    }
    let strands = strand::get(connection, &ids).await?;
    let strands: HashMap<StrandId, strand::Strand> =
        strands.into_iter().map(|one| (one.id.0, one)).collect();
    let reasons = strand::latest(connection, &ids).await?;
    let message: HashMap<StrandId, Vec<Segment>> = reasons
        .into_iter()
        .map(|(id, _, segments)| (id, segments))
        .collect();
    let mut groups: BTreeMap<Reason, Vec<QueueStrand>> = BTreeMap::new();
    let mut waiting = 0;
    for (reason, count) in by_reason(connection, counts, &message).await? {
        let Some(strand) = strands.get(&count.strand_id.0) else {
            continue;
        };
        let text = strand.key.0.requirement.clone();
        // What is stored was parsed before; should it not parse any more, no matching runner.
        let parsed = text.parse::<Requirement>().ok();
        let standing = parsed
            .as_ref()
            .map(|requirement| {
                let (project, seats) = (&strand.project, &strand.key.0.seats);
                yard.standing(requirement, project, seats, Some(count.first))
            })
            .unwrap_or_default();
        let unknown = match &parsed {
            Some(requirement) if reason == Reason::NoMatch => hints(
                requirement,
                yard.joined().map(|(runner, _)| &runner.subject),
            ),
            _ => Vec::new(),
        };
        let jobs = count.jobs.max(0).unsigned_abs();
        waiting += jobs;
        let actions = views::jobs::remedies::actions(
            &views::jobs::remedies::Wait {
                reason,
                standing: &standing,
                project: &strand.project,
                requirement: &text,
                jobs,
            },
            yard,
        );
        groups.entry(reason).or_default().push(QueueStrand {
            band: strand.key.0.band,
            seats: strand.key.0.seats.clone(),
            actions,
            project: strand.project.clone(),
            jobs,
            longest_us: now.since(count.oldest.0).into(),
            first: ShortName::Job.name(count.first),
            message: standing.describe(reason),
            standing,
            remedy: Remedy::of(reason, &text),
            hints: unknown,
            requirement: text,
        });
    }
    let mut groups: Vec<QueueGroup> = groups
        .into_iter()
        .map(|(reason, mut strands)| {
            strands.sort_by_key(|strand| Reverse(strand.longest_us));
            QueueGroup {
                reason,
                message: reason.describe().to_owned(),
                needs_a_person: reason.needs_a_person(),
                jobs: strands.iter().map(|strand| strand.jobs).sum(),
                longest_us: strands
                    .first()
                    .map_or(Micros(0), |strand| strand.longest_us),
                strands,
            }
        })
        .collect();
    groups.sort_by_key(|group| (Reverse(group.needs_a_person), Reverse(group.longest_us)));
    Ok(Queue { waiting, groups })
}

/// The strands' lines cut where another reason begins.
async fn by_reason(
    connection: &mut Connection,
    counts: Vec<StrandLine>,
    message: &HashMap<StrandId, Vec<Segment>>,
) -> Result<Vec<(Reason, StrandLine)>, Error> {
    let mut found = Vec::with_capacity(counts.len());
    for count in counts {
        let strand = count.strand_id.0;
        match message.get(&strand).map_or(&[][..], Vec::as_slice) {
            [] => found.push((Reason::Handover, count)),
            [one] => found.push((one.reason, count)),
            several => {
                for (reason, stretch) in stretches(strand, several) {
                    let cut = line::stretch(connection, stretch).await?;
                    found.extend(cut.map(|cut| (reason, cut)));
                }
            }
        }
    }
    Ok(found)
}

/// Which places of a strand's line wait for which reason.
pub fn stretches(
    strand: StrandId,
    message: &[Segment],
) -> impl Iterator<Item = (Reason, TimelineSpan)> + use<'_> {
    let mut from = 0;
    message.iter().map(move |segment| {
        let to = segment.jobs.map(|jobs| from + jobs);
        let stretch = TimelineSpan { strand, from, to };
        from = to.unwrap_or(from);
        (segment.reason, stretch)
    })
}

/// The picture that the answer line is made from.
pub fn picture(queue: &Queue, yard: &Yard) -> AnswerInput {
    let (slots, free) = views::yard::slots(&yard.runners);
    let counts = views::yard::counts(&yard.runners);
    let longest = queue
        .groups
        .iter()
        .flat_map(|group| {
            group
                .strands
                .iter()
                .map(move |strand| (group.reason, strand))
        })
        .max_by_key(|(_, strand)| strand.longest_us);
    let stuck: u64 = queue
        .groups
        .iter()
        .filter(|group| group.needs_a_person)
        .map(|group| group.jobs)
        .sum();
    let told = longest
        .filter(|(reason, _)| reason.needs_a_person())
        .map_or(0, |(_, strand)| strand.jobs);
    AnswerInput {
        waiting: queue.waiting,
        slots: u64::from(slots),
        free: u64::from(free),
        runners: u64::from(counts.joined()),
        offline: u64::from(counts.offline),
        any_pool: !yard.pools.is_empty(),
        makers: yard
            .pools
            .iter()
            .filter(|pool| pool.supply().is_some())
            .count() as u64,
        coming: yard
            .pools
            .iter()
            .map(|pool| u64::from(pool.view().coming))
            .sum(),
        longest: longest.map(|(reason, strand)| Longest {
            job: strand.first.clone(),
            requirement: strand.requirement.clone(),
            waited: strand.longest_us.into(),
            reason,
            standing: strand.standing.clone(),
        }),
        stuck_elsewhere: stuck.saturating_sub(told),
    }
}

/// The waiting jobs, grouped by why they wait.
pub async fn queue(app: &App) -> Result<Queue> {
    let mut connection = app.store.get().await?;
    let yard = Yard::read(&mut connection, app.clock.now()).await?;
    Ok(read(&mut connection, &yard, app.clock.now()).await?)
}
