//! An attempt's log: to disk first, then to the service.
//!
//! The service acknowledges bytes only when they are durable and answers with the offset at which the next belong.
//! Whatever happens to the connection, sending goes on from there, so no byte is lost and none comes twice.

use crate::backoff::Backoff;
use bytes::Bytes;
use pennine_client::{ClientError, RunnerClient};
use pennine_core::id::{AttemptId, LeaseToken};
use pennine_core::size::ByteSize;
use std::cell::{Cell, RefCell};
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::time::Duration;
use tokio::sync::Notify;

/// One request carries this much where more waits, whatever the service would take.
const LEAST_CHUNK: u64 = 16 << 10;
const MOST_CHUNK: u64 = 16 << 20;
/// The most that waits on disk for the service before the command's output is held up.
const FULL: u64 = 256 << 20;
/// The least time between two requests: a chatty command then costs few of them.
const BREATH: Duration = Duration::from_millis(40);
/// With this much waiting, nothing is waited for.
const PLENTY: u64 = 256 << 10;

/// A log on its way.
pub struct Spool {
    file: RefCell<File>,
    /// Bytes on disk, and bytes that the service has.
    written: Cell<u64>,
    sent: Cell<u64>,
    /// The most bytes that the log may have, and whether some were left out.
    cap: u64,
    capped: Cell<bool>,
    /// Whether the last line has no end yet.
    is_line_open: Cell<bool>,
    /// Whether the service has refused further bytes.
    full: Cell<bool>,
    /// Whether it was noted that a part of it is missing.
    damaged: Cell<bool>,
    closed: Cell<bool>,
    /// Whether another task will send the rest.
    handed_over: Cell<bool>,
    /// Whether the service takes nothing more from this attempt.
    over: Cell<bool>,
    grown: Notify,
    shrunk: Notify,
}

impl Spool {
    /// A new log in this file.
    pub fn create(path: &Path, cap: u64) -> io::Result<Spool> {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(true)
            .open(path)?;
        Ok(Spool::in_file(file, 0, cap))
    }

    /// The log that an earlier life of this program left in this file.
    pub fn reopen(path: &Path) -> io::Result<Spool> {
        let file = File::options().read(true).write(true).open(path)?;
        let length = file.metadata()?.len();
        Ok(Spool::in_file(file, length, u64::MAX))
    }

    fn in_file(file: File, written: u64, cap: u64) -> Spool {
        Spool {
            file: RefCell::new(file),
            written: Cell::new(written),
            sent: Cell::new(0),
            cap,
            capped: Cell::new(false),
            is_line_open: Cell::new(false),
            full: Cell::new(false),
            damaged: Cell::new(false),
            closed: Cell::new(false),
            handed_over: Cell::new(false),
            over: Cell::new(false),
            grown: Notify::new(),
            shrunk: Notify::new(),
        }
    }

    /// Appends what the command wrote, up to the cap; past it a mark is left, once.
    pub fn write(&self, bytes: &[u8]) -> io::Result<()> {
        if self.capped.get() {
            return Ok(());
        }
        let room =
            usize::try_from(self.cap.saturating_sub(self.written.get())).unwrap_or(usize::MAX);
        match bytes.get(..room) {
            Some(fits) if bytes.len() > room => {
                self.append(fits)?;
                self.capped.set(true);
                let mark = format!(
                    "\npennine: the log is longer than {} bytes; the rest is omitted\n",
                    self.cap
                );
                self.append(mark.as_bytes())
            }
            _ => self.append(bytes),
        }
    }

    /// Appends a line of the runner's own, on a line of its own, whatever the cap.
    pub fn append_line(&self, line: &str) -> io::Result<()> {
        let begin = if self.is_line_open.get() { "\n" } else { "" };
        self.append(format!("{begin}pennine: {line}\n").as_bytes())
    }

    fn append(&self, bytes: &[u8]) -> io::Result<()> {
        if self.full.get() {
            return Ok(());
        }
        self.file
            .borrow_mut()
            .write_all_at(bytes, self.written.get())?;
        self.written.set(self.written.get() + bytes.len() as u64);
        if let Some(last) = bytes.last() {
            self.is_line_open.set(*last != b'\n');
        }
        self.grown.notify_one();
        Ok(())
    }

    /// Waits while too much is on disk. The command's output is then held up, and nothing is lost.
    pub async fn room(&self) {
        while self.written.get() - self.sent.get() >= FULL && !self.over.get() {
            self.shrunk.notified().await;
        }
    }

