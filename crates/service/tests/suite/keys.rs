//! Another key of the installation, while it serves.

use crate::support::{Runner, Service, program, until};
use pennine_core::access::Role;
use pennine_core::secret::{SecretText, SecretUse};
use pennine_core::time::Micros;
use pennine_wire::{NewJob, NewListener, NewPerson, NewSecret, NewSupplier};
use pennined::key_file;
use std::collections::BTreeMap;
use std::path::Path;
use std::process::Output;

async fn rotate(service: &Service, data: &Path, more: &[&str]) -> Output {
    tokio::process::Command::new(program("pennined"))
        .arg("rotate-key")
        .args(more)
        .env("PENNINED_DATABASE_URL", &service.database.service_url)
        .env("PENNINED_DATA_DIR", data)
        .output()
        .await
        .unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// The ids of the keys that have encrypted something, and how often each.
async fn used(service: &Service) -> Vec<String> {
    let query = "select id || ' ' || count(*) from (
          select split_part(locked, ':', 1) as id from secret where locked is not null
          union all select split_part(locked, ':', 1) from signing_key
          union all select split_part(totp_secret, ':', 1) from person where totp_secret is not null
          union all select split_part(secret, ':', 1) from listener
          union all select split_part(value, ':', 1) from supplier, jsonb_each_text(secrets)) t
        group by id order by id";
    service.database.texts(query).await
}

/// One of everything that is encrypted.
async fn furnish(service: &Service) {
    service.furnish().await;
    let people = &service.client;
    for (name, place) in [("UPLOAD_KEY", "firmware"), ("OTHER_KEY", "")] {
        let new = NewSecret {
            place: place.into(),
            name: name.into(),
            value: Some(SecretText("open sesame".into())),
            ..NewSecret::default()
        };
        people.set_secret(&new).await.unwrap();
    }
    let listener = NewListener {
        name: "pager".into(),
        url: "http://127.0.0.1:9/".into(),
        kinds: Vec::new(),
    };
    people.add_listener(&listener).await.unwrap();
    let supplier = NewSupplier {
        name: "cloud".into(),
        kind: "standin-cloud".into(),
        settings: BTreeMap::from([("url".to_owned(), "http://127.0.0.1:9".to_owned())]),
        secrets: BTreeMap::from([("key".to_owned(), "open sesame".to_owned())]),
        ..NewSupplier::default()
    };
    people.add_supplier(&supplier).await.unwrap();
    let person = NewPerson {
        name: "mira".into(),
        full_name: String::new(),
        role: Role::Viewer,
        place: String::new(),
    };
    people.add_person(&person).await.unwrap();
}

async fn runs_with_its_secret(service: &Service) {
    let new = NewJob {
        project: "buoy".into(),
        command: [
            "sh",
            "-c",
            "test \"$UPLOAD_KEY\" = \"open sesame\" && echo as it was",
        ]
        .map(str::to_owned)
        .to_vec(),
        secrets: BTreeMap::from([("UPLOAD_KEY".to_owned(), SecretUse::Variable)]),
        ..NewJob::default()
    };
    let job = service.client.submit(&new, None).await.unwrap().job.name;
    service.done(&job).await;
    let log = service.client.log(&job, None, 0, Micros(0)).await.unwrap();
    let log = text(&log.bytes);
    assert!(log.contains("as it was"), "{log}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_new_key_encrypts_what_the_old_one_did_while_the_service_runs() {
    let service = Service::start().await;
    furnish(&service).await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    runs_with_its_secret(&service).await;
    let data = service.data.path();
    let ids = |data: &Path| -> Vec<String> {
        let keys = key_file::read(data).unwrap().unwrap();
        keys.iter().map(|key| key.id.clone()).collect()
    };
    let old = ids(data).remove(0);
    assert_eq!(used(&service).await.len(), 1);

    let done = rotate(&service, data, &[]).await;
    assert!(done.status.success(), "{}", text(&done.stderr));
    let ids = ids(data);
    let [first, new] = ids.as_slice() else {
        panic!("two keys: {ids:?}");
    };
    assert_eq!(*first, old);
    let now = used(&service).await;
    assert!(
        now.len() == 1 && now[0].starts_with(new.as_str()),
        "{now:?} with {new}"
    );
    // The service goes on with it: what was there opens, and what is set now is encrypted with it.
    runs_with_its_secret(&service).await;
    let next = NewSecret {
        name: "NEXT_KEY".into(),
        value: Some(SecretText("more".into())),
        ..NewSecret::default()
    };
    service.client.set_secret(&next).await.unwrap();
    assert_eq!(used(&service).await.len(), 1);
    let audit = "select subject from audit where what = 'key.rotate'";
    assert_eq!(
        service.database.texts(audit).await,
        std::slice::from_ref(new)
    );
    // The seals of both keys are accepted.
    let verified = tokio::process::Command::new(program("pennined"))
        .arg("verify-audit")
        .env("PENNINED_DATABASE_URL", &service.database.service_url)
        .env("PENNINED_DATA_DIR", data)
        .output()
        .await
        .unwrap();
    assert!(verified.status.success(), "{}", text(&verified.stderr));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_replica_without_the_new_key_is_not_ready_and_encrypts_nothing_until_it_has_it() {
    let service = Service::start().await;
    furnish(&service).await;
    let own = service.data.path();
    // The rotation runs where the key file is another copy.
    let elsewhere = tempfile::tempdir().unwrap();
    let copy = |from: &Path, to: &Path| std::fs::copy(key_file::path(from), key_file::path(to));
    let count = |data: &Path| key_file::read(data).unwrap().unwrap().iter().count();
    copy(own, elsewhere.path()).unwrap();
    let prepared = rotate(&service, elsewhere.path(), &["--prepare"]).await;
    assert!(
        text(&prepared.stdout).contains("Copy the file to every other replica"),
        "{}",
        text(&prepared.stdout)
    );
    assert_eq!(count(elsewhere.path()), 2);
    let before = used(&service).await;
    let done = rotate(&service, elsewhere.path(), &[]).await;
    assert!(done.status.success(), "{}", text(&done.stderr));
    // The key that was prepared, and no third one.
    assert_eq!(count(elsewhere.path()), 2);
    assert_ne!(used(&service).await, before);
    let ready = || async {
        let answer = reqwest::get(format!("{}/readyz", service.url))
            .await
            .unwrap();
        answer.text().await.unwrap()
    };
    until("the replica is not ready", || async {
        ready()
            .await
            .contains("key in use is not in this replica's key file")
            .then_some(())
    })
    .await;
    let new = NewSecret {
        name: "NEXT_KEY".into(),
        value: Some(SecretText("more".into())),
        ..NewSecret::default()
    };
    assert!(service.client.set_secret(&new).await.is_err());
    copy(elsewhere.path(), own).unwrap();
    until("the replica is ready", || async {
        ready().await.starts_with("ready").then_some(())
    })
    .await;
    service.client.set_secret(&new).await.unwrap();
    assert_eq!(used(&service).await.len(), 1);

    // A text whose key is lost is named, and the others are encrypted.
    let lost = "update secret set locked = '0011223344556677:AAAA' where name = 'OTHER_KEY'";
    service
        .database
        .connect()
        .await
        .batch_execute(lost)
        .await
        .unwrap();
    let partly = rotate(&service, own, &[]).await;
    assert!(!partly.status.success());
    assert!(
        text(&partly.stdout).contains("0011223344556677")
            && text(&partly.stderr).contains("1 texts cannot be decrypted"),
        "{}{}",
        text(&partly.stdout),
        text(&partly.stderr)
    );
    assert_eq!(used(&service).await.len(), 2);
}
