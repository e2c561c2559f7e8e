//! The runner as a service of systemd: started at boot, started again when it fails, drained when it is stopped.

use crate::error::Error;
use crate::home::Home;
use nix::unistd::{User, geteuid};
use pennine_core::finding::Finding;
use std::os::unix::fs::chown;
use std::path::Path;
use std::process::Command;

/// Where a machine's own units lie.
const UNITS: &str = "/etc/systemd/system";
/// Where units of packages lie.
const PACKAGED_UNITS: &str = "/usr/lib/systemd/system";
/// The default user of jobs.
const USER: &str = "pennine-runner";

/// What to install.
#[derive(Clone, Debug)]
pub struct DesiredState {
    /// The unit's name without `.service`; by the runner's name when not given.
    pub name: Option<String>,
    /// The user that the runner and its jobs are.
    pub user: Option<String>,
    /// How long jobs have to finish when the service is stopped, in minutes.
    pub drain_minutes: u64,
    /// Only print the unit.
    pub print: bool,
}

fn unit_name(home: &Home, given: Option<&str>) -> Result<String, Error> {
    let name = match given {
        Some(name) => name.to_owned(),
        None => match home.identity()? {
            Some(identity) => format!("pennine-runner-{}", identity.name.to_lowercase()),
            None => return Err(Error::NotJoined(home.path().to_owned())),
        },
    };
    let fits = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
    if name.is_empty() || !name.chars().all(fits) {
        return Err(Error::Machine(format!(
            "invalid service name {name:?}: use letters, digits, -, _ and ."
        )));
    }
    Ok(name)
}

/// A path as a unit's line has it: quoted, with what systemd would read into it escaped.
fn quoted(path: &Path) -> String {
    let text = path.display().to_string();
    let text = text.replace('\\', "\\\\").replace('"', "\\\"");
    format!("\"{}\"", text.replace('%', "%%").replace('$', "$$"))
}

/// The user as whom each job gets a user of its own.
const ROOT: &str = "root";

/// What a runner without privileges has: jobs are its own user, in a namespace of users.
const AS_USER: &str = "# None of the machine's privileges: the runner and its jobs are one user, and namespaces keep them apart.
NoNewPrivileges=yes
CapabilityBoundingSet=";

/// What a runner that is root keeps, and why. Jobs have none of it.
const AS_ROOT: &str = "# Jobs are users of their own and have none of this. The runner sets their users (SETUID, SETGID), makes their mounts and
# namespaces (SYS_ADMIN), owns and removes their files (CHOWN, DAC_OVERRIDE, FOWNER), ends their processes (KILL) and takes privileges from them (SETPCAP).
CapabilityBoundingSet=CAP_SETUID CAP_SETGID CAP_SYS_ADMIN CAP_CHOWN CAP_DAC_OVERRIDE CAP_FOWNER CAP_KILL CAP_SETPCAP
# The users in use, shared by the runners of the machine.
RuntimeDirectory=pennine-runner
RuntimeDirectoryPreserve=yes";

/// The unit.
fn unit(program: &Path, home: &Path, user: &str, drain_minutes: u64) -> String {
    let (program, folder) = (quoted(program), quoted(home));
    let privileges = if user == ROOT { AS_ROOT } else { AS_USER };
    format!(
        "# Written by pennine-runner service install; changed by drop-ins (systemctl edit).
[Unit]
Description=Pennine runner in {home}
Wants=network-online.target
After=network-online.target
# Restarts however often it fails.
StartLimitIntervalSec=0

[Service]
ExecStart={program} work --dir {folder}
User={user}
Restart=on-failure
RestartSec=5
# 2 and 3: a permanent refusal (not joined, or retired by the service).
RestartPreventExitStatus=2 3
# Stopping drains: the runner is signalled, and its jobs finish.
KillMode=mixed
TimeoutStopSec={drain_minutes}min
# A part of the tree of control groups is the runner's: it limits what each job uses.
Delegate=yes
# When memory runs out, jobs are ended before the runner.
OOMScoreAdjust=-200
OOMPolicy=continue
{privileges}
# The runner makes namespaces for its jobs, and jobs use what the machine has; the rest is closed.
ProtectSystem=strict
ReadWritePaths={plain}
PrivateTmp=yes
ProtectHome=read-only
ProtectClock=yes
ProtectHostname=yes
ProtectKernelModules=yes
# Not ProtectKernelLogs nor ProtectKernelTunables: they cover parts of /proc, and a job's own namespace then gets none.
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
SystemCallArchitectures=native

[Install]
WantedBy=multi-user.target
",
        home = home.display().to_string().replace('%', "%%"),
        plain = folder.replace("$$", "$"),
    )
}

