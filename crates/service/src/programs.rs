//! The runner's program as this replica holds it, for each platform, with its SHA-256.

use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

/// What the program is called, alone or with its platform behind it.
pub const NAME: &str = "pennine-runner";

const SCRIPT: &str = include_str!("join.sh");

/// The programs that are in a folder. What was hashed once is not hashed again until it changes.
#[derive(Clone)]
pub struct Programs {
    folder: PathBuf,
    hashed: Arc<Mutex<Hashed>>,
}

/// What was hashed, by the file and what it was like then.
type Hashed = HashMap<PathBuf, (FileStamp, [u8; 32])>;

/// What tells that a file is another than before.
type FileStamp = (u64, Option<SystemTime>);

/// One of them.
pub struct StoredProgram {
    pub platform: String,
    pub path: PathBuf,
    pub bytes: u64,
    pub sha256: [u8; 32],
}

/// The platform of this very program, which is that of the runner built with it.
fn own_platform() -> String {
    let arch = match std::env::consts::ARCH {
        "x86_64" => "x86-64",
        "aarch64" => "arm64",
        other => other,
    };
    format!("{}-{arch}", std::env::consts::OS)
}

impl Programs {
    /// Those in this folder; those beside this program when none is named.
    pub fn within(folder: &std::path::Path) -> Programs {
        let beside = || Some(std::env::current_exe().ok()?.parent()?.to_owned());
        let folder = if folder.as_os_str().is_empty() {
            beside().unwrap_or_default()
        } else {
            folder.to_owned()
        };
        Programs {
            folder,
            hashed: Arc::default(),
        }
    }

    /// The runner's program for this host.
    pub fn own(&self) -> Option<PathBuf> {
        let named = self.folder.join(format!("{NAME}-{}", own_platform()));
        let found = [self.folder.join(NAME), named];
        found.into_iter().find(|path| path.is_file())
    }

    fn read(&self) -> io::Result<Vec<StoredProgram>> {
        let mut held = Vec::new();
        for entry in std::fs::read_dir(&self.folder)? {
            let entry = entry?;
            let name = entry.file_name();
            let platform = match name.to_str().and_then(|name| name.strip_prefix(NAME)) {
                Some("") => own_platform(),
                Some(rest) => match rest.strip_prefix('-') {
                    // Not the files that compilers leave next to it.
                    Some(platform) if !platform.contains('.') => platform.to_owned(),
                    _ => continue,
                },
                None => continue,
            };
            let about = entry.metadata()?;
            if !about.is_file() {
                continue;
            }
            let stamp = (about.len(), about.modified().ok());
            held.push(StoredProgram {
                platform,
                sha256: self.hash(&entry.path(), stamp)?,
                path: entry.path(),
                bytes: about.len(),
            });
        }
        held.sort_by(|a, b| a.platform.cmp(&b.platform));
        Ok(held)
    }

    fn hash(&self, path: &PathBuf, stamp: FileStamp) -> io::Result<[u8; 32]> {
        let hashed = || self.hashed.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, hash)) = hashed().get(path).filter(|(known, _)| *known == stamp) {
            return Ok(*hash);
        }
        let mut hasher = Sha256::new();
        let mut file = std::fs::File::open(path)?;
        let mut buffer = vec![0; 1 << 20];
        loop {
            let length = file.read(&mut buffer)?;
            let Some(read) = buffer.get(..length).filter(|read| !read.is_empty()) else {
                break;
            };
            hasher.update(read);
        }
        let hash: [u8; 32] = hasher.finalize().into();
        hashed().insert(path.clone(), (stamp, hash));
        Ok(hash)
    }

    /// Returns the script with which a machine gets its program and joins the service at `server`, trusting `authority` (PEM)
    /// beside the usual certificate authorities.
    pub async fn join_script(&self, server: &str, authority: Option<&str>) -> String {
        let sums: String = self
            .held()
            .await
            .iter()
            .map(|one| format!("{} {}\n", one.platform, hex::encode(one.sha256)))
            .collect();
        // Each is within single quotes, where only these mean anything.
        let quoted = |text: &str| text.trim_end().replace('\'', "");
        SCRIPT
            .replace("@SERVER@", &quoted(server))
            .replace("@SUMS@", &quoted(&sums))
            .replace("@AUTHORITY@", &quoted(authority.unwrap_or_default()))
    }

    /// Returns the programs, by platform; none where the folder cannot be read, which is logged.
    pub async fn held(&self) -> Vec<StoredProgram> {
        let programs = self.clone();
        let read = tokio::task::spawn_blocking(move || programs.read()).await;
        let read = read.unwrap_or_else(|error| Err(io::Error::other(error)));
        read.unwrap_or_else(|error| {
            tracing::warn!(%error, folder = %self.folder.display(), "the runner's programs cannot be read");
            Vec::new()
        })
    }
}
