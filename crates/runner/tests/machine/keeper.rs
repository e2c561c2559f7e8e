//! The keepers of the real program, with real commands.

use pennine_core::job_policy::JobPolicy;
use pennine_runner::system::keeper::{
    CommandEnd, ExitKind, KeeperLauncher, KeeperSettings, MARKER, Mechanism, Order, Running,
    StartError, end_leftovers,
};
use std::io;
use std::process::Stdio;
use tokio::io::AsyncReadExt;

use crate::program;

fn order(program: &str, arguments: &[&str]) -> Order {
    Order {
        program: program.to_owned(),
        arguments: arguments.iter().map(|&text| text.to_owned()).collect(),
        folder: "/".into(),
        variables: [("PATH".to_owned(), "/usr/bin:/bin".to_owned())].into(),
        ..Order::default()
    }
}

async fn start(
    keepers: &KeeperLauncher,
    script: &str,
) -> (Running, impl Future<Output = Option<CommandEnd>> + use<>) {
    keepers
        .start(JobPolicy::default(), &|_| order("sh", &["-c", script]))
        .await
        .expect("it starts")
}

/// Runs a script to its end: how it ended and what it said.
async fn run(keepers: &KeeperLauncher, script: &str) -> (Option<CommandEnd>, String) {
    let (mut running, ending) = start(keepers, script).await;
    let mut message = String::new();
    running.output.read_to_string(&mut message).await.unwrap();
    (ending.await, message)
}

/// The best kind of keepers that this machine allows, and the plainest.
async fn kinds() -> Vec<KeeperLauncher> {
    let mut kinds = vec![KeeperLauncher::of(program()).await];
    if kinds[0].mechanism() != Mechanism::Group {
        kinds.push(KeeperLauncher::with(program(), Mechanism::Group));
    }
    kinds
}

/// Waits until a process has ended, reaped or not.
async fn ended(pid: &str) {
    let stat = format!("/proc/{pid}/stat");
    let gone = || std::fs::read_to_string(&stat).map_or(true, |stat| stat.contains(") Z "));
    tokio::time::timeout(std::time::Duration::from_secs(60), async {
        while !gone() {
            tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        }
    })
    .await
    .expect("it ends");
}

#[tokio::test]
async fn exit_codes_and_signals_are_told_apart() {
    for keepers in kinds().await {
        let kind = keepers.mechanism();
        let (end, message) = run(&keepers, "echo out; echo err >&2; exit 7").await;
        assert_eq!(end.unwrap().status, ExitKind::Exited(7), "{kind:?}");
        assert_eq!(message, "out\nerr\n");
        let (end, _) = run(&keepers, "kill -9 $$").await;
        assert_eq!(end.unwrap().status, ExitKind::Signalled(9), "{kind:?}");
    }
}

#[tokio::test]
async fn a_command_begins_with_no_signal_held_back_or_ignored() {
    for keepers in kinds().await {
        let (_, message) = run(&keepers, "grep -E '^Sig(Blk|Ign)' /proc/self/status").await;
        let held: Vec<u64> = message
            .split_whitespace()
            .filter_map(|word| u64::from_str_radix(word, 16).ok())
            .collect();
        // HUP, INT and TERM, which the keepers ignore; the others are inherited from the test's parent process.
        let [blocked, ignored] = held[..] else {
            panic!("two masks: {message}")
        };
        let kind = keepers.mechanism();
        assert_eq!((blocked, ignored & 0x4003), (0, 0), "{message} {kind:?}");
    }
}

#[tokio::test]
async fn a_missing_command_is_refused() {
    for keepers in kinds().await {
        keepers.prepare(1);
        let refused = keepers
            .start(JobPolicy::default(), &|_| order("/no/such/command", &[]))
            .await
            .err();
        assert!(
            matches!(&refused, Some(StartError::Command(error)) if error.kind() == io::ErrorKind::NotFound),
            "{refused:?}"
        );
    }
}

#[tokio::test]
async fn descendants_of_the_command_end_with_it() {
    for keepers in kinds().await {
        // The detached sleeper keeps the output open: reading to its end proves that it is gone.
        let (end, message) = run(&keepers, "setsid sleep 1000 & echo started").await;
        assert_eq!(end.unwrap().status, ExitKind::Exited(0));
        assert_eq!(message, "started\n");
    }
}

#[tokio::test]
async fn processor_time_and_memory_are_measured() {
    for keepers in kinds().await {
        let (end, _) = run(
            &keepers,
            "i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done",
        )
        .await;
        let end = end.unwrap();
        assert!(end.processor.0 > 1000, "{end:?}");
        assert!(end.peak_memory.0 > 100 << 10, "{end:?}");
    }
}