fn run(program: &str, arguments: &[&str]) -> Result<String, Error> {
    let shown = format!("{program} {}", arguments.join(" "));
    let output = Command::new(program)
        .args(arguments)
        .output()
        .map_err(|e| Error::Machine(format!("{shown}: {e}")))?;
    let text = String::from_utf8_lossy(&output.stdout).trim().to_owned();
    if output.status.success() {
        return Ok(text);
    }
    let message = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(Error::Machine(format!("{shown} failed: {message}{text}")))
}

/// Whether systemd runs this machine.
fn present() -> bool {
    Path::new("/run/systemd/system").is_dir()
}

fn needs_root(what: &str) -> Result<(), Error> {
    if geteuid().is_root() {
        return Ok(());
    }
    Err(Error::Machine(format!(
        "{what} needs root: run it with sudo"
    )))
}

/// Writes the unit, makes its user, enables and starts it. In another root than `/` (an image that is being made) it is
/// only written and enabled.
pub fn install(home: &Home, desired_state: &DesiredState, root: &Path) -> Result<(), Error> {
    let name = unit_name(home, desired_state.name.as_deref())?;
    let program = std::env::current_exe().map_err(|e| Error::Machine(e.to_string()))?;
    let user = desired_state.user.as_deref().unwrap_or(USER);
    let text = unit(&program, home.path(), user, desired_state.drain_minutes);
    if desired_state.print {
        print!("{text}");
        return Ok(());
    }
    let elsewhere = root != Path::new("/");
    if !elsewhere {
        needs_root("installing a service")?;
        if !present() {
            return Err(Error::Machine(
                "systemd is not running here; have your init system start: pennine-runner work"
                    .into(),
            ));
        }
        let known = User::from_name(user).map_err(|e| Error::Machine(e.to_string()))?;
        if known.is_none() {
            let folder = home.path().display().to_string();
            run(
                "useradd",
                &[
                    "--system",
                    "--home-dir",
                    &folder,
                    "--shell",
                    "/usr/sbin/nologin",
                    user,
                ],
            )?;
            println!("Added the user {user}.");
        }
        give(home.path(), user)?;
    }
    let units = root.join(UNITS.trim_start_matches('/'));
    let file = units.join(format!("{name}.service"));
    let broken = |e: std::io::Error| Error::Folder(file.clone(), e.to_string());
    std::fs::create_dir_all(units.join("multi-user.target.wants")).map_err(broken)?;
    std::fs::write(&file, text).map_err(broken)?;
    println!("Wrote {}.", file.display());
    if elsewhere {
        let link = units
            .join("multi-user.target.wants")
            .join(format!("{name}.service"));
        let _ = std::fs::remove_file(&link);
        std::os::unix::fs::symlink(Path::new(UNITS).join(format!("{name}.service")), link)
            .map_err(broken)?;
        println!("Enabled it there; it starts when that system boots.");
        return Ok(());
    }
    run("systemctl", &["daemon-reload"])?;
    run(
        "systemctl",
        &["enable", "--now", &format!("{name}.service")],
    )?;
    println!(
        "Started {name}; it starts at boot and restarts after a failure. Check it with: pennine-runner service status"
    );
    Ok(())
}

/// Gives the runner's folder to its user.
fn give(folder: &Path, user: &str) -> Result<(), Error> {
    let broken =
        |path: &Path, e: &dyn std::fmt::Display| Error::Folder(path.to_owned(), e.to_string());
    let found = User::from_name(user).map_err(|e| broken(folder, &e))?;
    let user = found.ok_or_else(|| Error::Machine(format!("unknown user {user}")))?;
    let mut ahead = vec![folder.to_owned()];
    while let Some(path) = ahead.pop() {
        chown(&path, Some(user.uid.as_raw()), Some(user.gid.as_raw()))
            .map_err(|e| broken(&path, &e))?;
        // What is in workspaces is the jobs' and goes with them.
        if path.is_dir() && !path.ends_with("work") {
            let entries = std::fs::read_dir(&path).map_err(|e| broken(&path, &e))?;
            ahead.extend(
                entries
                    .flatten()
                    .map(|entry| entry.path())
                    .filter(|path| !path.is_symlink()),
            );
        }
    }
    Ok(())
}

/// Stops the service, which drains it, and takes it away. The runner's folder and its place in the pool stay.
pub fn remove(home: &Home, name: Option<&str>, root: &Path) -> Result<(), Error> {
    let name = match (name, installed(home.path(), root)) {
        (None, Some(found)) => found,
        (given, _) => unit_name(home, given)?,
    };
    let units = root.join(UNITS.trim_start_matches('/'));
    let file = units.join(format!("{name}.service"));
    if !file.exists() {
        return Err(Error::Machine(format!(
            "unknown service {name} ({})",
            file.display()
        )));
    }
    let elsewhere = root != Path::new("/");
    if !elsewhere {
        needs_root("removing a service")?;
        println!("Stopping {name}; its jobs finish first ...");
        run(
            "systemctl",
            &["disable", "--now", &format!("{name}.service")],
        )?;
    }
    let _ = std::fs::remove_file(
        units
            .join("multi-user.target.wants")
            .join(format!("{name}.service")),
    );
    std::fs::remove_file(&file).map_err(|e| Error::Folder(file.clone(), e.to_string()))?;
    if !elsewhere {
        run("systemctl", &["daemon-reload"])?;
    }
    println!(
        "Removed {}. The runner is still in its pool; remove it permanently with: pennine-runner leave",
        file.display()
    );
    Ok(())
}

