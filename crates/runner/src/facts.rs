//! What the runner finds on its machine.

use crate::abilities::Abilities;
use crate::system::hardware;
use nix::unistd::gethostname;
use pennine_core::fact::{FactValue, Facts};
use pennine_core::overrides::checked;
use pennine_core::size::ByteSize;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;
use tokio::process::Command;

/// How each tool's version is found: the fact, the program, and what to ask it.
const TOOLS: [(&str, &str, &str); 24] = [
    ("bwrap", "bwrap", "--version"),
    ("curl", "curl", "--version"),
    ("bash", "bash", "--version"),
    ("cargo", "cargo", "--version"),
    ("clang", "clang", "--version"),
    ("cmake", "cmake", "--version"),
    ("docker", "docker", "--version"),
    ("gcc", "gcc", "-dumpfullversion"),
    ("git", "git", "--version"),
    ("go", "go", "version"),
    ("gxx", "g++", "-dumpfullversion"),
    ("java", "java", "-version"),
    ("make", "make", "--version"),
    ("maven", "mvn", "--version"),
    ("meson", "meson", "--version"),
    ("ninja", "ninja", "--version"),
    ("node", "node", "--version"),
    ("npm", "npm", "--version"),
    ("perl", "perl", "--version"),
    ("podman", "podman", "--version"),
    ("python", "python3", "--version"),
    ("ruby", "ruby", "--version"),
    ("rust", "rustc", "--version"),
    ("tar", "tar", "--version"),
];

/// How long a tool may take to say its version.
const PATIENCE: Duration = Duration::from_secs(10);

/// Everything that the runner finds. `folder` is where it works: its disk is the one that counts, and its
/// [`PROBES`] are asked too. `path` is where programs are looked for.
pub async fn gather(folder: &Path, path: &str, abilities: &Abilities) -> Facts {
    let mut facts = abilities.facts();
    let mut word = |name: &str, value: &str| {
        facts.insert(name.to_owned(), FactValue::Text(value.to_owned()));
    };
    word("os", std::env::consts::OS);
    word(
        "arch",
        match std::env::consts::ARCH {
            "x86_64" => "x86-64",
            "aarch64" => "arm64",
            other => other,
        },
    );
    if let Ok(host) = gethostname() {
        word("host", &host.to_string_lossy());
    }
    if let Some(memory) = hardware::memory() {
        facts.insert("mem".into(), FactValue::size(memory.nominal()));
    }
    let cores = std::thread::available_parallelism().map_or(1, |cores| cores.get() as u64);
    facts.insert("cores".into(), FactValue::Count(cores));
    if let Some(disk) = hardware::disk_of(folder) {
        // In full GiB.
        let size = ByteSize(disk.size.0 >> 30 << 30);
        facts.insert("disk".into(), FactValue::size(size));
    }
    hardware::devices(&mut facts, abilities.jobs_are_other_users());
    let mut probes = own_probes(folder);
    for (fact, program, ask) in TOOLS {
        probes.entry(fact.to_owned()).or_insert_with(|| Probe {
            program: program.to_owned(),
            ask: ask.to_owned(),
        });
    }
    let remembered = VersionCache::read();
    let asked = probes.into_iter().map(|(fact, probe)| {
        let (path, remembered) = (path.to_owned(), remembered.versions.clone());
        async move {
            let identity = identity_of(&probe, &path)?;
            let version = match remembered.get(&identity) {
                Some(version) => version.clone(),
                None => version_of(&probe, &path).await,
            };
            Some((fact, identity, version))
        }
    });
    let mut found = BTreeMap::new();
    for (fact, identity, version) in all_of(asked).await.into_iter().flatten() {
        if let Some(version) = &version {
            facts.insert(fact, FactValue::Text(version.clone()));
        }
        found.insert(identity, version);
    }
    remembered.write(found);
    facts
}

/// The file in which versions are remembered between the runners of one host; where it is not named, nothing is.
/// Machines that come and go on one host would each spend seconds on asking the same tools.
pub const REMEMBERED: &str = "PENNINE_TOOL_VERSIONS";

