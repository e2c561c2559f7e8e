//! Logs by bytes and by lines, in the tail and sealed.

use crate::support::{Runner, Service};
use pennine_core::id::AttemptId;
use pennine_store::connect::PoolSizes;
use pennine_store::log::Append;
use pennine_store::{Store, log};
use pennined::log_store::LogStore;
use pennined::objects::Objects;
use uuid::Uuid;

struct Bench {
    store: Store,
    logs: LogStore,
    attempt: AttemptId,
    _folder: tempfile::TempDir,
    _database: crate::support::Database,
}

impl Bench {
    async fn new() -> Bench {
        let database = crate::support::Database::fresh().await;
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&database.url, &PoolSizes::default()).unwrap();
        let attempt = AttemptId(Uuid::now_v7());
        let client = database.connect().await;
        client
            .execute(
                &format!("insert into attempt_log (attempt_id) values ('{attempt}')"),
                &[],
            )
            .await
            .unwrap();
        let logs = LogStore::new(Objects::in_folder(folder.path()).unwrap());
        Bench {
            store,
            logs,
            attempt,
            _folder: folder,
            _database: database,
        }
    }

    async fn append(&self, offset: usize, bytes: &[u8]) -> Append {
        let mut connection = self.store.people().await.unwrap();
        self.logs
            .append(
                &mut connection,
                self.attempt,
                offset as i64,
                &bytes.to_vec().into(),
            )
            .await
            .unwrap()
    }

    async fn read(&self, from: usize, most: usize) -> Vec<u8> {
        let mut connection = self.store.people().await.unwrap();
        self.logs
            .read(&mut connection, self.attempt, from as i64, most)
            .await
            .unwrap()
    }

    async fn lines(&self, from: i64, count: usize) -> (Vec<String>, u64) {
        let mut connection = self.store.people().await.unwrap();
        let found = self
            .logs
            .lines(&mut connection, self.attempt, from, count)
            .await
            .unwrap();
        (found.lines, found.total)
    }

    async fn state(&self) -> log::LogState {
        let mut connection = self.store.people().await.unwrap();
        log::state(&mut connection, self.attempt)
            .await
            .unwrap()
            .unwrap()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn bytes_that_come_twice_count_once_and_a_gap_is_refused_with_the_right_offset() {
    let bench = Bench::new().await;
    assert!(matches!(bench.append(0, b"hello ").await, Append::Kept(state) if state.length == 6));
    assert!(
        matches!(bench.append(0, b"hello world").await, Append::Kept(state) if state.length == 11)
    );
    assert!(matches!(bench.append(3, b"lo wor").await, Append::Kept(state) if state.length == 11));
    assert_eq!(bench.append(12, b"!").await, Append::Gap(11));
    assert_eq!(bench.read(0, 100).await, b"hello world");
    assert_eq!(bench.read(6, 3).await, b"wor");
    assert_eq!(bench.read(11, 3).await, b"");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_log_reads_the_same_by_any_stretch_whether_in_the_tail_or_sealed() {
    let bench = Bench::new().await;
    let mut whole = Vec::new();
    let mut number = 0;
    while whole.len() < 2_600_000 {
        // Pieces of uneven length, so that objects end in the middle of lines.
        let mut piece = String::new();
        for _ in 0..(number % 977) + 1 {
            number += 1;
            piece += &format!("line {number} of a long log\n");
        }
        let Append::Kept(state) = bench.append(whole.len(), piece.as_bytes()).await else {
            panic!("kept")
        };
        whole.extend_from_slice(piece.as_bytes());
        assert_eq!(state.length as usize, whole.len());
    }
    let state = bench.state().await;
    assert_eq!(
        state.sealed,
        2 << 20,
        "whole objects are sealed, the rest is the tail"
    );
    assert_eq!(bench.read(0, usize::MAX >> 1).await, whole);
    for from in [
        0,
        1,
        (1 << 20) - 1,
        1 << 20,
        (1 << 20) + 1,
        (2 << 20) - 3,
        2 << 20,
        whole.len() - 5,
    ] {
        let upto = (from + 70_000).min(whole.len());
        assert_eq!(
            bench.read(from, 70_000).await,
            &whole[from..upto],
            "from {from}"
        );
    }
    let text = String::from_utf8(whole).unwrap();
    let all: Vec<&str> = text.lines().collect();
    for from in [0, 1, 40_000, all.len() / 2, all.len() - 3, all.len()] {
        let (lines, total) = bench.lines(from as i64, 50).await;
        let upto = (from + 50).min(all.len());
        assert_eq!(lines, all[from.min(upto)..upto], "from line {from}");
        assert_eq!(total as usize, all.len());
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_large_piece_fills_an_object_with_what_was_in_the_tail_and_leaves_the_rest_there() {
    let bench = Bench::new().await;
    let line = "a line of a log, number ";
    let mut whole: Vec<u8> = Vec::new();
    let mut number = 0;
    let mut piece = |least: usize| {
        let mut piece = Vec::new();
        while piece.len() < least {
            number += 1;
            piece.extend_from_slice(format!("{line}{number}\n").as_bytes());
        }
        piece.truncate(least);
        piece
    };
    // Small, large, the same large one again (its answer was lost), large at once after it, small.
    for (length, again) in [
        (700, false),
        (1 << 20, true),
        (1 << 20, false),
        (900, false),
        // Several objects at once.
        (4 << 20, true),
        ((3 << 20) - 5, false),
    ] {
        let new = piece(length);
        let offset = whole.len();
        whole.extend_from_slice(&new);
        for _ in 0..=u8::from(again) {
            let kept = bench.append(offset, &new).await;
            assert!(
                matches!(kept, Append::Kept(state) if state.length as usize == whole.len()),
                "{kept:?}"
            );
        }
        let sealed = bench.state().await.sealed as usize;
        assert_eq!(
            sealed,
            whole.len() >> 20 << 20,
            "after {length} bytes at {offset}"
        );
    }
    // One that begins in what is there already, and one that leaves a gap.
    let new = piece(1 << 20);
    let overlap = [&whole[whole.len() - 100..], &new].concat();
    let offset = whole.len() - 100;
    whole.extend_from_slice(&new);
    assert!(matches!(
        bench.append(offset, &overlap).await,
        Append::Kept(_)
    ));
    assert_eq!(
        bench.append(whole.len() + 1, &new).await,
        Append::Gap(whole.len() as i64)
    );
    assert_eq!(bench.read(0, usize::MAX >> 1).await, whole);
    let ends: Vec<usize> = (0..whole.len()).filter(|at| whole[*at] == b'\n').collect();
    assert_eq!(bench.state().await.lines as usize, ends.len());
    for from in [1, 20, ends.len() / 2, ends.len() - 2] {
        let (lines, _) = bench.lines(from as i64, 1).await;
        let wanted = &whole[ends[from - 1] + 1..ends[from]];
        assert_eq!(lines[0].as_bytes(), wanted, "line {from}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_line_that_has_not_ended_is_shown_and_counted() {
    let bench = Bench::new().await;
    bench.append(0, b"one\ntwo\r\nthr").await;
    assert_eq!(
        bench.lines(0, 10).await,
        (vec!["one".into(), "two".into(), "thr".into()], 3)
    );
    bench.append(12, b"ee\n").await;
    assert_eq!(
        bench.lines(1, 10).await,
        (vec!["two".into(), "three".into()], 3)
    );
    let overlong = vec![b'x'; 100_000];
    bench.append(15, &overlong).await;
    let (lines, total) = bench.lines(3, 1).await;
    assert_eq!(total, 4);
    assert!(
        lines[0].len() < 17_000 && lines[0].ends_with("bytes more)"),
        "{}",
        lines[0].len()
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_replica_on_a_folder_that_is_not_the_installations_is_refused() {
    let service = Service::start().await;
    let elsewhere = tempfile::tempdir().unwrap();
    let key = service.data.path().join("installation.key");
    std::fs::copy(&key, elsewhere.path().join("installation.key")).unwrap();
    let start = |data: &std::path::Path| {
        let config =
            crate::support::config(&service.database.url, data, ([127, 0, 0, 1], 0).into());
        let clock = service.clock.clone();
        async move {
            let listener = tokio::net::TcpListener::bind(config.listen).await.unwrap();
            pennined::boot::serve(
                config,
                listener,
                Some(clock),
                Box::pin(std::future::pending()),
            )
            .await
        }
    };
    let refused = start(elsewhere.path()).await.unwrap_err().to_string();
    assert!(
        refused.contains("All replicas share one folder"),
        "{refused}"
    );
    std::fs::write(
        elsewhere.path().join("installation.key"),
        "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=\n",
    )
    .unwrap();
    let refused = start(elsewhere.path()).await.unwrap_err().to_string();
    assert!(refused.contains("is not this installation's"), "{refused}");
    std::fs::remove_file(elsewhere.path().join("installation.key")).unwrap();
    let refused = start(elsewhere.path()).await.unwrap_err().to_string();
    assert!(refused.contains("put the key file back"), "{refused}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_log_past_its_cap_is_cut_with_a_visible_mark() {
    let service = Service::with(|config| config.limits.job_log_bytes = 1 << 20).await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    let name = service
        .submit("", "head -c 3000000 /dev/zero | tr '\\0' x; echo; echo end")
        .await;
    let job = service.done(&name).await;
    assert!(job.attempts[0].log_capped);
    let log = String::from_utf8(service.log(&name).await).unwrap();
    assert!(log.contains("pennine: the log is longer than 1048576 bytes; the rest is omitted"));
    assert!(
        log.contains("\npennine: exit code 0 after "),
        "the runner's last line is there"
    );
    assert!(!log.contains("\nend\n") && log.len() < 1_100_000);
}
