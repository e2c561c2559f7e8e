//! A hostile job, at each level of isolation: what it must not reach, and that the next job is not the worse for it.

use crate::program;
use pennine_core::job_policy::{IsolationLevel, JobLimits, JobPolicy};
use pennine_core::size::ByteSize;
use pennine_runner::abilities::{self, Abilities};
use pennine_runner::machine_settings::MachineSettings;
use pennine_runner::system::isolation::folder::JobFolder;
use pennine_runner::system::keeper::{CommandEnd, ExitKind, KeeperLauncher, Order};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tempfile::TempDir;
use tokio::io::AsyncReadExt;

/// What no job may read.
const SECRET: &str = "credential-of-the-runner";

/// A runner's folder with its secrets, and its keepers.
struct Machine {
    folder: TempDir,
    keepers: KeeperLauncher,
    abilities: Abilities,
}

/// What became of a script.
struct Ran {
    end: Option<CommandEnd>,
    output: String,
    folder: JobFolder,
}

impl Machine {
    async fn new(settings: MachineSettings) -> Machine {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        std::fs::set_permissions(at, std::fs::Permissions::from_mode(0o700)).unwrap();
        std::fs::create_dir(at.join("spool")).unwrap();
        for file in ["runner.json", "machine.toml", "spool/attempt.journal"] {
            std::fs::write(at.join(file), SECRET).unwrap();
        }
        let made = abilities::keepers(program(), at, &settings, None).await;
        let (keepers, abilities) = made.expect("keepers");
        Machine {
            folder,
            keepers,
            abilities,
        }
    }

    /// The levels above `none`, all of which this machine has to give.
    fn levels(&self) -> [IsolationLevel; 2] {
        let levels = [IsolationLevel::Process, IsolationLevel::Sandbox];
        for level in levels {
            self.abilities.gives(level).expect("this machine gives it");
        }
        levels
    }

    async fn run(&self, policy: JobPolicy, script: &str) -> Ran {
        self.run_until(policy, script, None).await
    }

    /// Runs a script, and asks it to end as soon as it has printed a line that says so.
    async fn run_until(&self, policy: JobPolicy, script: &str, line: Option<&str>) -> Ran {
        let folder = self.folder.path().display().to_string();
        let order = |place: Option<&JobFolder>| {
            let place = place.expect("a folder");
            let variables = [
                (
                    "PATH",
                    "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin".to_owned(),
                ),
                ("HOME", place.home().display().to_string()),
                ("RUNNER", folder.clone()),
            ];
            Order {
                program: "sh".to_owned(),
                arguments: vec!["-c".to_owned(), script.to_owned()],
                folder: place.workspace(),
                variables: variables
                    .map(|(name, value)| (name.to_owned(), value))
                    .into(),
                ..Order::default()
            }
        };
        let started = self.keepers.start(policy, &order).await;
        let (mut running, ending) = started.expect("the script starts");
        let mut output = Vec::new();
        while let Some(line) = line
            && !String::from_utf8_lossy(&output).contains(line)
        {
            let read = running.output.read_buf(&mut output).await.unwrap();
            assert!(read > 0, "the script prints {line}");
        }
        if line.is_some() {
            running.grip.ask();
        }
        let read = running.output.read_to_end(&mut output);
        tokio::time::timeout(Duration::from_secs(120), read)
            .await
            .expect("the script ends")
            .unwrap();
        Ran {
            end: ending.await,
            output: String::from_utf8_lossy(&output).into_owned(),
            folder: running.folder.expect("a folder"),
        }
    }

    /// Runs a script to a successful end, and returns what it printed.
    async fn output(&self, policy: JobPolicy, script: &str) -> String {
        let ran = self.run(policy, script).await;
        let status = ran.end.map(|end| end.status);
        assert_eq!(
            status,
            Some(ExitKind::Exited(0)),
            "{policy:?}: {}",
            ran.output
        );
        ran.folder.release().await;
        ran.output
    }
}

fn at(isolation: IsolationLevel) -> JobPolicy {
    JobPolicy {
        isolation,
        ..JobPolicy::default()
    }
}

fn exists(path: &Path) -> bool {
    path.symlink_metadata().is_ok()
}