/// Versions by the file that was asked, as it was then.
struct VersionCache {
    file: Option<PathBuf>,
    versions: Arc<BTreeMap<String, Option<String>>>,
}

impl VersionCache {
    fn read() -> VersionCache {
        let file = std::env::var_os(REMEMBERED).map(PathBuf::from);
        let text = file.as_ref().and_then(|file| std::fs::read(file).ok());
        let versions = text.and_then(|text| serde_json::from_slice(&text).ok());
        VersionCache {
            file,
            versions: Arc::new(versions.unwrap_or_default()),
        }
    }

    /// Writes what was found, if that is more than was known. The file is there whole or not at all.
    fn write(&self, found: BTreeMap<String, Option<String>>) {
        let Some(file) = &self.file else { return };
        if found.keys().all(|one| self.versions.contains_key(one)) {
            return;
        }
        let mut all = (*self.versions).clone();
        all.extend(found);
        let new = file.with_extension(std::process::id().to_string());
        let written = serde_json::to_vec(&all)
            .map_err(std::io::Error::other)
            .and_then(|text| std::fs::write(&new, text))
            .and_then(|()| std::fs::rename(&new, file));
        if let Err(error) = written {
            let _ = std::fs::remove_file(&new);
            tracing::debug!(file = %file.display(), %error, "versions are not remembered");
        }
    }
}

/// The file that a probe asks, its size and the time of its last change. None when there is no such program.
fn identity_of(probe: &Probe, path: &str) -> Option<String> {
    let program = Path::new(&probe.program);
    let folders = std::env::split_paths(path);
    let mut candidates: Vec<PathBuf> = match program.components().count() {
        1 => folders.map(|folder| folder.join(program)).collect(),
        _ => vec![program.to_owned()],
    };
    candidates.retain(|file| file.is_file());
    let file = candidates.first()?.canonicalize().ok()?;
    let about = file.metadata().ok()?;
    let changed = (about.mtime(), about.mtime_nsec());
    Some(format!(
        "{} {} {} {}.{}",
        file.display(),
        probe.ask,
        about.len(),
        changed.0,
        changed.1
    ))
}

/// How the version of one tool is found.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Probe {
    program: String,
    ask: String,
}

/// The file in the runner's folder with probes of the machine's owner: `[scope]`, `program = "scopectl"`,
/// `ask = "--version"` finds the fact `scope`. One of a name that is known already takes its place.
pub const PROBES: &str = "probes.toml";

fn own_probes(folder: &Path) -> BTreeMap<String, Probe> {
    let file = folder.join(PROBES);
    let read = match std::fs::read_to_string(&file) {
        Ok(read) => read,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return BTreeMap::new(),
        Err(error) => {
            tracing::warn!(file = %file.display(), %error, "the probes cannot be read; continuing without them");
            return BTreeMap::new();
        }
    };
    let probes = toml::from_str::<BTreeMap<String, Probe>>(&read).unwrap_or_else(|error| {
        tracing::warn!(file = %file.display(), "the probes are invalid; continuing without them: {error}");
        BTreeMap::new()
    });
    let known = |name: &String| {
        let value = FactValue::Text("1".to_owned());
        checked(name, &value)
            .inspect_err(|wrong| tracing::warn!("{PROBES}: {wrong}"))
            .is_ok()
    };
    probes.into_iter().filter(|(name, _)| known(name)).collect()
}

/// Runs the probes concurrently, so that a slow tool delays no other.
async fn all_of<F, T>(probes: impl Iterator<Item = F>) -> Vec<T>
where
    F: Future<Output = T> + Send + 'static,
    T: Send + 'static,
{
    let tasks: Vec<_> = probes.map(tokio::spawn).collect();
    let mut found = Vec::with_capacity(tasks.len());
    for task in tasks {
        found.extend(task.await.ok());
    }
    found
}

async fn version_of(probe: &Probe, path: &str) -> Option<String> {
    let mut command = Command::new(&probe.program);
    command
        .arg(&probe.ask)
        .env("PATH", path)
        .stdin(Stdio::null())
        .kill_on_drop(true)
        .env("LC_ALL", "C");
    let output = tokio::time::timeout(PATIENCE, command.output())
        .await
        .ok()?
        .ok()?;
    if !output.status.success() {
        return None;
    }
    let message = if output.stdout.is_empty() {
        output.stderr
    } else {
        output.stdout
    };
    version_in(&String::from_utf8_lossy(&message))
}

