//! What a wait is made of, where the jobs of one strand wait for different reasons.

use crate::support::{Service, until};
use pennine_client::QueueFilter;
use pennine_core::dispatch::{LineChange, LineGroup, LinePart, Reason, Segment};
use pennine_core::id::{ReplicaId, ShortName, StrandId};
use pennine_core::time::Moment;
use pennine_store::connect::PoolSizes;
use pennine_store::leadership::{self, Epoch};
use pennine_store::waiting_line::GroupChange;
use pennine_store::{Store, job, strand, waiting_line};
use pennine_wire::{Action, BulkAction};
use uuid::Uuid;

/// Shows the line of a strand as a leader would, in parts of so many jobs.
async fn show(
    service: &Service,
    (strand, at, epoch): (StrandId, Moment, Epoch),
    parts: [(Reason, u32); 2],
) {
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let found = strand::get(&mut connection, &[strand]).await.unwrap();
    let mut from = 0;
    let parts = parts.map(|(reason, jobs)| {
        let part = LinePart {
            reason,
            cause: String::new(),
            jobs,
            oldest: at,
            first: i64::from(from) + 1,
            from,
        };
        from += jobs;
        part
    });
    let line = LineChange {
        strand,
        project: found[0].key.0.project,
        requirement: found[0].key.0.requirement.clone(),
        parts: parts.to_vec(),
    };
    let groups = parts.map(|part| LineGroup {
        project: line.project,
        reason: part.reason,
        cause: part.cause,
        jobs: u64::from(part.jobs),
        strands: 1,
        oldest: part.oldest,
    });
    let groups = GroupChange::All(groups.to_vec());
    let by = (ReplicaId(Uuid::new_v4()), epoch);
    let written = waiting_line::write(&mut connection, by, at, &[line], &groups).await;
    assert!(written.unwrap(), "under the leader's epoch");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_shows_the_reason_for_its_position_and_its_wait_is_split_by_reason() {
    let service = Service::start().await;
    service.furnish().await;
    let mut names = Vec::new();
    for _ in 0..4 {
        names.push(service.submit("arm64", "true").await);
    }
    for name in &names {
        until("it is said why it waits", async || {
            let reason = service.client.job(name).await.unwrap().line.reason;
            (reason == Some(Reason::NoMatch)).then_some(())
        })
        .await;
    }
    // A machine for the first two is on its way, and no other one is available, as the leader would record it.
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let mut connection = store.people().await.unwrap();
    let number = ShortName::Job.number(&names[0]);
    let row = job::find(&mut connection, None, number).await.unwrap();
    let strand: StrandId = row.unwrap().strand_id.0;
    let epoch = Epoch(leadership::current(&mut connection).await.unwrap().epoch);
    let at = service.client.job(&names[0]).await.unwrap().now;
    let segment = |reason, jobs| Segment { reason, jobs };
    let message = vec![
        segment(Reason::MachineComing, Some(2)),
        segment(Reason::SupplyShort, None),
    ];
    let recorded = strand::record(&mut connection, epoch, at, &[(strand, message)]).await;
    assert!(recorded.unwrap(), "under the leader's epoch");

    let reason = async |name: &str| service.client.job(name).await.unwrap().line.reason.unwrap();
    let reasons = async || {
        let mut found = Vec::new();
        for name in &names {
            found.push(reason(name).await);
        }
        found
    };
    let (coming, short) = (Reason::MachineComing, Reason::SupplyShort);
    assert_eq!(reasons().await, [coming, coming, short, short]);
    show(&service, (strand, at, epoch), [(coming, 2), (short, 2)]).await;
    let queue = service.client.queue(&QueueFilter::default()).await.unwrap();
    let groups: Vec<_> = queue.groups.iter().map(|g| (g.reason, g.jobs)).collect();
    assert!(
        groups.contains(&(coming, 2)) && groups.contains(&(short, 2)) && groups.len() == 2,
        "{groups:?}"
    );
    let second = queue.groups.iter().find(|group| group.reason == short);
    assert_eq!(second.unwrap().strands[0].first, names[2]);

    // When one before it goes, the third is among the first two.
    service.client.cancel(&names[0]).await.unwrap();
    assert_eq!(reason(&names[2]).await, coming);
    let waiting = service.client.why(&names[2]).await.unwrap().waiting;
    let parts: Vec<Reason> = waiting.iter().map(|span| span.reason).collect();
    assert!(
        parts.ends_with(&[Reason::NoMatch, short, coming]),
        "{parts:?}"
    );
    let fourth = service.client.why(&names[3]).await.unwrap().waiting;
    assert_eq!(fourth.last().unwrap().reason, short);

    // A filter by reason means the jobs that wait for it, not their whole strand.
    service
        .queue_when(|queue| {
            let mut groups = queue.groups.iter();
            groups.any(|group| group.reason == Reason::NoMatch && group.jobs == 3)
        })
        .await;
    show(&service, (strand, at, epoch), [(coming, 2), (short, 1)]).await;
    let act = BulkAction {
        action: Action::Cancel,
        reason: Some(short),
        cause: None,
        project: None,
        team: None,
        requirement: None,
        jobs: Vec::new(),
        preview: false,
    };
    let result = service.client.act_on_jobs(&act).await.unwrap();
    assert_eq!((result.found, result.jobs), (1, vec![names[3].clone()]));
}
