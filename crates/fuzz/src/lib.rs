//! Properties that hold for every input, one function for each parser that reads what outsiders send. A function panics where
//! its property does not hold.

// A property that does not hold panics.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing
)]

use axum::response::IntoResponse;
use flate2::Compression;
use flate2::write::GzEncoder;
use pennine_cli::escapes::TerminalFilter;
use pennine_cli::yard_file::document::Yard;
use pennine_core::fact::Subject;
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::overrides::{self, MOST_FACTS};
use pennine_core::requirement::Requirement;
use pennine_core::sheet::{MOST_JOBS, Sheet};
use pennine_core::time::Moment;
use pennine_runner::attempt::source::archive::{SourceError, unpack};
use pennine_suppliers::command::{Machines, parse_answer};
use pennine_suppliers::{Fault, Offer, PlacedOrder};
use pennine_wire::runner_protocol::{
    Enrol, FinishedReport, LeaveRequest, LostReport, Poll, PollAnswer, SessionEnd, StartedReport,
};
use pennined::http::body;
use pennined::log_store;
use pennined::operations::measures::history::lines::{self, KnownNames};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::io::Write;
use std::path::Path;
use std::str::from_utf8;
use uuid::Uuid;

/// A target: its name, and its property.
pub type Target = (&'static str, fn(&[u8]));

/// All targets. Each has a folder of this name in `corpus`.
pub const TARGETS: [Target; 8] = [
    ("requirement", requirement),
    ("yard_file", yard_file),
    ("job_sheet", job_sheet),
    ("runner_protocol", runner_protocol),
    ("log_text", log_text),
    ("history_csv", history_csv),
    ("supplier_answer", supplier_answer),
    ("source_archive", source_archive),
];

/// A requirement is printed as one that reads as the same; an error names a column of the text.
pub fn requirement(input: &[u8]) {
    let Ok(text) = from_utf8(input) else { return };
    match text.parse::<Requirement>() {
        Ok(requirement) => {
            let printed = requirement.to_string();
            let again: Requirement = printed.parse().expect("what is printed can be read");
            assert_eq!(again, requirement, "{printed}");
        }
        Err(error) => {
            assert!((1..=text.chars().count() + 1).contains(&error.column));
            assert!(!error.to_string().is_empty());
        }
    }
}

/// A yard file is written as one that reads as the same, and what it asks of the service can be computed.
pub fn yard_file(input: &[u8]) {
    let Ok(text) = from_utf8(input) else { return };
    match Yard::parse(text) {
        Ok(yard) => {
            let written = yard.text().expect("what was read can be written");
            let again = Yard::parse(&written).expect("what is written can be read");
            assert_eq!(again, yard, "{written}");
            for pool in yard.pools.values() {
                let _ = pool.jobs.change();
                let _ = pool.machines.as_ref().map(|machines| machines.supply());
            }
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
}

/// A job sheet has jobs that wait only for jobs of earlier steps; or its mistakes stand in lines that it has, in their order.
pub fn job_sheet(input: &[u8]) {
    let Ok(text) = from_utf8(input) else { return };
    match Sheet::parse(text) {
        Ok(sheet) => {
            assert!((1..=MOST_JOBS).contains(&sheet.jobs.len()));
            let mut done = vec![false; sheet.jobs.len()];
            for step in sheet.steps() {
                for job in &step {
                    let needs = &sheet.jobs[*job].after;
                    assert!(needs.iter().all(|need| done[need.job]));
                }
                step.iter().for_each(|job| done[*job] = true);
            }
            assert!(done.iter().all(|done| *done));
        }
        Err(mistakes) => {
            assert!(!mistakes.is_empty() && mistakes.is_sorted());
            let lines = text.matches('\n').count() + 1;
            for one in mistakes {
                assert!((1..=lines).contains(&one.line) && one.column >= 1);
                assert!(!one.message.is_empty());
            }
        }
    }
}

/// What is read of a message is sent as the same; what cannot be read is refused with a status of the client's.
fn round_trip<T: Serialize + DeserializeOwned>(input: &[u8]) -> Option<T> {
    match body::read::<T>(input) {
        Ok(read) => {
            let sent = serde_json::to_value(&read).expect("what was read can be sent");
            let bytes = serde_json::to_vec(&sent).expect("JSON");
            let again: T = serde_json::from_slice(&bytes).expect("what is sent can be read");
            assert_eq!(serde_json::to_value(&again).expect("JSON"), sent);
            Some(read)
        }
        Err(failure) => {
            let status = failure.into_response().status();
            assert!(status.is_client_error(), "{status}");
            None
        }
    }
}

/// Every message of the runner's protocol, by the first byte. The facts that are accepted of a machine are bounded, are
/// accepted again as they are, and can be asked for.
pub fn runner_protocol(input: &[u8]) {
    let Some((kind, message)) = input.split_first() else {
        return;
    };
    let facts = match kind % 8 {
        0 => round_trip::<Enrol>(message).map(|enrol| enrol.facts),
        1 => {
            let poll = round_trip::<Poll>(message);
            poll.and_then(|poll| poll.about).map(|about| about.facts)
        }
        2 => round_trip::<PollAnswer>(message).map(|_| Default::default()),
        3 => round_trip::<StartedReport>(message).map(|_| Default::default()),
        4 => round_trip::<FinishedReport>(message).map(|_| Default::default()),
        5 => round_trip::<LostReport>(message).map(|_| Default::default()),
        6 => round_trip::<SessionEnd>(message).map(|_| Default::default()),
        _ => round_trip::<LeaveRequest>(message).map(|_| Default::default()),
    };
    let Some(reported) = facts else { return };
    let facts = overrides::accepted(&reported);
    assert!(facts.len() <= MOST_FACTS);
    assert_eq!(overrides::accepted(&facts), facts);
    let subject = Subject::new("fell-01", "staithe", ["bench"], &facts);
    for text in [
        "linux and mem >= 16GiB",
        "not (gcc >= 12.2 or os != linux)",
        "has python",
    ] {
        let requirement: Requirement = text.parse().expect("a requirement");
        let _ = requirement.satisfied_by(&subject);
    }
}

/// However a log arrives in parts, a terminal gets the same harmless text; a line that is shown is bounded.
pub fn log_text(input: &[u8]) {
    let Some((at, log)) = input.split_first() else {
        return;
    };
    for colours in [true, false] {
        let mut filter = TerminalFilter::new(colours);
        let whole = filter.filter(log);
        let (first, second) = log.split_at(usize::from(*at).min(log.len()));
        let mut filter = TerminalFilter::new(colours);
        let mut parts = filter.filter(first);
        parts += &filter.filter(second);
        assert_eq!(whole, parts);
        assert!(is_harmless(&whole, colours), "{whole:?}");
    }
    for line in log.split(|byte| *byte == b'\n') {
        // Each byte that is not UTF-8 is shown as a character of three.
        assert!(log_store::shown(line).len() <= 3 * (16 << 10) + 64);
    }
}

/// Whether the only control characters are tabs, line ends, carriage returns, and escape characters that begin a colour.
fn is_harmless(text: &str, colours: bool) -> bool {
    let mut rest = text;
    while let Some(at) = rest.find(|c: char| c.is_control() && !matches!(c, '\n' | '\r' | '\t')) {
        rest = &rest[at..];
        if !colours || !rest.starts_with("\u{1b}[") {
            return false;
        }
        let parameters =
            rest[2..].trim_start_matches(|c: char| c.is_ascii_digit() || ";:".contains(c));
        if !parameters.starts_with('m') {
            return false;
        }
        rest = &parameters[1..];
    }
    true
}

/// A history file gives finished jobs whose times are in order, or an error of the client's that names lines.
pub fn history_csv(input: &[u8]) {
    let names = KnownNames {
        projects: [("firmware/buoy".to_owned(), PlaceId(Uuid::nil()))].into(),
        pools: [("staithe".to_owned(), (PoolId(Uuid::nil()), 1))].into(),
    };
    let now: Moment = serde_json::from_str("\"2026-11-30T00:00:00Z\"").expect("a time");
    match lines::read(input, &names, now) {
        Ok(lines) => {
            for line in lines {
                assert!(line.ready <= line.assigned && line.assigned <= line.started);
                assert!(line.started <= line.finished && line.finished <= now);
                let again: Requirement = line.requirement.parse().expect("a requirement");
                assert_eq!(again.is_any(), line.requirement.is_empty());
            }
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
}

/// The answer of a supplier's program, to each of its questions by the first byte, is one or is a fault.
pub fn supplier_answer(input: &[u8]) {
    let Some((kind, answer)) = input.split_first() else {
        return;
    };
    let Ok(text) = from_utf8(answer) else { return };
    let fault = match kind % 4 {
        0 => parse_answer::<PlacedOrder>("order", text).err(),
        1 => parse_answer::<Machines>("list", text).err(),
        2 => match parse_answer::<Offer>("offer", text) {
            Ok(offer) => {
                let sent = serde_json::to_string(&offer).expect("an offer can be sent");
                let again = parse_answer::<Offer>("offer", &sent);
                assert_eq!(again.as_ref(), Ok(&offer), "{sent}");
                None
            }
            Err(fault) => Some(fault),
        },
        _ => parse_answer::<Value>("remove", text).err(),
    };
    if let Some(Fault::Unclear(message)) = fault {
        assert!(message.chars().count() < 1000, "{message}");
    }
}

/// Whatever a tar archive holds, it is unpacked into its folder only: files, folders, and links that lead nowhere else.
pub fn source_archive(input: &[u8]) {
    let outer = tempfile::tempdir().expect("a folder");
    let folder = outer.path().join("in");
    std::fs::create_dir(&folder).expect("a folder");
    let mut packed = GzEncoder::new(Vec::new(), Compression::none());
    packed.write_all(input).expect("memory");
    let packed = packed.finish().expect("memory");
    let digest: String = (Sha256::digest(&packed).iter())
        .map(|byte| format!("{byte:02x}"))
        .collect();
    match unpack(packed.as_slice(), &digest, &folder) {
        Ok(unpacked) => assert!(unpacked.bytes <= input.len() as u64),
        Err(error) => assert!(!matches!(error, SourceError::Digest), "{error}"),
    }
    let beside = std::fs::read_dir(outer.path()).expect("the folder");
    assert_eq!(beside.count(), 1, "something was made outside");
    let whole = folder.canonicalize().expect("the folder");
    only_within(&folder, &whole);
}

/// Checks that what is below a folder is a file, a folder or a link within a whole.
fn only_within(folder: &Path, whole: &Path) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let entry = entry.expect("an entry");
        let (kind, path) = (entry.file_type().expect("its type"), entry.path());
        if kind.is_dir() {
            only_within(&path, whole);
        } else if kind.is_symlink() {
            // One that leads to nothing leads nowhere else.
            if let Ok(target) = path.canonicalize() {
                assert!(target.starts_with(whole), "{path:?} leads to {target:?}");
            }
        } else {
            assert!(kind.is_file(), "{path:?}");
        }
    }
}