/// The first thing in a text that looks like a version: digits with a point between them, or digits alone when that is
/// all there is.
fn version_in(message: &str) -> Option<String> {
    let words = message.split(|c: char| c.is_whitespace() || matches!(c, '(' | ')' | ',' | '"'));
    for word in words {
        // At most two letters before the number: v20.1, go1.22.
        let Some(from) = word
            .find(|c: char| c.is_ascii_digit())
            .filter(|from| *from <= 2)
        else {
            continue;
        };
        let number = word.get(from..).unwrap_or_default();
        let end = number
            .find(|c: char| !(c.is_ascii_digit() || c == '.'))
            .unwrap_or(number.len());
        let number = number.get(..end).unwrap_or_default().trim_end_matches('.');
        if number.contains('.') {
            return Some(number.to_owned());
        }
    }
    let whole = message.trim();
    (!whole.is_empty() && whole.bytes().all(|b| b.is_ascii_digit())).then(|| whole.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_found_in_what_tools_say() {
        for (message, version) in [
            ("git version 2.47.3", "2.47.3"),
            ("12.2.0\n", "12.2.0"),
            ("go version go1.22.1 linux/amd64", "1.22.1"),
            ("v20.20.2", "20.20.2"),
            ("openjdk version \"17.0.15\" 2025-04-15", "17.0.15"),
            (
                "This is perl 5, version 36, subversion 0 (v5.36.0) built for x86_64-linux",
                "5.36.0",
            ),
            (
                "GNU bash, version 5.2.15(1)-release (x86_64-pc-linux-gnu)",
                "5.2.15",
            ),
            ("13", "13"),
        ] {
            assert_eq!(version_in(message).as_deref(), Some(version), "{message}");
        }
        assert_eq!(version_in("no version here"), None);
    }

    #[tokio::test]
    async fn the_owners_probes_are_asked_and_broken_ones_are_left_out() {
        let folder = tempfile::tempdir().unwrap();
        let write =
            |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        write("scopectl", "echo scopectl 4.1.7\n");
        let script = folder.path().join("scopectl");
        let probe = |name: &str| format!("[{name}]\nprogram = \"sh\"\nask = {script:?}\n");
        write(PROBES, &(probe("scope") + &probe("or")));
        let path = "/usr/bin:/bin";
        let facts = gather(folder.path(), path, &Abilities::none()).await;
        assert_eq!(facts.get("scope"), Some(&FactValue::Text("4.1.7".into())));
        assert!(!facts.contains_key("or"), "a keyword is no fact");
        write(PROBES, "[scope\n");
        assert!(
            !gather(folder.path(), path, &Abilities::none())
                .await
                .contains_key("scope")
        );
    }

    #[test]
    fn a_changed_tool_is_a_new_version_and_a_missing_one_has_none() {
        let folder = tempfile::tempdir().unwrap();
        let probe = |program: &str| Probe {
            program: program.to_owned(),
            ask: "--version".to_owned(),
        };
        let path = folder.path().display().to_string();
        assert_eq!(identity_of(&probe("scopectl"), &path), None);
        std::fs::write(folder.path().join("scopectl"), "1").unwrap();
        let first = identity_of(&probe("scopectl"), &path).unwrap();
        assert_eq!(identity_of(&probe("scopectl"), &path), Some(first.clone()));
        std::fs::write(folder.path().join("scopectl"), "22").unwrap();
        assert_ne!(identity_of(&probe("scopectl"), &path), Some(first));
    }

    #[tokio::test]
    async fn a_machine_has_an_os_an_arch_cores_and_memory() {
        let facts = gather(Path::new("/"), "/usr/bin:/bin", &Abilities::none()).await;
        assert_eq!(facts.get("os"), Some(&FactValue::Text("linux".into())));
        for name in ["arch", "cores", "mem", "disk", "host"] {
            assert!(facts.contains_key(name), "{name} is missing in {facts:?}");
        }
    }
}
