//! Logs: acknowledged when durable, sealed into objects, read by bytes and by lines.
//!
//! New bytes go into rows (the tail), and a whole object's worth at once straight into an object. Whenever the tail holds a whole object's worth, that much is written to the
//! object store, entered in the manifest, and taken out of the rows; when a log is complete, the rest is. Objects are
//! never changed. Readers look at the tail first and at the manifest second: what was sealed in between is then found
//! in the manifest.

use crate::objects::Objects;
use bytes::Bytes;
use futures::future::try_join_all;
use object_store::path::Path as ObjectPath;
use pennine_core::id::AttemptId;
use pennine_store::log::{self, Append, LogState, Object, line_ends};
use pennine_store::{Connection, Store};
use ring::digest;
use std::io;

/// The length of a sealed object, in bytes; the last of a log may be shorter.
pub const OBJECT_BYTES: i64 = 1 << 20;
/// The most bytes one reading by lines looks at.
const LINES_BYTES: usize = 4 << 20;
/// The most of one line that is shown, in bytes.
const LINE_BYTES: usize = 16 << 10;
/// Rows of the tail read at once. The tail holds less than two objects' worth.
const TAIL_ROWS: i64 = 8192;

/// What can go wrong with a log.
#[derive(Debug, thiserror::Error)]
pub enum LogError {
    #[error(transparent)]
    Record(#[from] pennine_store::Error),
    #[error("the object store failed: {0}")]
    Objects(#[from] object_store::Error),
}

/// Where sealed logs lie.
#[derive(Clone)]
pub struct LogStore {
    objects: Objects,
}

/// Lines of a log.
pub struct Lines {
    pub lines: Vec<String>,
    pub total: u64,
    pub state: LogState,
}

fn place_of(attempt: AttemptId, start: i64) -> ObjectPath {
    ObjectPath::from(format!("logs/{attempt}/{start:020}"))
}

impl LogError {
    /// Whether the object store has no space left.
    pub fn is_full(&self) -> bool {
        let mut cause: Option<&dyn std::error::Error> = Some(self);
        while let Some(error) = cause {
            if let Some(error) = error.downcast_ref::<io::Error>() {
                return matches!(
                    error.kind(),
                    io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded
                );
            }
            cause = error.source();
        }
        false
    }

    /// Whether something is not in the object store that should be.
    pub fn is_missing(&self) -> bool {
        matches!(
            self,
            LogError::Objects(object_store::Error::NotFound { .. })
        )
    }
}

impl LogStore {
    /// Logs in an object store.
    pub fn new(objects: Objects) -> Self {
        LogStore { objects }
    }

    /// Appends bytes at an offset. The bytes up to the returned offset are durable.
    pub async fn append(
        &self,
        connection: &mut Connection,
        attempt: AttemptId,
        offset: i64,
        bytes: &Bytes,
    ) -> Result<Append, LogError> {
        if bytes.len() as i64 >= OBJECT_BYTES
            && let Some(state) = self
                .append_sealed(connection, attempt, offset, bytes)
                .await?
        {
            if state.length - state.sealed >= OBJECT_BYTES {
                self.seal(connection, attempt, state).await?;
            }
            return Ok(Append::Kept(state));
        }
        let appended = log::append(connection, attempt, offset, bytes).await?;
        if let Append::Kept(state) = appended
            && state.length - state.sealed >= OBJECT_BYTES
        {
            self.seal(connection, attempt, state).await?;
        }
        Ok(appended)
    }

    /// Where the objects lie, for what is stored beside logs.
    pub fn objects(&self) -> &Objects {
        &self.objects
    }

    /// Appends what is at least a whole object's worth at the log's end straight as objects, together with what is in the tail,
    /// and what is over as the new tail: bytes that are written twice are taken in at half the speed. The objects are written
    /// side by side and entered at once, so that they share the waiting for the disk. Nothing, and nothing kept, where the log
    /// does not end there.
    async fn append_sealed(
        &self,
        connection: &mut Connection,
        attempt: AttemptId,
        offset: i64,
        bytes: &Bytes,
    ) -> Result<Option<LogState>, LogError> {
        let found = log::state(connection, attempt).await?;
        let Some(state) = found.filter(|state| state.length == offset && !state.complete) else {
            return Ok(None);
        };
        let (mut tail_bytes, mut first_line) = (Vec::new(), state.lines);
        if state.sealed < state.length {
            let tail = log::chunks(connection, attempt, state.sealed, TAIL_ROWS).await?;
            let Some(first) = tail.first().filter(|chunk| chunk.start == state.sealed) else {
                return Ok(None);
            };
            first_line = first.first_line;
            for chunk in &tail {
                tail_bytes.extend_from_slice(&chunk.bytes);
            }
            if state.sealed + tail_bytes.len() as i64 != offset {
                return Ok(None);
            }
        }
        let whole = usize::try_from(OBJECT_BYTES).unwrap_or(0);
        let mut rest = bytes.clone();
        let mut pieces: Vec<Bytes> = Vec::new();
        if !tail_bytes.is_empty() {
            let room = whole.saturating_sub(tail_bytes.len());
            if rest.len() < room {
                return Ok(None);
            }
            tail_bytes.extend_from_slice(&rest.split_to(room));
            pieces.push(tail_bytes.into());
        }
        while rest.len() >= whole {
            pieces.push(rest.split_to(whole));
        }
        // Durable before they count. Where the record has changed meanwhile, what is there now is written over later.
        let mut start = state.sealed;
        let puts = pieces.into_iter().map(|piece| {
            let at = start;
            start += piece.len() as i64;
            self.put_object(attempt, at, piece)
        });
        let mut objects = try_join_all(puts).await?;
        for object in &mut objects {
            object.first_line = first_line;
            first_line += object.lines;
        }
        let kept = log::extend_sealed(connection, attempt, state, &objects, &rest).await?;
        Ok(kept.then_some(LogState {
            length: start + rest.len() as i64,
            lines: first_line + line_ends(&rest),
            sealed: start,
            ..state
        }))
    }

    /// Writes an object, and says what the manifest has to know of it, but for its first line. It is counted and hashed while
    /// it is written.
    async fn put_object(
        &self,
        attempt: AttemptId,
        start: i64,
        bytes: Bytes,
    ) -> Result<Object, LogError> {
        let read = bytes.clone();
        let seen = tokio::task::spawn_blocking(move || {
            let hash = digest::digest(&digest::SHA256, &read);
            (line_ends(&read), hash.as_ref().to_vec())
        });
        let length = bytes.len() as i64;
        let place = place_of(attempt, start);
        self.objects.put(&place, bytes).await?;
        let (lines, sha256) = seen
            .await
            .map_err(|error| object_store::Error::JoinError { source: error })?;
        Ok(Object {
            start,
            length,
            first_line: 0,
            lines,
            sha256,
        })
    }

    /// Seals what can be sealed: whole objects, and the rest when the log is complete.
    pub async fn seal(
        &self,
        connection: &mut Connection,
        attempt: AttemptId,
        state: LogState,
    ) -> Result<(), LogError> {
        let mut sealed = state.sealed;
        loop {
            let left = state.length - sealed;
            if left <= 0 || (left < OBJECT_BYTES && !state.complete) {
                return Ok(());
            }
            let chunks = log::chunks(connection, attempt, sealed, TAIL_ROWS).await?;
            let wanted = usize::try_from(left.min(OBJECT_BYTES)).unwrap_or(0);
            let mut bytes = Vec::with_capacity(wanted);
            let Some(first) = chunks.first().filter(|chunk| chunk.start == sealed) else {
                // Another replica sealed it in the meantime.
                return Ok(());
            };
            for chunk in &chunks {
                let room = wanted - bytes.len();
                bytes.extend(chunk.bytes.iter().take(room));
                if bytes.len() == wanted {
                    break;
                }
            }
            let object = Object {
                first_line: first.first_line,
                ..self.put_object(attempt, sealed, bytes.into()).await?
            };
            if !log::seal(connection, attempt, &object).await? {
                return Ok(());
            }
            sealed += object.length;
        }
    }

    /// Seals the rest of a log that is complete.
    pub async fn seal_complete(&self, store: &Store, attempt: AttemptId) -> Result<(), LogError> {
        let mut connection = store.tasks().await?;
        match log::state(&mut connection, attempt).await? {
            Some(state) if state.complete => self.seal(&mut connection, attempt, state).await,
            _ => Ok(()),
        }
    }

    /// Takes what is in the object store of a log away, then what is known of it, so that it can be repeated.
    pub async fn remove_objects(&self, store: &Store, attempt: AttemptId) -> Result<(), LogError> {
        let mut connection = store.tasks().await?;
        for object in log::objects(&mut connection, attempt).await? {
            let place = place_of(attempt, object.start);
            self.objects.delete(&place).await?;
        }
        Ok(log::note_no_objects(&mut connection, attempt).await?)
    }

    async fn object_bytes(
        &self,
        attempt: AttemptId,
        object: &Object,
        skip: i64,
        most: usize,
    ) -> Result<Bytes, LogError> {
        let from = u64::try_from(skip.max(0)).unwrap_or(0);
        let until = u64::try_from(object.length)
            .unwrap_or(0)
            .min(from + most as u64);
        Ok(self
            .objects
            .get_range(&place_of(attempt, object.start), from..until)
            .await?)
    }

    /// At most `most` bytes from an offset on; fewer only at the end.
    pub async fn read(
        &self,
        connection: &mut Connection,
        attempt: AttemptId,
        from: i64,
        most: usize,
    ) -> Result<Vec<u8>, LogError> {
        let tail = log::chunks(connection, attempt, from, TAIL_ROWS).await?;
        let mut bytes = Vec::new();
        if tail.first().is_none_or(|chunk| chunk.start > from) {
            for object in log::objects(connection, attempt).await? {
                let at = from + bytes.len() as i64;
                if bytes.len() < most && object.start <= at && at < object.start + object.length {
                    let more = self
                        .object_bytes(attempt, &object, at - object.start, most - bytes.len())
                        .await?;
                    bytes.extend_from_slice(&more);
                }
            }
        }
        for chunk in tail {
            let at = from + bytes.len() as i64;
            let skip = usize::try_from(at - chunk.start).unwrap_or(usize::MAX);
            if let Some(new) = chunk.bytes.get(skip..) {
                let room = most - bytes.len();
                bytes.extend(new.iter().take(room));
            }
        }
        Ok(bytes)
    }

    /// The offset at which a line begins, counted from 0.
    async fn line_start(
        &self,
        connection: &mut Connection,
        attempt: AttemptId,
        line: i64,
    ) -> Result<Option<i64>, LogError> {
        if line == 0 {
            return Ok(Some(0));
        }
        let in_bytes = |bytes: &[u8], nth: i64| {
            let mut ends = bytes.iter().enumerate().filter(|(_, byte)| **byte == b'\n');
            usize::try_from(nth - 1)
                .ok()
                .and_then(|nth| ends.nth(nth))
                .map(|(at, _)| at as i64 + 1)
        };
        // The line begins after the `line`-th line end: find the piece that holds it.
        for chunk in log::chunks(connection, attempt, 0, TAIL_ROWS).await? {
            if chunk.first_line < line && line <= chunk.first_line + line_ends(&chunk.bytes) {
                return Ok(
                    in_bytes(&chunk.bytes, line - chunk.first_line).map(|at| chunk.start + at)
                );
            }
        }
        for object in log::objects(connection, attempt).await? {
            if object.first_line < line && line <= object.first_line + object.lines {
                let bytes = self
                    .object_bytes(attempt, &object, 0, usize::MAX >> 1)
                    .await?;
                return Ok(in_bytes(&bytes, line - object.first_line).map(|at| object.start + at));
            }
        }
        Ok(None)
    }

    /// At most `count` lines from a line on, with how many there are in all.
    pub async fn lines(
        &self,
        connection: &mut Connection,
        attempt: AttemptId,
        from: i64,
        count: usize,
    ) -> Result<Lines, LogError> {
        let state = log::state(connection, attempt).await?.unwrap_or_default();
        let unfinished = state.length > 0
            && self
                .read(connection, attempt, state.length - 1, 1)
                .await?
                .first()
                .is_some_and(|byte| *byte != b'\n');
        let total = state.lines.unsigned_abs() + u64::from(unfinished);
        let mut lines = Vec::new();
        let start = if from.unsigned_abs() < total {
            self.line_start(connection, attempt, from).await?
        } else {
            None
        };
        if let Some(start) = start {
            let mut bytes = Vec::new();
            // Read on until there are enough lines, a little at a time: lines are usually short.
            let mut step = (count * 128).clamp(16 << 10, 1 << 20);
            while line_ends(&bytes) < count as i64 && bytes.len() < LINES_BYTES {
                let more = self
                    .read(connection, attempt, start + bytes.len() as i64, step)
                    .await?;
                if more.is_empty() {
                    break;
                }
                bytes.extend_from_slice(&more);
                step = 1 << 20;
            }
            let mut pieces: Vec<&[u8]> = bytes.split(|byte| *byte == b'\n').collect();
            // After the last line end there is nothing, or the beginning of a line that goes on.
            if pieces.last().is_some_and(|last| last.is_empty()) {
                pieces.pop();
            }
            lines.extend(pieces.into_iter().take(count).map(shown));
        }
        Ok(Lines {
            lines,
            total,
            state,
        })
    }
}

/// Returns a line as it is shown: without a carriage return at its end, cut where it is overlong.
pub fn shown(line: &[u8]) -> String {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    match line.get(..LINE_BYTES) {
        Some(head) if line.len() > LINE_BYTES => {
            format!(
                "{} … ({} bytes more)",
                String::from_utf8_lossy(head),
                line.len() - LINE_BYTES
            )
        }
        _ => String::from_utf8_lossy(line).into_owned(),
    }
}