/// Looks for secrets in the runner's folder, the file system and the processes.
const HUNT: &str = "cat $RUNNER/runner.json $RUNNER/spool/* $RUNNER/../*/runner.json 2>&1
                 ls -a $RUNNER
                 find / -maxdepth 6 -xdev \\( -name runner.json -o -name token \\) -exec cat {} + 2>/dev/null
                 for process in /proc/[0-9]*; do
                   cat $process/environ $process/root$RUNNER/runner.json $process/cwd/* </dev/null 2>/dev/null |
                     tr '\\0' '\\n' | grep credential-of
                   head -c 10 $process/mem 2>/dev/null
                 done
                 true";

#[tokio::test]
async fn a_job_finds_no_secret_in_files_or_processes() {
    let machine = Machine::new(MachineSettings::default()).await;
    for level in machine.levels() {
        let other = machine
            .run(at(level), "echo credential-of-another-job > $HOME/token")
            .await;
        let output = machine.output(at(level), HUNT).await;
        assert!(!output.contains("credential-of"), "{level}: {output}");
        assert!(!output.contains("spool\n"), "{level}: {output}");
        assert!(exists(&other.folder.home().join("token")));
        other.folder.release().await;
    }
    // What finds nothing finds it where nothing is kept from it.
    let open = MachineSettings {
        jobs_as_root: true,
        ..MachineSettings::default()
    };
    let open = Machine::new(open).await;
    let output = open.output(at(IsolationLevel::None), HUNT).await;
    assert!(output.contains(SECRET), "{output}");
}

#[tokio::test]
async fn a_job_changes_nothing_of_the_runner_and_cannot_uncover_it() {
    let machine = Machine::new(MachineSettings::default()).await;
    let runner = machine.folder.path().to_owned();
    for level in machine.levels() {
        let output = machine
            .output(
                at(level),
                "echo '[x]' > $RUNNER/probes.toml; true > $RUNNER/spool/attempt.journal; rm -rf $RUNNER/runner.json
                 umount $RUNNER 2>&1; umount -l $RUNNER 2>&1
                 unshare -Urm sh -c 'umount -l $RUNNER; cat $RUNNER/runner.json' 2>&1
                 nsenter -t 1 -m cat $RUNNER/runner.json 2>&1
                 mkdir -p $HOME/up && mount --bind / $HOME/up 2>&1 && cat $HOME/up$RUNNER/runner.json
                 true",
            )
            .await;
        assert!(!output.contains(SECRET), "{level}: {output}");
        assert!(!exists(&runner.join("probes.toml")), "{level}");
        for file in ["runner.json", "spool/attempt.journal"] {
            let left = std::fs::read_to_string(runner.join(file)).unwrap();
            assert_eq!(left, SECRET, "{level}: {file}");
        }
    }
}

#[tokio::test]
async fn a_job_has_a_home_and_temporary_files_of_its_own() {
    let machine = Machine::new(MachineSettings::default()).await;
    for level in machine.levels() {
        let write = "pwd; for place in . $HOME /tmp /dev/shm; do
                       test -z \"$(ls $place | grep -v '^pennine-seen' | grep mine)\" || echo \"left in $place\"
                       echo mine > $place/mine || exit 1
                     done
                     echo out > /dev/stdout; echo err > /dev/stderr; test -O . && echo owned";
        let first = machine.output(at(level), write).await;
        let again = machine.output(at(level), write).await;
        assert_eq!(first, again, "{level}: the paths stay the same");
        assert!(again.contains("/work/1/workspace\n"), "{level}: {again}");
        assert!(again.contains("out\nerr\nowned"), "{level}: {again}");
        assert!(!again.contains("left in"), "{level}: {again}");
    }
}

#[tokio::test]
async fn a_job_is_no_root_and_sees_no_process_but_its_own() {
    let machine = Machine::new(MachineSettings::default()).await;
    let own = nix::unistd::geteuid();
    for level in machine.levels() {
        let output = machine
            .output(
                at(level),
                "echo uid $(id -u); grep -h CapEff /proc/self/status; echo processes $(ls -d /proc/[0-9]* | wc -l)",
            )
            .await;
        assert!(!output.contains("uid 0\n"), "{level}: {output}");
        if !own.is_root() {
            assert!(
                output.contains(&format!("uid {own}\n")),
                "{level}: {output}"
            );
        }
        assert!(
            output.contains("CapEff:\t0000000000000000"),
            "{level}: {output}"
        );
        let seen = output.split("processes ").nth(1).unwrap().trim();
        assert!(seen.parse::<u32>().unwrap() < 10, "{level}: {output}");
    }
}

#[tokio::test]
async fn a_sandbox_is_read_only_and_has_a_network_only_if_it_may() {
    let machine = Machine::new(MachineSettings::default()).await;
    machine.levels();
    let seen = PathBuf::from("/var/tmp/pennine-seen");
    let script = format!(
        "for place in / /etc /usr /opt /run/user; do touch $place/pennine-seen 2>/dev/null && echo wrote $place; done
         touch {} ; unshare -U true 2>/dev/null && echo unshared
         grep -c : /proc/net/dev; grep Seccomp: /proc/self/status; grep NoNewPrivs /proc/self/status; true",
        seen.display()
    );
    let sandbox = at(IsolationLevel::Sandbox);
    let with = machine.output(sandbox, &script).await;
    assert!(
        !with.contains("wrote") && !with.contains("unshared"),
        "{with}"
    );
    assert!(
        with.contains("Seccomp:\t2") && with.contains("NoNewPrivs:\t1"),
        "{with}"
    );
    assert!(!exists(&seen));
    let without = JobPolicy {
        network: false,
        ..sandbox
    };
    let without = machine.output(without, &script).await;
    assert!(
        without.lines().any(|line| line == "1"),
        "only the loopback device: {without}"
    );
}

#[tokio::test]
async fn a_job_that_kills_forks_and_leaves_traps_does_not_hurt_the_next() {
    let machine = Machine::new(MachineSettings::default()).await;
    let outside = tempfile::tempdir().unwrap();
    std::fs::write(outside.path().join("kept"), "x").unwrap();
    for level in machine.levels() {
        let limited = JobPolicy {
            limits: JobLimits {
                processes: Some(64),
                ..JobLimits::default()
            },
            ..at(level)
        };
        // Without a limit the bomb would go off on the machine.
        let bomb = if machine.abilities.enforced().processes {
            "bomb"
        } else {
            ":"
        };
        let script = format!(
            "ln -s {} $HOME/link; ln -s / root; mkfifo pipe; mkdir -p deep/er; chmod 0 deep; ln -s /etc/passwd $HOME/passwd
             (setsid sh -c 'trap \"\" TERM HUP; while :; do sleep 1; done' &) >/dev/null 2>&1
             bomb() {{ bomb | bomb & }}; {bomb} 2>/dev/null
             kill -9 -1; kill -USR1 1; kill -9 1; exit 3",
            outside.path().display()
        );
        let ran = machine.run(limited, &script).await;
        assert!(
            ran.end.is_none_or(|end| end.status != ExitKind::Exited(0)),
            "{level}"
        );
        let place = ran.folder.path().to_owned();
        ran.folder.release().await;
        assert!(!exists(&place), "{level}: its folder is removed");
        assert!(
            exists(&outside.path().join("kept")),
            "links are not followed"
        );
        assert_eq!(machine.output(at(level), "echo next").await, "next\n");
    }
}

#[tokio::test]
async fn a_limit_of_memory_ends_the_job_and_nothing_else() {
    let machine = Machine::new(MachineSettings::default()).await;
    if !machine.abilities.enforced().memory {
        eprintln!("not tested here: the kernel does not limit memory for this user");
        return;
    }
    for level in machine.levels() {
        let limited = JobPolicy {
            limits: JobLimits {
                memory: Some(ByteSize(64 << 20)),
                ..JobLimits::default()
            },
            ..at(level)
        };
        let hog = "head -c 300000000 /dev/zero | tail | wc -c";
        let ran = machine
            .run(
                limited,
                &format!("set -e; {hog}; dd if=/dev/zero of=/dev/null bs=300M count=1"),
            )
            .await;
        assert!(ran.folder.was_out_of_memory(), "{level}: {}", ran.output);
        ran.folder.release().await;
        assert_eq!(machine.output(limited, "echo next").await, "next\n");
    }
}

#[tokio::test]
async fn what_the_owner_hides_is_hidden_and_what_is_exposed_is_seen() {
    let data = tempfile::tempdir_in("/var/lib")
        .or_else(|_| tempfile::tempdir())
        .unwrap();
    std::fs::set_permissions(data.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    for (name, text) in [("secret", SECRET), ("tool", "a tool")] {
        std::fs::create_dir(data.path().join(name)).unwrap();
        std::fs::write(data.path().join(name).join("file"), text).unwrap();
    }
    let settings = MachineSettings {
        hide: vec![data.path().to_owned()],
        expose: vec![data.path().join("tool")],
        ..MachineSettings::default()
    };
    let machine = Machine::new(settings).await;
    let script = format!("ls {0}; cat {0}/*/file", data.path().display());
    for level in machine.levels() {
        let output = machine.output(at(level), &script).await;
        assert_eq!(output, "tool\na tool", "{level}");
    }
}

#[tokio::test]
async fn a_job_that_is_asked_to_end_can_clean_up_at_every_level() {
    let machine = Machine::new(MachineSettings::default()).await;
    let script = "trap 'echo cleaned; exit 3' TERM; echo ready; while :; do sleep 0.05; done";
    for level in machine.levels() {
        let ran = machine.run_until(at(level), script, Some("ready\n")).await;
        let status = ran.end.map(|end| end.status);
        assert_eq!(status, Some(ExitKind::Exited(3)), "{level}: {}", ran.output);
        assert!(ran.output.ends_with("cleaned\n"), "{level}: {}", ran.output);
        ran.folder.release().await;
    }
}
