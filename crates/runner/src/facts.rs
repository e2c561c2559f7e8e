//! What the runner finds on its machine.

use nix::sys::statvfs::statvfs;
use nix::sys::sysinfo::sysinfo;
use nix::unistd::gethostname;
use pennine_core::fact::{FactValue, Facts};
use pennine_core::size::ByteSize;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;

/// How each tool's version is found: the fact, the program, and what to ask it.
const TOOLS: [(&str, &str, &str); 22] = [
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

/// Everything that the runner finds. `folder` is where it works: its disk is the one that counts.
pub async fn gather(folder: &Path) -> Facts {
    let mut facts = Facts::new();
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
    if let Ok(system) = sysinfo() {
        let size = ByteSize(system.ram_total()).nominal();
        facts.insert("mem".into(), FactValue::size(size));
    }
    let cores = std::thread::available_parallelism().map_or(1, |cores| cores.get() as u64);
    facts.insert("cores".into(), FactValue::Count(cores));
    if let Some(disk) = disk_of(folder) {
        facts.insert("disk".into(), FactValue::size(disk));
    }
    let versions =
        TOOLS.map(|(fact, program, ask)| async move { (fact, version_of(program, ask).await) });
    for (fact, version) in all_of(versions).await {
        if let Some(version) = version {
            facts.insert(fact.to_owned(), FactValue::Text(version));
        }
    }
    facts
}

/// Runs the probes at once; a slow tool then delays nobody.
async fn all_of<F, T, const N: usize>(probes: [F; N]) -> Vec<T>
where
    F: Future<Output = T> + Send + 'static,
    T: Send + 'static,
{
    let tasks: Vec<_> = probes.into_iter().map(tokio::spawn).collect();
    let mut found = Vec::with_capacity(N);
    for task in tasks {
        found.extend(task.await.ok());
    }
    found
}

/// The whole size of the disk that holds a folder, in full GiB.
fn disk_of(folder: &Path) -> Option<ByteSize> {
    let disk = statvfs(folder).ok()?;
    let size = disk.blocks() * disk.fragment_size();
    Some(ByteSize(size >> 30 << 30))
}

async fn version_of(program: &str, ask: &str) -> Option<String> {
    let mut command = Command::new(program);
    command
        .arg(ask)
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
    let said = if output.stdout.is_empty() {
        output.stderr
    } else {
        output.stdout
    };
    version_in(&String::from_utf8_lossy(&said))
}

/// The first thing in a text that looks like a version: digits with a point between them, or digits alone when that is
/// all there is.
fn version_in(said: &str) -> Option<String> {
    let words = said.split(|c: char| c.is_whitespace() || matches!(c, '(' | ')' | ',' | '"'));
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
    let whole = said.trim();
    (!whole.is_empty() && whole.bytes().all(|b| b.is_ascii_digit())).then(|| whole.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_found_in_what_tools_say() {
        for (said, version) in [
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
            assert_eq!(version_in(said).as_deref(), Some(version), "{said}");
        }
        assert_eq!(version_in("no version here"), None);
    }

    #[tokio::test]
    async fn a_machine_has_an_os_an_arch_cores_and_memory() {
        let facts = gather(Path::new("/")).await;
        assert_eq!(facts.get("os"), Some(&FactValue::Text("linux".into())));
        for name in ["arch", "cores", "mem", "disk", "host"] {
            assert!(facts.contains_key(name), "{name} is missing in {facts:?}");
        }
    }
}
