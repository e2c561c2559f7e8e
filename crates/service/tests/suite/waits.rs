//! What a wait is made of, where the jobs of one strand wait for different reasons.

use crate::support::{Service, until};
use pennine_core::dispatch::{Reason, Segment};
use pennine_core::id::{ShortName, StrandId};
use pennine_store::leadership::{self, Epoch};
use pennine_store::{Store, job, strand};
use pennine_wire::{Action, BulkAction};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_job_is_told_the_reason_of_its_place_in_line_and_its_wait_is_split_by_it() {
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
    let store = Store::open(&service.database.url, 2).unwrap();
    let mut connection = store.get().await.unwrap();
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
    let queue = service.client.queue().await.unwrap();
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
    let act = BulkAction {
        action: Action::Cancel,
        reason: Some(short),
        project: None,
        team: None,
        requirement: None,
        jobs: Vec::new(),
        preview: false,
    };
    let result = service.client.act_on_jobs(&act).await.unwrap();
    assert_eq!((result.found, result.jobs), (1, vec![names[3].clone()]));
}