#[tokio::test]
async fn a_command_that_is_terminated_can_clean_up() {
    for keepers in kinds().await {
        let script = "trap 'echo bye; exit 3' TERM; echo ready; while :; do sleep 0.05; done";
        let (mut running, ending) = start(&keepers, script).await;
        let mut ready = [0u8; 6];
        running.output.read_exact(&mut ready).await.unwrap();
        running.grip.ask();
        let mut rest = String::new();
        running.output.read_to_string(&mut rest).await.unwrap();
        // The shell may say that its sleep was ended with it.
        assert!(rest.ends_with("bye\n"), "{rest}");
        assert_eq!(ending.await.unwrap().status, ExitKind::Exited(3));
    }
}

#[tokio::test]
async fn killing_a_command_ends_its_descendants() {
    for keepers in kinds().await {
        let script = "setsid sleep 1000 & trap '' TERM; echo ready; sleep 1000";
        let (mut running, ending) = start(&keepers, script).await;
        let mut ready = [0u8; 6];
        running.output.read_exact(&mut ready).await.unwrap();
        running.grip.kill();
        // It ends when its last handle is closed.
        let mut rest = String::new();
        running.output.read_to_string(&mut rest).await.unwrap();
        assert!(ending.await.is_none());
    }
}

#[tokio::test]
async fn a_keeper_made_ahead_of_time_that_was_killed_is_replaced() {
    for keepers in kinds().await {
        keepers.prepare(2);
        let children = format!("/proc/self/task/{}/children", nix::unistd::gettid());
        let spares = std::fs::read_to_string(children).unwrap();
        let spares: Vec<i32> = spares
            .split_whitespace()
            .filter_map(|pid| pid.parse().ok())
            .collect();
        assert!(spares.len() >= 2, "two rest: {spares:?}");
        for pid in &spares {
            // One that has ended already is as good.
            let _ = nix::sys::signal::kill(
                nix::unistd::Pid::from_raw(*pid),
                nix::sys::signal::Signal::SIGKILL,
            );
        }
        for pid in spares {
            ended(&pid.to_string()).await;
        }
        let (end, message) = run(&keepers, "echo all the same").await;
        assert_eq!(
            (end.unwrap().status, message.as_str()),
            (ExitKind::Exited(0), "all the same\n")
        );
    }
}

#[tokio::test]
async fn idle_keepers_end_with_their_runner() {
    let keepers = KeeperLauncher::of(program()).await;
    keepers.prepare(2);
    let children = format!("/proc/self/task/{}/children", nix::unistd::gettid());
    let resting = std::fs::read_to_string(&children).unwrap();
    assert!(resting.split_whitespace().count() >= 2, "{resting}");
    // What the runner's death does to them is in the tests of the service; here their line goes dead.
    drop(keepers);
    for pid in resting.split_whitespace() {
        ended(pid).await;
    }
}

/// Where the kernel does not do it, the second keeper must: the runner and the first keeper are killed here, and what
/// the command had detached ends all the same.
#[tokio::test]
async fn without_a_namespace_the_death_of_the_runner_ends_what_the_command_detached() {
    use std::io::{BufRead, BufReader, Write};
    let (mut ours, theirs) = std::os::unix::net::UnixStream::pair().unwrap();
    // The shell is the runner here. `exec` would make it the keeper.
    let settings = serde_json::to_string(&KeeperSettings {
        runner: 0,
        mechanism: Mechanism::Group,
        user: None,
        enclosure: None,
        groups: Vec::new(),
        most_processes: None,
    });
    let keep = "settings=$1; \"$0\" keep \"{\\\"runner\\\":$$,${settings#*,}\"; true";
    let mut runner = std::process::Command::new("sh")
        .args(["-c", keep])
        .arg(program())
        .arg(settings.unwrap())
        .stdin(Stdio::from(std::os::fd::OwnedFd::from(theirs)))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let script = "setsid sh -c 'echo $$; exec sleep 1000' & sleep 1000";
    let mut line = serde_json::to_vec(&order("sh", &["-c", script])).unwrap();
    line.push(b'\n');
    ours.write_all(&line).unwrap();
    let mut detached = String::new();
    let mut output = BufReader::new(runner.stdout.take().unwrap());
    output.read_line(&mut detached).unwrap();
    runner.kill().unwrap();
    runner.wait().unwrap();
    // Everybody who could write to it is gone when it ends.
    std::io::Read::read_to_end(&mut output, &mut Vec::new()).unwrap();
    // A process that ends has closed its files a little before it is seen to have ended.
    ended(detached.trim()).await;
}

#[test]
fn leftover_processes_are_found_by_their_marker() {
    let attempt = format!("leftover-{}", std::process::id());
    // Right after its start a process has no variables yet for others to read: this one says when it has. It ends by
    // itself when the test does.
    let mut child = std::process::Command::new("sh")
        .args(["-c", "echo ready; read -r _"])
        .env(MARKER, &attempt)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut ready = [0u8; 6];
    let mut output = child.stdout.take().unwrap();
    std::io::Read::read_exact(&mut output, &mut ready).unwrap();
    let _held = child.stdin.take();
    assert_eq!(end_leftovers(std::slice::from_ref(&attempt)), 1);
    assert!(!child.wait().unwrap().success());
}
