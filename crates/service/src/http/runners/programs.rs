//! Hands out the runner's program to machines that join: for each platform that this replica holds it for, with its
//! SHA-256, and a short script that fetches, checks and installs it. Nobody needs to be known for this.

use crate::app::App;
use crate::error::ServiceError;
use crate::http::answer::Answer;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use pennine_wire::runner_protocol::Program;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;
use tokio_util::io::ReaderStream;

/// What the program is called, alone or with its platform behind it.
const NAME: &str = "pennine-runner";

const SCRIPT: &str = include_str!("join.sh");

pub fn routes() -> Router<App> {
    Router::new()
        .route("/join.sh", get(script))
        .route("/runner/v1/programs", get(list))
        .route("/runner/v1/programs/{platform}", get(fetch))
}

/// The programs that lie in a folder. What was hashed once is not hashed again until it changes.
#[derive(Clone)]
pub struct Programs {
    folder: PathBuf,
    hashed: Arc<Mutex<Hashed>>,
}

/// What was hashed, by the file and what it was like then.
type Hashed = HashMap<PathBuf, (Stamp, [u8; 32])>;

/// What tells that a file is another than before.
type Stamp = (u64, Option<SystemTime>);

/// One of them.
struct Held {
    platform: String,
    path: PathBuf,
    bytes: u64,
    sha256: [u8; 32],
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

    fn read(&self) -> io::Result<Vec<Held>> {
        let mut held = Vec::new();
        for entry in std::fs::read_dir(&self.folder)? {
            let entry = entry?;
            let name = entry.file_name();
            let platform = match name.to_str().and_then(|name| name.strip_prefix(NAME)) {
                Some("") => own_platform(),
                Some(rest) => match rest.strip_prefix('-') {
                    // Not what compilers leave beside it.
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
            held.push(Held {
                platform,
                sha256: self.hash(&entry.path(), stamp)?,
                path: entry.path(),
                bytes: about.len(),
            });
        }
        held.sort_by(|a, b| a.platform.cmp(&b.platform));
        Ok(held)
    }

    fn hash(&self, path: &PathBuf, stamp: Stamp) -> io::Result<[u8; 32]> {
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

    async fn held(&self) -> Answer<Vec<Held>> {
        let programs = self.clone();
        let read = tokio::task::spawn_blocking(move || programs.read()).await;
        let read = read.unwrap_or_else(|error| Err(io::Error::other(error)));
        Ok(read.unwrap_or_else(|error| {
            tracing::warn!(%error, folder = %self.folder.display(), "the runner's programs cannot be read");
            Vec::new()
        }))
    }
}

/// The platforms that the runner's program is held for.
async fn list(State(app): State<App>) -> Answer<Json<Vec<Program>>> {
    let held = app.programs.held().await?;
    let shown = held.into_iter().map(|one| Program {
        sha256: hex::encode(one.sha256),
        bytes: pennine_core::size::ByteSize(one.bytes),
        platform: one.platform,
    });
    Ok(Json(shown.collect()))
}

/// The program for one platform.
async fn fetch(State(app): State<App>, Path(platform): Path<String>) -> Answer<Response> {
    let held = app.programs.held().await?;
    let Some(one) = held.iter().find(|one| one.platform == platform) else {
        let known: Vec<&str> = held.iter().map(|one| one.platform.as_str()).collect();
        let failure = ServiceError::unknown("program", &platform);
        return Err(failure.mend(format!(
            "it is held for {}; put others into programs_dir as {NAME}-PLATFORM",
            if known.is_empty() {
                "no platform".into()
            } else {
                known.join(", ")
            }
        )));
    };
    let gone = |error: io::Error| {
        tracing::warn!(%error, path = %one.path.display(), "the runner's program cannot be read");
        ServiceError::unknown("program", &platform)
    };
    let file = tokio::fs::File::open(&one.path).await.map_err(gone)?;
    // The digest as RFC 9530 writes it.
    let digest = format!("sha-256=:{}:", BASE64_STANDARD.encode(one.sha256));
    let headers = [
        (
            header::CONTENT_TYPE.as_str(),
            "application/octet-stream".to_owned(),
        ),
        (header::CONTENT_LENGTH.as_str(), one.bytes.to_string()),
        ("repr-digest", digest),
    ];
    Ok((headers, Body::from_stream(ReaderStream::new(file))).into_response())
}

/// The script with which a machine gets the program and joins.
async fn script(State(app): State<App>) -> Answer<Response> {
    let held = app.programs.held().await?;
    let lines = held
        .iter()
        .map(|one| format!("{} {}\n", one.platform, hex::encode(one.sha256)));
    let script = SCRIPT
        .replace("@SERVER@", &app.public_url.replace('\'', ""))
        .replace("@SUMS@", lines.collect::<String>().trim_end());
    let headers = [
        (header::CONTENT_TYPE, "text/x-shellscript; charset=utf-8"),
        (header::CACHE_CONTROL, "no-cache"),
    ];
    Ok((headers, script).into_response())
}
