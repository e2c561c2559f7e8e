//! Every supplier that needs nothing else holds to what suppliers hold to.

// A test that cannot go on fails.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use pennine_standins::program::program;
use pennine_suppliers::command::Command;
use pennine_suppliers::conformance::{self, some_order};
use pennine_suppliers::local::Local;
use pennine_suppliers::local::walls::MachineIsolation;
use pennine_suppliers::{Fault, SuppliedState, Supplier};
use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;
use uuid::Uuid;

const ONE: Uuid = Uuid::from_u128(1);
const OTHER: Uuid = Uuid::from_u128(2);

fn local(folder: &Path, installation: Uuid, runner: &str, walls: &str, most: u32) -> Local {
    let program = program(
        folder,
        "runner",
        &format!("#!/bin/sh\n[ \"$1\" = join ] || exit 0\n{runner}\n"),
    )
    .unwrap();
    let settings = [
        ("most".to_owned(), most.to_string()),
        ("walls".to_owned(), walls.to_owned()),
        ("scratch".to_owned(), "16MiB".to_owned()),
    ];
    let dir = folder.join("machines");
    Local::new(
        dir,
        folder.into(),
        program,
        installation,
        &BTreeMap::from(settings),
    )
    .unwrap()
}

async fn until(supplier: &dyn Supplier, number: u128, stage: SuppliedState) {
    let machine = some_order(ONE, number).machine;
    let waited = tokio::time::timeout(Duration::from_secs(30), async {
        while conformance::stage(supplier, machine).await != Some(stage) {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    });
    waited.await.unwrap();
}

#[tokio::test]
async fn the_local_supplier_passes_the_supplier_conformance_suite() {
    let folder = tempfile::tempdir().unwrap();
    let own = local(folder.path(), ONE, "exec sleep 60", "folder", 9);
    let other = local(folder.path(), OTHER, "exec sleep 60", "folder", 9);
    conformance::hold(&own, &other, |number| some_order(ONE, number))
        .await
        .unwrap();
}

/// Whether the walls work here; said loudly where they do not.
async fn built(walls: &str, folder: &Path) -> bool {
    let works = MachineIsolation::parse(walls).unwrap().work(folder).await;
    if !works {
        eprintln!("SKIPPED: no {walls} walls here; bubblewrap and user namespaces are needed");
    }
    works
}

#[tokio::test]
async fn the_sandboxed_local_supplier_passes_the_supplier_conformance_suite() {
    for walls in ["overlay", "read-only"] {
        let folder = tempfile::tempdir().unwrap();
        if built(walls, folder.path()).await {
            let own = local(folder.path(), ONE, "exec sleep 60", walls, 9);
            let other = local(folder.path(), OTHER, "exec sleep 60", walls, 9);
            conformance::hold(&own, &other, |number| some_order(ONE, number))
                .await
                .unwrap();
        }
    }
}

/// What a machine behind these walls says when it looks around, and writes.
async fn looked_around(walls: &str) -> Option<String> {
    let folder = tempfile::tempdir().unwrap();
    if !built(walls, folder.path()).await {
        return None;
    }
    std::fs::write(folder.path().join("key"), "the service's key").unwrap();
    let look = format!(
        "cat {} && echo KEY; ls -A /root /home; touch here && echo HERE; \
         for place in /tmp /var/tmp /dev/shm /dev /run /home; do dd if=/dev/zero of=$place/fill bs=1M count=32 2>/dev/null && echo FILLED $place; rm -f $place/fill; done; \
         touch /etc/pennine-was-here 2>/dev/null && echo WRITTEN; cat ../order.json ../pid 2>/dev/null && echo CONTROL; ps ax | wc -l; \
         mount -o remount,rw / 2>/dev/null && echo REMOUNTED; trap 'echo TOLD; exit' TERM; echo READY; \
         while :; do sleep 0.1; done",
        folder.path().join("key").display()
    );
    let own = local(folder.path(), ONE, &look, walls, 1);
    own.order(&some_order(ONE, 1)).await.unwrap();
    let machine = some_order(ONE, 1).machine;
    let message = tokio::time::timeout(Duration::from_secs(30), async {
        loop {
            let message = own.console(machine).await.unwrap();
            if message.contains("READY") {
                return message;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    });
    let message = message.await.unwrap();
    let inside = folder.path().join("machines").join(machine.to_string());
    assert!(
        inside.join("home/here").exists(),
        "its folder is the host's own"
    );
    own.remove(machine).await.unwrap();
    assert!(!inside.exists(), "nothing is left behind");
    assert!(!Path::new("/etc/pennine-was-here").exists());
    Some(message)
}

#[tokio::test]
async fn a_machine_with_an_overlay_writes_anywhere_and_reads_no_secrets() {
    let Some(message) = looked_around("overlay").await else {
        return;
    };
    for (word, there) in [
        ("HERE", true),
        // As the root of the host only: others have the same write permissions as outside.
        ("WRITTEN", nix::unistd::geteuid().is_root()),
        ("KEY", false),
        ("CONTROL", false),
        ("FILLED", false),
        ("REMOUNTED", false),
    ] {
        assert_eq!(message.contains(word), there, "{word} in {message}");
    }
}

#[tokio::test]
async fn a_machine_in_a_read_only_sandbox_writes_in_its_folder_only() {
    let Some(message) = looked_around("read-only").await else {
        return;
    };
    assert!(message.contains("HERE"), "{message}");
    for word in ["WRITTEN", "KEY", "CONTROL", "REMOUNTED", "FILLED"] {
        assert!(!message.contains(word), "{word} in {message}");
    }
}

#[tokio::test]
async fn a_sandboxed_machine_reaches_the_hosts_network_only_if_its_pool_says_so() {
    let service = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = service.local_addr().unwrap().port();
    for walls in ["overlay", "read-only"] {
        let folder = tempfile::tempdir().unwrap();
        if !built(walls, folder.path()).await {
            continue;
        }
        let look = format!(
            "bash -c '</dev/tcp/127.0.0.1/{port}' 2>/dev/null && echo REACHED; echo READY; exec sleep 60"
        );
        let own = local(folder.path(), ONE, &look, walls, 9);
        for (number, network, reaches) in [
            (1, None, false),
            (2, Some("service"), false),
            (3, Some("host"), true),
        ] {
            let mut order = some_order(ONE, number);
            order
                .settings
                .extend(network.map(|value| ("network".to_owned(), value.to_owned())));
            own.order(&order).await.unwrap();
            let seen = loop {
                let seen = own.console(order.machine).await.unwrap();
                if seen.contains("READY") {
                    break seen;
                }
                tokio::time::sleep(Duration::from_millis(10)).await;
            };
            assert_eq!(
                seen.contains("REACHED"),
                reaches,
                "{walls} {network:?}: {seen}"
            );
            own.remove(order.machine).await.unwrap();
        }
        let mut order = some_order(ONE, 4);
        order
            .settings
            .insert("network".to_owned(), "all".to_owned());
        let fault = own.order(&order).await.unwrap_err();
        assert!(
            matches!(&fault, Fault::Refused(text) if text.contains("service or host")),
            "{fault:?}"
        );
    }
}

#[tokio::test]
async fn the_local_supplier_refuses_more_machines_than_its_host_can_bear() {
    let folder = tempfile::tempdir().unwrap();
    let own = local(folder.path(), ONE, "exec sleep 60", "folder", 1);
    own.order(&some_order(ONE, 1)).await.unwrap();
    let fault = own.order(&some_order(ONE, 2)).await.unwrap_err();
    assert!(
        matches!(fault, Fault::Quota { quota: Some(1), .. }),
        "{fault:?}"
    );
    own.remove(some_order(ONE, 1).machine).await.unwrap();
    own.order(&some_order(ONE, 2)).await.unwrap();
    own.remove(some_order(ONE, 2).machine).await.unwrap();
}

#[tokio::test]
async fn a_local_machine_that_ends_by_itself_is_stopped_and_its_console_is_kept_until_it_is_removed()
 {
    let folder = tempfile::tempdir().unwrap();
    let own = local(
        folder.path(),
        ONE,
        "echo no ticket here; exit 3",
        "folder",
        1,
    );
    own.order(&some_order(ONE, 1)).await.unwrap();
    until(&own, 1, SuppliedState::Stopped).await;
    let machine = some_order(ONE, 1).machine;
    assert_eq!(own.console(machine).await.unwrap(), "no ticket here\n");
    own.remove(machine).await.unwrap();
    assert_eq!(own.console(machine).await.unwrap(), "");
}

#[tokio::test]
async fn a_local_machine_that_ignores_sigterm_is_killed() {
    let folder = tempfile::tempdir().unwrap();
    let stubborn = "trap '' TERM INT; echo ready; while :; do sleep 0.1; done";
    let own = local(folder.path(), ONE, stubborn, "folder", 1);
    own.order(&some_order(ONE, 1)).await.unwrap();
    let machine = some_order(ONE, 1).machine;
    while own.console(machine).await.unwrap() != "ready\n" {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    own.remove(some_order(ONE, 1).machine).await.unwrap();
    assert!(own.list().await.unwrap().is_empty());
}

#[tokio::test]
async fn the_example_of_the_command_supplier_passes_the_conformance_suite() {
    let folder = tempfile::tempdir().unwrap();
    let docs = concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../../docs/examples/supplier.sh"
    );
    let runner = program(folder.path(), "runner", "#!/bin/sh\nexec sleep 60\n").unwrap();
    let made = |installation| {
        let settings = [
            ("program".to_owned(), docs.to_owned()),
            (
                "dir".to_owned(),
                folder.path().join("made").display().to_string(),
            ),
            ("runner".to_owned(), runner.display().to_string()),
        ];
        Command::new(installation, BTreeMap::from(settings)).unwrap()
    };
    let (own, other) = (made(ONE), made(OTHER));
    conformance::hold(&own, &other, |number| some_order(ONE, number))
        .await
        .unwrap();
}

#[tokio::test]
async fn invalid_answers_of_a_command_supplier_are_distinguished() {
    let folder = tempfile::tempdir().unwrap();
    let ask = async |text: &str| {
        let program = program(folder.path(), "program", &format!("#!/bin/sh\n{text}\n")).unwrap();
        let settings = [
            ("program".to_owned(), program.display().to_string()),
            ("patience".to_owned(), "2".to_owned()),
        ];
        let command = Command::new(ONE, BTreeMap::from(settings)).unwrap();
        command.order(&some_order(ONE, 1)).await.unwrap_err()
    };
    let fault = ask(r#"echo '{"fault": "quota", "message": "three is enough", "quota": 3}'"#).await;
    let expected = Fault::Quota {
        message: "three is enough".into(),
        quota: Some(3),
    };
    assert_eq!(fault, expected);
    let fault = ask(r#"echo '{"fault": "refused", "message": "no such image"}'"#).await;
    assert_eq!(fault, Fault::Refused("no such image".into()));
    let fault = ask("echo it is broken >&2; exit 7").await;
    assert!(
        matches!(&fault, Fault::Unclear(message) if message.contains("it is broken")),
        "{fault:?}"
    );
    let fault = ask("echo hello").await;
    assert!(
        matches!(&fault, Fault::Unclear(message) if message.contains("hello")),
        "{fault:?}"
    );
    let fault = ask("exec sleep 30").await;
    assert!(
        matches!(&fault, Fault::Unclear(message) if message.contains("no answer")),
        "{fault:?}"
    );
    assert!(Command::new(ONE, BTreeMap::from([("program".into(), "relative".into())])).is_err());
}
