//! The yard as a file, through the command line against a real service.

use crate::capacity::with_programs;
use crate::command_line::{pennine, prints};
use crate::support::{Runner, Service};
use pennine_core::job_policy::IsolationLevel;
use pennine_core::lifecycle::runner::RunnerState;
use pennine_core::size::ByteSize;
use pennine_core::time::Micros;
use pennine_wire::PoolChange;
use std::path::PathBuf;
use tempfile::TempDir;
use tokio::io::AsyncWriteExt;

const FILE: &str = r#"
[teams.shore]
weight = 2
[teams."shore/night"]
[projects."shore/soundings"]
limit = 4
give_up = "2h"
[seats.compiler-licence]
count = 3
[suppliers.here]
kind = "local"
quota = 1
boot_limit = "2m"
settings = { most = "1", walls = "folder" }
[pools.staithe]
description = "standing machines"
labels = ["bench"]
narrow_to = ["shore/soundings"]
owner = "shore"
[pools.slipway.machines]
supplier = "here"
ceiling = 2
day_budget = "20"
price = "0.125"
during = ["mon-fri 08:00-18:00 spare=0"]
facts = { os = "linux", cores = 2 }
[alerts]
ceiling = "1h"

[pools.staithe.jobs]
isolation = "sandbox"
memory = "2048MiB"
"#;

