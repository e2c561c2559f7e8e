//! History as CSV: in from elsewhere, and out again.

use crate::command_line::{pennine, prints};
use crate::support::{Service, until};
use pennine_client::{JobListFilter, TrendFilter};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::time::{Micros, Moment};
use pennine_store::connect::PoolSizes;
use pennine_store::{Store, measure};
use std::path::PathBuf;
use std::time::Duration;
use tempfile::TempDir;

fn written(folder: &TempDir, lines: &[String]) -> PathBuf {
    let path = folder.path().join("history.csv");
    let heads = "project,pool,ready,started,finished,result,title,where,runner,colour";
    std::fs::write(&path, format!("{heads}\n{}\n", lines.join("\n"))).unwrap();
    path
}

fn job(ready: Moment, started: Moment, finished: Moment, result: &str) -> String {
    format!(
        "firmware/buoy,staithe,{ready},{started},{finished},{result},\"build, test\",linux,old-01,blue"
    )
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_import_reports_every_wrong_line_and_writes_nothing() {
    let service = Service::start().await;
    service.furnish().await;
    let now = service.client.status().await.unwrap().now;
    let ago = |minutes: u64| now - Duration::from_secs(minutes * 60);
    let folder = tempfile::tempdir().unwrap();
    let good = job(ago(90), ago(80), ago(70), "success");
    let bad = [
        good.clone(),
        job(ago(80), ago(90), ago(70), "success"),
        job(ago(90), ago(80), ago(70), "splendid"),
        good.replace("staithe", "jetty"),
        good.replace("linux", "mem >="),
        job(ago(90), ago(80), now + Duration::from_secs(3600), "success"),
        "firmware/buoy,staithe,yesterday".to_owned(),
    ];
    let refused = pennine(
        &service,
        &[
            "history",
            "import",
            written(&folder, &bad).to_str().unwrap(),
        ],
    )
    .await;
    assert_eq!(refused.status.code(), Some(3));
    let message = String::from_utf8_lossy(&refused.stderr).into_owned();
    for word in [
        "nothing was imported",
        "line 3: ready, assigned, started and finished are not in this order",
        "line 4: result:",
        "line 5: pool: unknown pool \"jetty\"",
        "line 6: where: column",
        "line 7: the job has to have finished",
        "line: 8",
    ] {
        assert!(message.contains(word), "{word} in {message}");
    }
    assert!(
        service
            .client
            .jobs(&JobListFilter::default(), None, 10)
            .await
            .unwrap()
            .items
            .is_empty()
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn imported_jobs_count_like_any_other_and_lines_on_record_are_skipped() {
    let service = Service::start().await;
    service.furnish().await;
    let now = service.client.status().await.unwrap().now;
    let ago = |minutes: u64| now - Duration::from_secs(minutes * 60);
    let folder = tempfile::tempdir().unwrap();
    // The same line twice is two jobs.
    let good = job(ago(90), ago(80), ago(70), "success");
    let lines = [
        good.clone(),
        good,
        job(ago(60), ago(59), ago(50), "failure"),
    ];
    let path = written(&folder, &lines);
    let file = path.to_str().unwrap();
    written(&folder, &lines[..2]);
    let part = prints(&service, &["history", "import", file]).await;
    assert!(part.starts_with("Imported 2 jobs."), "{part}");
    written(&folder, &lines);
    let rest = prints(&service, &["history", "import", file]).await;
    assert!(rest.starts_with("Imported 1 job."), "{rest}");
    assert!(
        rest.contains("2 jobs on record already, skipped."),
        "{rest}"
    );
    let again = prints(&service, &["history", "import", file]).await;
    assert!(again.starts_with("Imported 0 jobs."), "{again}");
    let kept = "select concat_ws(' ', name, state, created_at < state_since) from runner";
    assert_eq!(service.database.texts(kept).await, ["old-01 retired t"]);
    let audited = "select detail->>'jobs' from audit where what = 'history.import' order by id";
    assert_eq!(service.database.texts(audited).await, ["2", "1"]);

    let of = TrendFilter {
        last_us: Some(Micros::from(Duration::from_secs(7200))),
        ..TrendFilter::default()
    };
    let whole = service.client.trends(&of).await.unwrap().whole;
    assert_eq!(whole.wait.count, 3);
    let minutes = |n: u64| n * 60_000_000;
    assert_eq!(whole.wait.sum_us.0, minutes(10 + 10 + 1));
    assert_eq!(
        (
            whole.results[&Outcome::Success],
            whole.results[&Outcome::Failure]
        ),
        (2, 1)
    );
    assert_eq!(whole.busy_us.0, minutes(10 + 10 + 9));

    let out = prints(&service, &["history", "export", "--last", "1d"]).await;
    let mut lines = out.lines();
    assert!(
        lines
            .next()
            .unwrap()
            .starts_with("job,title,project,where,pool,runner,ready,"),
        "{out}"
    );
    assert_eq!(lines.clone().count(), 3, "{out}");
    assert!(
        lines.all(|line| line.contains("\"build, test\",firmware/buoy,linux,staithe,old-01,")),
        "{out}"
    );

    // What came in is on the record: recomputed it is the same.
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let found = measure::rebuild(&mut store.patient().await.unwrap(), now)
        .await
        .unwrap();
    assert_eq!(found.work_spans, 3);
    assert_eq!(service.client.trends(&of).await.unwrap().whole, whole);
}

/// The sums of ten days, with what they are kept by.
async fn tens(service: &Service) -> Vec<String> {
    let query = "select concat_ws(' ', r.kind, k.owner_id, k.project_id, k.text, r.at, encode(r.cell, 'hex')) from rollup r
                 join rollup_key k on k.id = r.key where r.resolution = 5 order by 1";
    service.database.texts(query).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn past_days_are_compacted_and_late_records_are_counted_in_both() {
    const DAY: u64 = 86_400;
    let service = Service::start().await;
    service.furnish().await;
    let now = service.client.status().await.unwrap().now;
    let folder = tempfile::tempdir().unwrap();
    let job = |days: u64, minutes: u64| {
        let ready = now - Duration::from_secs(days * DAY);
        let started = ready + Duration::from_secs(minutes * 60);
        let finished = started + Duration::from_secs(300);
        format!("firmware/buoy,staithe,{ready},{started},{finished},success,test,linux,old-01,blue")
    };
    let lines: Vec<String> = (2..=25).map(|days| job(days, days)).collect();
    let path = written(&folder, &lines);
    prints(&service, &["history", "import", path.to_str().unwrap()]).await;
    let drawn = until("what is over is drawn together", || async {
        // Of the days before the stretch of today.
        let query =
            "select count(*)::text from measure_cursor where compacted_until > now() - interval '12 days'";
        (service.database.texts(query).await == ["1"]).then_some(())?;
        Some(tens(&service).await)
    })
    .await;
    assert!(drawn.len() > 10, "{drawn:?}");
    let year = TrendFilter {
        last_us: Some(Micros::from(Duration::from_secs(365 * DAY))),
        ..TrendFilter::default()
    };
    let whole = service.client.trends(&year).await.unwrap().whole;
    assert_eq!(whole.wait.count, 24);
    let minutes: u64 = (2..=25).sum();
    assert_eq!(whole.wait.sum_us.0, minutes * 60_000_000);

    let path = written(&folder, &[job(20, 100)]);
    prints(&service, &["history", "import", path.to_str().unwrap()]).await;
    let late = tens(&service).await;
    assert_ne!(late, drawn);
    let whole = service.client.trends(&year).await.unwrap().whole;
    assert_eq!(whole.wait.count, 25);
    assert_eq!(whole.wait.sum_us.0, (minutes + 100) * 60_000_000);

    // From the days alone it is the same, and recomputed too, with the same bytes.
    service
        .database
        .texts("update measure_cursor set compacted_until = 'epoch' returning ''")
        .await;
    assert_eq!(service.client.trends(&year).await.unwrap().whole, whole);
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    measure::rebuild(&mut store.patient().await.unwrap(), now)
        .await
        .unwrap();
    assert_eq!(tens(&service).await, late);
    assert_eq!(service.client.trends(&year).await.unwrap().whole, whole);
}
