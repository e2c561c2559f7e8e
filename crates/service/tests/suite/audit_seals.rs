//! The audit log is sealed soon after it is written, and what is changed in it afterwards is found.

use crate::support::{Service, program, until};
use pennine_store::Store;
use pennine_store::connect::PoolSizes;
use pennine_wire::NewTeam;
use pennined::audit_seals::{Verification, verify};
use pennined::encryption::Encryption;
use pennined::key_file;
use std::process::Command;
use std::time::SystemTime;

async fn add_team(service: &Service, name: &str) {
    let (name, parent) = (name.to_owned(), None);
    let new = NewTeam { name, parent };
    service.client.add_team(&new).await.unwrap();
}

/// Waits until exactly this number of entries is sealed.
async fn sealed(service: &Service, entries: &str) {
    until("the entries are sealed", async || {
        let query = "select coalesce(sum(entries), 0)::text from audit_seal";
        let found = service.database.texts(query).await;
        (found == [entries]).then_some(())
    })
    .await;
}

async fn count(service: &Service) -> String {
    let query = "select count(*)::text from audit";
    service.database.texts(query).await.remove(0)
}

async fn verified(service: &Service) -> Verification {
    let store = Store::open(&service.database.url, &PoolSizes::default()).unwrap();
    let (id, key) = key_file::read(service.data.path()).unwrap().unwrap();
    let encryption = Encryption::new(id, key);
    verify(&store, &encryption, &mut |_| {}).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_changed_removed_or_added_after_it_was_sealed_is_found() {
    let service = Service::start().await;
    for name in ["shore", "firmware", "chartroom"] {
        add_team(&service, name).await;
        sealed(&service, &count(&service).await).await;
    }
    let found = verified(&service).await;
    assert_eq!(found.problems, [""; 0]);
    assert_eq!(found.entries.to_string(), count(&service).await);
    assert!(found.seals >= 3, "{found:?}");

    let connection = service.database.connect().await;
    for (damage, repair, word) in [
        (
            "update audit set who = 'teo' where subject = 'firmware'",
            "update audit set who = 'admin' where subject = 'firmware'",
            "was changed",
        ),
        (
            "create table taken as select * from audit where subject = 'shore'; delete from audit where subject = 'shore'",
            "insert into audit select * from taken",
            "entries were removed",
        ),
        (
            "insert into audit (id, at, who, who_kind, place, what, subject, detail)
             select id, at + interval '1 microsecond', 'x', 'token', '', 'pool.add', 'x', '{}' from audit where subject = 'shore'",
            "delete from audit where subject = 'x'",
            "1 entries were added",
        ),
        (
            "update audit_seal set signature = hash where last_id = (select id from audit where subject = 'shore')",
            "",
            "was not made with this installation's key",
        ),
    ] {
        connection.batch_execute(damage).await.unwrap();
        let found = verified(&service).await;
        assert_eq!(found.problems.len(), 1, "{damage}: {found:?}");
        assert!(found.problems[0].contains(word), "{found:?}");
        connection.batch_execute(repair).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_log_whose_end_was_cut_off_differs_from_the_seals_that_are_kept_elsewhere() {
    let service = Service::start().await;
    for name in ["shore", "firmware"] {
        add_team(&service, name).await;
        sealed(&service, &count(&service).await).await;
    }
    let list = service.data.path().join("seals");
    let path = list.to_str().unwrap();
    let check = |arguments: &[&str]| {
        let output = Command::new(program("pennined"))
            .arg("verify-audit")
            .args(arguments)
            .env("PENNINED_DATABASE_URL", &service.database.url)
            .env("PENNINED_DATA_DIR", service.data.path())
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        (output.status.success(), text)
    };
    let (is_right, text) = check(&["--export", path]);
    assert!(
        is_right && text.contains("Every entry is as it was"),
        "{text}"
    );
    let cut = "delete from audit where subject = 'firmware';
               delete from audit_seal where last_id = (select max(last_id) from audit_seal)";
    let connection = service.database.connect().await;
    connection.batch_execute(cut).await.unwrap();
    let (is_right, text) = check(&[]);
    assert!(is_right, "the rest is in order by itself: {text}");
    let (is_right, text) = check(&["--against", path]);
    assert!(!is_right, "{text}");
    assert!(
        text.contains("is in the list and not in the database"),
        "{text}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_entry_that_commits_late_is_sealed_in_its_place_and_one_that_is_undone_is_named() {
    const INSERT: &str = "insert into audit (at, who, who_kind, place, what, subject, detail)
        values ($1, 'late', 'token', '', 'test', $2, '{}')";
    let service = Service::start().await;
    add_team(&service, "shore").await;
    let before = count(&service).await;
    sealed(&service, &before).await;
    let at = SystemTime::now();
    let mut slow = service.database.connect().await;
    let open = slow.transaction().await.unwrap();
    open.execute(INSERT, &[&at, &"late"]).await.unwrap();
    add_team(&service, "firmware").await;
    // It has a number of its own below that of the team.
    sealed(&service, &before).await;
    open.commit().await.unwrap();
    sealed(&service, &count(&service).await).await;
    let open = slow.transaction().await.unwrap();
    open.execute(INSERT, &[&at, &"undone"]).await.unwrap();
    add_team(&service, "chartroom").await;
    open.rollback().await.unwrap();
    sealed(&service, &count(&service).await).await;
    let missing = "select missing::text from audit_seal order by last_id desc limit 1";
    let missing = service.database.texts(missing).await.remove(0);
    assert!(missing.starts_with("[["), "{missing}");
    assert_eq!(verified(&service).await.problems, [""; 0]);
}