    /// Nothing more will be written.
    pub fn close(&self) {
        self.closed.set(true);
        self.grown.notify_one();
    }

    /// Who sends now leaves the rest to who sends next.
    pub fn hand_over(&self) {
        self.handed_over.set(true);
        self.grown.notify_one();
    }

    /// Nothing more needs to be sent.
    pub fn abandon(&self) {
        self.over.set(true);
        self.grown.notify_one();
        self.shrunk.notify_one();
    }

    /// The log's length.
    pub fn length(&self) -> u64 {
        self.written.get()
    }

    /// Whether bytes were left out.
    pub fn capped(&self) -> bool {
        self.capped.get()
    }

    /// Whether the service said that the attempt is over.
    pub fn over(&self) -> bool {
        self.over.get()
    }

    /// Goes on without what cannot be read back: the attempt's end is reported all the same.
    fn leave_out(&self, bytes: u64, error: &io::Error) {
        tracing::error!(%error, bytes, "a part of the log on disk cannot be read and is left out");
        self.written.set(self.sent.get());
        // Once only: this line may be unreadable as well.
        if !self.damaged.replace(true) {
            let _ = self.append_line(&format!(
                "{bytes} bytes of the log are missing here: the runner could not read them back ({error})"
            ));
        }
    }

    /// The service takes nothing beyond this offset: the log ends there, and what comes later is omitted.
    fn cut(&self, length: u64) {
        tracing::warn!(
            length,
            "the service accepts no further bytes of this log; the rest is omitted"
        );
        self.capped.set(true);
        self.full.set(true);
        self.written.set(length);
        self.sent.set(length);
        self.shrunk.notify_one();
    }

    /// Goes on at this offset: the service says that it has so much.
    pub fn resume_at(&self, offset: u64) {
        self.sent.set(offset.min(self.written.get()));
    }

    /// Asks the service how much of the log it has, until it answers. Where it has more than is left here (the machine lost
    /// its power before all of it was on disk), the log goes on after that.
    pub async fn locate(&self, client: &RunnerClient, attempt: AttemptId, lease: LeaseToken) {
        let mut pace = Backoff::default();
        while !self.over.get() {
            let asked = client.log(attempt, lease, self.written.get(), Bytes::new());
            match asked.await {
                Ok(next) => {
                    self.written.set(self.written.get().max(next));
                    self.sent.set(next);
                    return;
                }
                Err(error) => {
                    if let Some(next) = self.refused(&error) {
                        self.sent.set(next);
                        return;
                    }
                    pace.pause().await;
                }
            }
        }
    }

    /// Acts on what the service says instead of taking bytes: the offset at which it wants to go on, if that is it.
    fn refused(&self, error: &ClientError) -> Option<u64> {
        match error.problem() {
            Some(problem) if problem.word() == "log-gap" => {
                return Some(problem.next_offset.unwrap_or(0));
            }
            Some(problem) if problem.word() == "log-too-long" => {
                self.cut(problem.next_offset.unwrap_or(0));
                return Some(problem.next_offset.unwrap_or(0));
            }
            Some(problem) if ["stale-lease", "log-complete"].contains(&problem.word()) => {
                self.abandon();
            }
            _ if error.passes() => {}
            _ => tracing::warn!(%error, "the service does not accept the log"),
        }
        None
    }

    /// Sends until the log is closed and the service has all of it, or takes nothing more, or it is handed over; at most as
    /// much at once as the service last said, and less on a line that is too slow for that.
    pub async fn send(
        &self,
        client: &RunnerClient,
        attempt: AttemptId,
        lease: LeaseToken,
        chunk: &Cell<ByteSize>,
    ) {
        let mut pace = Backoff::default();
        let mut fits = MOST_CHUNK;
        while !self.over.get() && !self.handed_over.take() {
            let (sent, written) = (self.sent.get(), self.written.get());
            if sent >= written {
                if self.closed.get() {
                    return;
                }
                self.grown.notified().await;
                continue;
            }
            let most = chunk.get().0.min(fits).clamp(LEAST_CHUNK, MOST_CHUNK);
            let mut bytes = vec![0; usize::try_from((written - sent).min(most)).unwrap_or(0)];
            let read = self.file.borrow().read_exact_at(&mut bytes, sent);
            if let Err(error) = read {
                self.leave_out(written - sent, &error);
                continue;
            }
            match client.log(attempt, lease, sent, Bytes::from(bytes)).await {
                Ok(next) => {
                    pace.reset();
                    fits = most.saturating_mul(2);
                    self.resume_at(next);
                    self.shrunk.notify_one();
                    if !self.closed.get() && self.written.get() - self.sent.get() < PLENTY {
                        tokio::time::sleep(BREATH).await;
                    }
                }
                Err(error) => match self.refused(&error) {
                    Some(next) => self.resume_at(next),
                    None if self.over.get() => {}
                    // A slow line may carry less in the time of a request.
                    None if error.timed_out() => fits = most / 2,
                    // While the service is unreachable, a hand-over takes effect at once.
                    None => tokio::select! {
                        () = pace.pause() => {}
                        () = self.handed() => {}
                    },
                },
            }
        }
    }