/// The name of the unit that works in a folder.
fn installed(folder: &Path, root: &Path) -> Option<String> {
    let line = format!("work --dir {}", quoted(folder));
    let units = [UNITS, PACKAGED_UNITS].map(|units| root.join(units.trim_start_matches('/')));
    let files = units
        .iter()
        .filter_map(|units| std::fs::read_dir(units).ok());
    let mut files = files.flatten().flatten().map(|entry| entry.path());
    let found = files.find(|file| {
        file.extension().is_some_and(|end| end == "service")
            && std::fs::read_to_string(file).is_ok_and(|text| text.contains(&line))
    })?;
    Some(found.file_stem()?.to_string_lossy().into_owned())
}

/// What systemd knows of a unit: `LoadState`, `ActiveState` and so on.
fn property(name: &str, property: &str) -> String {
    let of = format!("--property={property}");
    run(
        "systemctl",
        &["show", "--value", &of, &format!("{name}.service")],
    )
    .unwrap_or_default()
}

/// What is to be said of the service that works in this folder.
pub fn finding(folder: &Path) -> Option<Finding> {
    if !present() {
        return None;
    }
    let Some(name) = installed(folder, Path::new("/")) else {
        return Some(
            Finding::warning(
                "at boot",
                "no service is installed: this runner does not restart by itself",
            )
            .remedy("sudo pennine-runner service install"),
        );
    };
    let (active, enabled) = (
        property(&name, "ActiveState"),
        property(&name, "UnitFileState"),
    );
    let text = format!("{name} is {active} and {enabled}");
    Some(match (active.as_str(), enabled.as_str()) {
        ("active" | "activating", "enabled") => Finding::passed("at boot", text),
        ("active" | "activating", _) => Finding::warning("at boot", text).remedy(format!(
            "sudo systemctl enable {name}: otherwise it does not start after a reboot"
        )),
        _ => Finding::failed("at boot", text).remedy(format!(
            "see journalctl -u {name}; then: sudo systemctl start {name}"
        )),
    })
}

/// Tells how the service is.
pub fn status(home: &Home, root: &Path) -> Result<(), Error> {
    let Some(name) = installed(home.path(), root) else {
        return Err(Error::Machine(format!(
            "no service runs in {}; install one with: sudo pennine-runner service install",
            home.path().display()
        )));
    };
    if root == Path::new("/") && present() {
        let since = property(&name, "ActiveEnterTimestamp");
        let (active, enabled) = (
            property(&name, "ActiveState"),
            property(&name, "UnitFileState"),
        );
        let again = property(&name, "NRestarts");
        println!("{name}: {active} since {since}, {enabled} at boot, restarted {again} times");
    } else {
        println!("{name}: its unit is installed, but systemd is not running here");
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_unit_is_one_that_systemd_understands() {
        let folder = tempfile::tempdir().unwrap();
        let program = folder.path().join("a runner");
        std::fs::write(&program, "#!/bin/sh\n").unwrap();
        let executable = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(&program, executable).unwrap();
        let home = folder.path().join("the 100% folder");
        std::fs::create_dir(&home).unwrap();
        let file = folder.path().join("pennine-runner-fell-01.service");
        // The most that systemd may find open, in tenths: a root that makes namespaces is more exposed than a user.
        for (user, most) in [(ROOT, "70"), (USER, "60")] {
            std::fs::write(&file, unit(&program, &home, user, 60)).unwrap();
            verify(&file, user, most);
        }
    }

    fn verify(file: &Path, user: &str, most: &str) {
        let verified = match Command::new("systemd-analyze")
            .arg("verify")
            .arg(file)
            .output()
        {
            Ok(verified) => verified,
            Err(error) => {
                eprintln!("SKIPPED: systemd-analyze is not available here: {error}");
                return;
            }
        };
        let message = String::from_utf8_lossy(&verified.stderr);
        let about: Vec<&str> = message
            .lines()
            .filter(|line| line.contains("fell-01"))
            .collect();
        assert!(about.is_empty(), "{user}: {about:#?}");
        let security = Command::new("systemd-analyze")
            .args(["security", "--offline=yes"])
            .arg(format!("--threshold={most}"))
            .arg(file)
            .output()
            .unwrap();
        let message = String::from_utf8_lossy(&security.stdout);
        assert!(security.status.success(), "{user}: {message}");
    }
}