fn written(folder: &TempDir, text: &str) -> PathBuf {
    let path = folder.path().join("yard.toml");
    std::fs::write(&path, text).unwrap();
    path
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn applying_a_yard_file_twice_changes_nothing_the_second_time() {
    let service = with_programs().await;
    let folder = tempfile::tempdir().unwrap();
    let path = written(&folder, FILE);
    let file = path.to_str().unwrap();
    let diff = prints(&service, &["yard", "diff", file]).await;
    assert!(diff.contains("new pool slipway\n"), "{diff}");
    let checked = pennine(&service, &["yard", "diff", file, "--check"]).await;
    assert_eq!(checked.status.code(), Some(1));
    let applied = prints(&service, &["yard", "apply", file]).await;
    assert!(applied.contains("added team shore/night\n"), "{applied}");
    let place = service.client.projects().await.unwrap().items.remove(0);
    assert_eq!(
        (place.path.as_str(), place.limit),
        ("shore/soundings", Some(4))
    );
    let pool = service.client.pool("staithe").await.unwrap();
    assert_eq!((pool.owner.as_str(), pool.narrow_to.len()), ("shore", 1));
    assert_eq!(pool.jobs.isolation, IsolationLevel::Sandbox);
    assert_eq!(pool.jobs.limits.memory, Some(ByteSize(2 << 30)));
    let supply = service
        .client
        .pool("slipway")
        .await
        .unwrap()
        .supply
        .unwrap();
    assert_eq!(supply.price.map(|price| price.0), Some(125_000));

    let thresholds = service.client.thresholds().await.unwrap();
    assert_eq!(thresholds.thresholds.ceiling_us, Micros(3_600_000_000));

    let again = prints(&service, &["yard", "apply", file]).await;
    assert_eq!(again, "The yard already matches the file.\n");
    prints(&service, &["yard", "diff", file, "--check"]).await;

    // What is exported can be applied, and says the same; a pause by hand is no difference.
    prints(&service, &["pool", "set", "staithe", "--pause"]).await;
    prints(&service, &["yard", "diff", file, "--check"]).await;
    let exported = prints(&service, &["yard", "export"]).await;
    let export = written(&folder, &exported);
    prints(
        &service,
        &["yard", "diff", export.to_str().unwrap(), "--check"],
    )
    .await;

    // A changed file changes what is there, and takes back what it does not say any more.
    let changed = FILE
        .replace("ceiling = 2\nday_budget = \"20\"", "ceiling = 1")
        .replace("limit = 4\n", "")
        .replace("ceiling = \"1h\"", "budget = 80")
        .replace("quota = 1\nboot_limit = \"2m\"\n", "");
    written(&folder, &changed);
    let diff = prints(&service, &["yard", "diff", file]).await;
    for line in [
        "  machines.ceiling     2 -> 1\n",
        "  machines.day_budget  20 -> (nothing)\n",
        "  limit  4 -> (nothing)\n",
        "  ceiling  1h -> 30m\n",
    ] {
        assert!(diff.contains(line), "{line} in {diff}");
    }
    prints(&service, &["yard", "apply", file]).await;
    prints(&service, &["yard", "diff", file, "--check"]).await;

    // What stands in the file is marked, until the file is forgotten.
    let set = ["pool", "set", "slipway", "--description", "made by hand"];
    let by_hand = pennine(&service, &set).await;
    let message = String::from_utf8_lossy(&by_hand.stderr).into_owned();
    assert!(
        message.contains("the pool slipway is managed by yard.toml"),
        "{message}"
    );
    let diff = prints(&service, &["yard", "diff", file]).await;
    assert!(diff.contains("description  made by hand ->"), "{diff}");
    prints(&service, &["yard", "forget"]).await;
    assert!(service.client.yard_file().await.unwrap().is_none());
    let by_hand = pennine(&service, &set).await;
    assert!(by_hand.stderr.is_empty(), "{by_hand:?}");

    // A target that is about something else is another under the same name.
    let promised = |of: &str| {
        format!("{changed}[targets.prompt]\n{of}share = \"95 %\"\nwithin = \"90s\"\ndays = 7\n")
    };
    written(&folder, &promised("pool = \"staithe\"\n"));
    prints(&service, &["yard", "apply", file]).await;
    let target = service.client.targets().await.unwrap().items.remove(0);
    assert_eq!(
        (target.pool.as_deref(), target.promise.days),
        (Some("staithe"), 7)
    );
    written(&folder, &promised(""));
    let diff = prints(&service, &["yard", "diff", file]).await;
    assert!(
        diff.contains("target prompt\n  pool  staithe -> (nothing)"),
        "{diff}"
    );
    prints(&service, &["yard", "apply", file]).await;
    prints(&service, &["yard", "diff", file, "--check"]).await;
    assert_eq!(service.client.targets().await.unwrap().items[0].pool, None);

    written(&folder, "[pools.staithe]\nlables = []\n");
    let wrong = pennine(&service, &["yard", "apply", file]).await;
    assert_eq!(wrong.status.code(), Some(2));
    let message = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(
        message.contains("lables") && message.contains("labels"),
        "{message}"
    );
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn applying_a_yard_file_removes_only_with_prune_and_busy_things_only_by_force() {
    let service = Service::start().await;
    service.furnish().await;
    let _runner = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
    let folder = tempfile::tempdir().unwrap();
    let path = written(
        &folder,
        "[teams.firmware]\n[projects.\"firmware/buoy\"]\n[pools.press]\nlabels = [\"plotter\"]\n",
    );
    let file = path.to_str().unwrap();
    let kept = prints(&service, &["yard", "apply", file]).await;
    assert!(kept.contains("left unchanged: pool staithe"), "{kept}");
    let refused = pennine(&service, &["yard", "apply", file, "--remove"]).await;
    assert_eq!(refused.status.code(), Some(3));
    let message = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        message.contains("stopped at pool staithe") && message.contains("fell-01"),
        "{message}"
    );
    service.client.pool("staithe").await.unwrap();

    let job = service.submit("pool = staithe", "true").await;
    service.done(&job).await;
    let removed = prints(
        &service,
        &["yard", "apply", file, "--remove", "--force", "--yes"],
    )
    .await;
    assert_eq!(removed, "removed pool staithe\n");
    assert!(service.client.pool("staithe").await.is_err());
    // What ran there is on record, and the name is free.
    assert_eq!(
        service
            .client
            .job(&job)
            .await
            .unwrap()
            .line
            .runner
            .as_deref(),
        Some("fell-01")
    );
    service.add_pool("staithe", &[]).await;
    let _next = Runner::working(&service, "staithe", "fell-01", 1).await;
    service.runner_when("fell-01", RunnerState::Available).await;
}

const ACCESS: &str = r#"
[installation]
variables = { COMPANY = "Skerry", NOTHING = "" }
groups = { keepers = "operator" }
[teams.shore]
variables = { STATION_API = "https://stations.skerry.example" }
groups = { "shore builders" = "submitter", guests = "viewer" }
[projects."shore/soundings"]
variables = { DEPTH = "40" }
[pools.staithe]
variables = { CC = "gcc" }
[tokens.nightly]
role = "submitter"
at = "shore/soundings"
for = "submit"
valid_for = "30d"
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_yard_file_holds_variables_and_the_roles_of_groups_and_programs() {
    let service = Service::start().await;
    let folder = tempfile::tempdir().unwrap();
    let path = written(&folder, ACCESS);
    let file = path.to_str().unwrap();
    let applied = pennine(&service, &["yard", "apply", file]).await;
    let (out, notes) = (text(&applied.stdout), text(&applied.stderr));
    assert!(
        out.contains("added token nightly") && out.contains("added installation settings"),
        "{out}"
    );
    assert!(
        notes.contains("pennine token rotate nightly")
            && !format!("{out}{notes}").contains("pen-token-"),
        "{notes}"
    );
    prints(&service, &["yard", "diff", file, "--check"]).await;
    let variables = service.client.variables(None).await.unwrap().items;
    let variables = variables.iter().map(|one| {
        let owner = one.pool.as_deref().unwrap_or(&one.place);
        format!("{owner} {}={}", one.name, one.value)
    });
    let expected = [
        " COMPANY=Skerry",
        " NOTHING=",
        "staithe CC=gcc",
        "shore STATION_API=https://stations.skerry.example",
        "shore/soundings DEPTH=40",
    ];
    assert_eq!(variables.collect::<Vec<_>>(), expected);

    // What is exported says the same.
    let exported = prints(&service, &["yard", "export"]).await;
    let export = written(&folder, &exported);
    prints(
        &service,
        &["yard", "diff", export.to_str().unwrap(), "--check"],
    )
    .await;

    // What a file no longer says is taken away; a token stays.
    let changed = ACCESS
        .replace("groups = { keepers = \"operator\" }\n", "")
        .replace("guests = \"viewer\"", "guests = \"submitter\"")
        .replace("variables = { DEPTH = \"40\" }\n", "")
        .replace("CC = \"gcc\"", "CC = \"clang\"")
        .replace("role = \"submitter\"\nat", "role = \"viewer\"\nat")
        .replace("valid_for = \"30d\"", "valid_for = \"60d\"");
    let path = written(&folder, &changed);
    let file = path.to_str().unwrap();
    let diff = prints(&service, &["yard", "diff", file]).await;
    for line in [
        "  groups.keepers  operator -> (nothing)\n",
        "  groups.guests  viewer -> submitter\n",
        "  variables.DEPTH  40 -> (nothing)\n",
        "  variables.CC  gcc -> clang\n",
        "  valid_for  30d -> 60d\n",
    ] {
        assert!(diff.contains(line), "{line} in {diff}");
    }
    prints(&service, &["yard", "apply", file]).await;
    prints(&service, &["yard", "diff", file, "--check"]).await;
    let grants = service.client.group_grants().await.unwrap().items;
    let grants: Vec<_> = grants
        .iter()
        .map(|one| format!("{} {} {}", one.group, one.role, one.place))
        .collect();
    assert_eq!(
        grants,
        ["guests submitter shore", "shore builders submitter shore"]
    );

    let path = written(
        &folder,
        &changed.replace("[tokens.nightly]", "[tokens.weekly]"),
    );
    let file = path.to_str().unwrap();
    let removed = prints(&service, &["yard", "apply", file, "--remove"]).await;
    assert!(
        removed.contains("added token weekly") && removed.contains("tokens stay"),
        "{removed}"
    );
    let tokens = service.client.tokens(Some("ly")).await.unwrap().items;
    let names: Vec<_> = tokens.iter().map(|token| token.name.as_str()).collect();
    assert_eq!(names, ["nightly", "weekly"]);
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// The secret of a supplier comes from a pipe, so that the command waits between what it has read and the pool that it is about
/// to change.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn applying_a_yard_file_does_not_overwrite_a_newer_change() {
    let service = with_programs().await;
    let folder = tempfile::tempdir().unwrap();
    let path = written(&folder, FILE);
    let file = path.to_str().unwrap();
    prints(&service, &["yard", "apply", file]).await;
    let pipe = folder.path().join("key");
    let made = std::process::Command::new("mkfifo").arg(&pipe).status();
    assert!(made.unwrap().success());
    let supplier = "[suppliers.cloud]\nkind = \"standin-cloud\"\nsettings = { url = \"http://127.0.0.1:9\" }\n\
                    secret_files = { key = \"key\" }\n[pools.staithe]";
    let text = FILE.replace("[pools.staithe]", supplier);
    written(
        &folder,
        &text.replace("labels = [\"bench\"]", "labels = [\"wet\"]"),
    );
    let apply = ["yard", "apply", file];
    let by_hand = async {
        // Opened once the command reads it: it has read the yard by then.
        let mut secret = tokio::fs::OpenOptions::new()
            .write(true)
            .open(&pipe)
            .await
            .unwrap();
        let change = PoolChange {
            description: Some("changed by hand".into()),
            ..PoolChange::default()
        };
        service
            .client
            .change_pool("staithe", &change)
            .await
            .unwrap();
        secret.write_all(b"secret\n").await.unwrap();
        secret.flush().await.unwrap();
    };
    let (applied, ()) = tokio::join!(pennine(&service, &apply), by_hand);
    let error = String::from_utf8_lossy(&applied.stderr);
    assert_eq!(applied.status.code(), Some(3), "{error}");
    for part in [
        "stopped at pool staithe",
        "staithe has changed since you read it, last by admin at",
    ] {
        assert!(error.contains(part), "{error}");
    }
    let pool = service.client.pool("staithe").await.unwrap();
    assert_eq!(pool.description, "changed by hand");
    assert!(
        !pool.labels.contains(&"wet".to_owned()),
        "{:?}",
        pool.labels
    );
}