    async fn handed(&self) {
        while !self.handed_over.get() {
            self.grown.notified().await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pennine_client::Route;
    use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
    use tokio::net::{TcpListener, TcpStream};
    use uuid::Uuid;

    #[test]
    fn a_log_past_its_cap_is_cut_with_a_mark() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("spool/log");
        let spool = Spool::create(&path, 10).unwrap();
        spool.write(b"1234567").unwrap();
        spool.write(b"890abc").unwrap();
        spool.write(b"never").unwrap();
        spool.append_line("exit code 0").unwrap();
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(
            text.starts_with("1234567890\npennine: the log is longer than 10 bytes"),
            "{text}"
        );
        assert!(text.ends_with("pennine: exit code 0\n"), "{text}");
        assert!(!text.contains("never") && spool.capped());
        assert_eq!(spool.length(), text.len() as u64);
    }

    /// Reads one request, and returns the offset that it names and the length of its body.
    async fn asked(stream: &mut BufReader<TcpStream>) -> Option<(u64, u64)> {
        let (mut offset, mut length) = (None, None);
        loop {
            let mut line = String::new();
            if stream.read_line(&mut line).await.ok()? == 0 {
                return None;
            }
            if let Some((_, rest)) = line.split_once("offset=") {
                offset = rest.split(' ').next()?.parse().ok();
            }
            if let Some(value) = line.to_lowercase().strip_prefix("content-length:") {
                length = value.trim().parse().ok();
            }
            if line == "\r\n" {
                break;
            }
        }
        let mut body = vec![0; usize::try_from(length?).ok()?];
        stream.read_exact(&mut body).await.ok()?;
        Some((offset?, length?))
    }

    #[tokio::test]
    async fn a_line_that_is_too_slow_for_a_chunk_gets_smaller_ones() {
        const CARRIES: u64 = 100 << 10;
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let service = tokio::spawn(async move {
            let mut sizes = Vec::new();
            let mut next = 0;
            while next < 1 << 20 {
                let (stream, _) = listener.accept().await.unwrap();
                let mut stream = BufReader::new(stream);
                while let Some((offset, length)) = asked(&mut stream).await {
                    sizes.push(length);
                    let (status, body) = if length > CARRIES {
                        let problem = serde_json::json!({"type": "/problems/too-slow", "title": "", "status": 408, "detail": ""});
                        (
                            "408 Request Timeout\r\ncontent-type: application/problem+json",
                            problem,
                        )
                    } else {
                        assert_eq!(offset, next);
                        next += length;
                        ("200 OK", serde_json::json!({"next_offset": next}))
                    };
                    let body = body.to_string();
                    let answer = format!(
                        "HTTP/1.1 {status}\r\ncontent-length: {}\r\n\r\n{body}",
                        body.len()
                    );
                    stream.get_mut().write_all(answer.as_bytes()).await.unwrap();
                }
            }
            sizes
        });
        let folder = tempfile::tempdir().unwrap();
        let spool = Spool::create(&folder.path().join("log"), u64::MAX).unwrap();
        spool.write(&vec![b'x'; 1 << 20]).unwrap();
        spool.close();
        let client = RunnerClient::new(&url, "secret", &Route::default()).unwrap();
        let (attempt, lease) = (AttemptId(Uuid::nil()), LeaseToken(Uuid::nil()));
        let chunk = Cell::new(ByteSize(1 << 20));
        spool.send(&client, attempt, lease, &chunk).await;
        drop(client);
        let sizes = service.await.unwrap();
        assert_eq!(sizes[..5], [1024, 512, 256, 128, 64].map(|kib| kib << 10));
        // Each success tries twice as much, in case the line has become faster.
        assert_eq!(sizes[5], 128 << 10);
    }
}
