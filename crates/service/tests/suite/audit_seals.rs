//! The audit log is sealed soon after it is written, and what is changed in it afterwards is found.

use crate::support::{Database, Service, program, until};
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
    let keys = key_file::read(service.data.path()).unwrap().unwrap();
    let current = keys.newest().id.clone();
    let encryption = Encryption::new(keys, current, service.data.path());
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
            "was made with a key that is not in the key file",
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

/// Services of tests run as a role that owns nothing, as where an installation keeps its audit log from being changed.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_services_role_can_add_to_the_audit_log_and_not_change_it() {
    let service = Service::start().await;
    add_team(&service, "firmware").await;
    let (client, connection) =
        tokio_postgres::connect(&service.database.service_url, tokio_postgres::NoTls)
            .await
            .unwrap();
    tokio::spawn(connection);
    let month = "select c.relname::text from pg_inherits i join pg_class c on c.oid = i.inhrelid
                 where i.inhparent = 'audit'::regclass order by 1 limit 1";
    let month = service.database.texts(month).await.remove(0);
    for statement in [
        "update audit set who = 'ola'".to_owned(),
        "delete from audit".to_owned(),
        "truncate audit".to_owned(),
        format!("delete from {month}"),
        format!("insert into {month} select * from audit"),
        format!("drop table {month}"),
        "alter table audit disable trigger all".to_owned(),
        "update audit_seal set entries = 0".to_owned(),
        "delete from audit_seal".to_owned(),
        "create table more (id int)".to_owned(),
        "delete from __diesel_schema_migrations".to_owned(),
    ] {
        let refused = client.batch_execute(&statement).await.unwrap_err();
        let message = refused.as_db_error().unwrap().message().to_owned();
        assert!(
            message.contains("permission denied") || message.contains("must be owner"),
            "{statement}: {message}"
        );
    }
    // Neither by the function that retention uses, whatever time it is given.
    let dropped = "select drop_partition('audit', '2200-01-01')";
    let dropped = client.query_one(dropped, &[]).await.unwrap();
    assert_eq!(dropped.get::<_, Option<String>>(0), None);
    let before = count(&service).await;
    add_team(&service, "shore").await;
    assert_ne!(count(&service).await, before);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pennined_migrate_permits_another_role_than_the_owner() {
    let database = Database::fresh().await;
    let data = tempfile::tempdir().unwrap();
    let migrate = |url: &str, owner: &str| {
        Command::new(program("pennined"))
            .arg("migrate")
            .env("PENNINED_DATABASE_URL", url)
            .env("PENNINED_DATABASE_OWNER_URL", owner)
            .env("PENNINED_DATA_DIR", data.path())
            .output()
            .unwrap()
    };
    // An older schema: the service's role does not change it, and says who can.
    let older = "drop function permit_service(text); delete from __diesel_schema_migrations where version = '20261129000005'";
    let owner = database.connect().await;
    owner.batch_execute(older).await.unwrap();
    let refused = migrate(&database.service_url, "");
    let message = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        !refused.status.success() && message.contains("database_owner_url"),
        "{message}"
    );
    let whole = "insert into __diesel_schema_migrations values ('20261129000005')";
    owner.batch_execute(whole).await.unwrap();
    let refused = migrate(&database.service_url, &database.url);
    assert!(!refused.status.success(), "the function is missing");

    let database = Database::fresh().await;
    let done = migrate(&database.service_url, &database.url);
    let text = String::from_utf8_lossy(&done.stdout).into_owned();
    assert!(
        done.status.success() && text.contains("add to the audit log but not change it"),
        "{text}"
    );
    let same = migrate(&database.url, "");
    let text = String::from_utf8_lossy(&same.stdout).into_owned();
    assert!(same.status.success() && text.contains("owns it"), "{text}");
}
