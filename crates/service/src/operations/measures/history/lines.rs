//! Reads history from CSV: one finished job in each line, with the columns that docs/measures.md describes.

use crate::error::{Result, ServiceError};
use crate::views::measures::history::TOLD;
use pennine_core::id::{PlaceId, PoolId};
use pennine_core::lifecycle::job::Outcome;
use pennine_core::requirement::Requirement;
use pennine_core::size::ByteSize;
use pennine_core::time::{Micros, Moment};
use pennine_store::{Connection, place, pool};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

/// The oldest job that is taken.
const OLDEST: Duration = Duration::from_secs(10 * 366 * 86_400);

/// What a file has to have, and what it may have besides.
const NEEDED: [&str; 6] = ["project", "pool", "ready", "started", "finished", "result"];

const OPTIONAL: [&str; 7] = [
    "title",
    "where",
    "runner",
    "assigned",
    "exit_code",
    "processor_us",
    "peak_memory_bytes",
];

/// The projects and pools that lines may name.
#[derive(Clone, Debug, Default)]
pub struct KnownNames {
    /// By path.
    pub projects: HashMap<String, PlaceId>,
    /// Each with the version of its policy.
    pub pools: HashMap<String, (PoolId, i32)>,
}

impl KnownNames {
    /// Reads them from the database.
    pub async fn load(connection: &mut Connection) -> Result<KnownNames> {
        let places = place::all(connection).await?.into_iter();
        let pools = pool::list(connection).await?.into_iter();
        Ok(KnownNames {
            projects: places
                .filter(|place| place.kind == "project")
                .map(|place| (place.path, place.id.0))
                .collect(),
            pools: pools
                .map(|one| (one.pool.name, (one.pool.id.0, one.pool.policy_version)))
                .collect(),
        })
    }
}

/// A line that can be imported.
#[derive(Clone, Debug)]
pub struct HistoryLine {
    /// The identity of the line: its content, and its number among lines of the same content.
    pub mark: [u8; 32],
    pub project: PlaceId,
    pub pool: (PoolId, i32),
    pub runner: String,
    pub title: String,
    pub requirement: String,
    pub ready: Moment,
    pub assigned: Moment,
    pub started: Moment,
    pub finished: Moment,
    pub result: Outcome,
    pub exit_code: Option<i32>,
    pub processor: Micros,
    pub peak_memory: ByteSize,
}

/// Reads a whole file.
///
/// # Errors
/// Invalid, at `body`, with what is wrong line by line, at most [`TOLD`] lines.
pub fn read(body: &[u8], names: &KnownNames, now: Moment) -> Result<Vec<HistoryLine>> {
    let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(body);
    let wrong = |message: String| ServiceError::invalid("body", message);
    let heads = reader
        .headers()
        .map_err(|error| wrong(error.to_string()))?
        .clone();
    let missing: Vec<&str> = NEEDED
        .into_iter()
        .filter(|name| !heads.iter().any(|head| head == *name))
        .collect();
    if !missing.is_empty() {
        return Err(wrong(format!(
            "the header line has no column {}",
            missing.join(", ")
        ))
        .remedy(format!(
            "required: {}; optional: {}; other columns are ignored",
            NEEDED.join(", "),
            OPTIONAL.join(", ")
        )));
    }
    let (mut lines, mut troubles, mut bad) = (Vec::new(), Vec::new(), 0usize);
    let mut like: HashMap<[u8; 32], u32> = HashMap::new();
    for record in reader.records() {
        let read = record
            .map_err(|error| error.to_string())
            .and_then(|record| {
                let number = record.position().map_or(0, csv::Position::line);
                let at: BTreeMap<&str, &str> = heads.iter().zip(record.iter()).collect();
                one(&at, names, now, &mut like)
                    .map_err(|message| format!("line {number}: {message}"))
            });
        match read {
            Ok(line) => lines.push(line),
            Err(message) => {
                bad += 1;
                if troubles.len() < TOLD {
                    troubles.push(message);
                }
            }
        }
    }
    if bad > 0 {
        if bad > troubles.len() {
            troubles.push(format!("and {} more", bad - troubles.len()));
        }
        return Err(wrong(format!(
            "nothing was imported:\n{}",
            troubles.join("\n")
        )));
    }
    Ok(lines)
}

/// The cells of a line by their column's name.
struct Cells<'a>(&'a BTreeMap<&'a str, &'a str>);

impl Cells<'_> {
    fn get(&self, name: &str) -> &str {
        self.0.get(name).copied().unwrap_or_default()
    }

    fn moment(&self, name: &str) -> Result<Moment, String> {
        let text = self.get(name);
        serde_json::from_value(text.into())
            .map_err(|_| format!("{name}: {text:?} is not a time such as 2026-11-23T06:00:00Z"))
    }

    /// A whole number; 0 where the cell is empty.
    fn number(&self, name: &str) -> Result<u64, String> {
        match self.get(name) {
            "" => Ok(0),
            text => text
                .parse()
                .map_err(|_| format!("{name}: {text:?} is not a whole number")),
        }
    }

    /// A short text; `usual` where the cell is empty.
    fn text(&self, name: &str, usual: &str) -> Result<String, String> {
        match self.get(name) {
            "" => Ok(usual.to_owned()),
            text if text.len() <= 200 && !text.contains(char::is_control) => Ok(text.to_owned()),
            _ => Err(format!(
                "{name}: at most 200 bytes, and no control characters"
            )),
        }
    }

    /// When the job became ready, was assigned, started and finished, in this order.
    fn times(&self, now: Moment) -> Result<[Moment; 4], String> {
        let ready = self.moment("ready")?;
        let (started, finished) = (self.moment("started")?, self.moment("finished")?);
        let assigned = match self.get("assigned") {
            "" => started,
            _ => self.moment("assigned")?,
        };
        if !(ready <= assigned && assigned <= started && started <= finished) {
            return Err("ready, assigned, started and finished are not in this order".to_owned());
        }
        if finished > now || now.since(ready) > OLDEST {
            return Err("the job has to have finished, within the last ten years".to_owned());
        }
        Ok([ready, assigned, started, finished])
    }

    /// The identity of a line: its content, and its number among lines of the same content, which `like` counts.
    fn mark(&self, like: &mut HashMap<[u8; 32], u32>) -> [u8; 32] {
        let mut hash = Sha256::new();
        let cells = self.0.iter();
        for (name, value) in
            cells.filter(|(name, _)| NEEDED.contains(name) || OPTIONAL.contains(name))
        {
            hash.update(format!("{name}={value}\n"));
        }
        let content: [u8; 32] = hash.finalize().into();
        let number = like.entry(content).or_default();
        *number += 1;
        Sha256::new()
            .chain_update(content)
            .chain_update(number.to_be_bytes())
            .finalize()
            .into()
    }
}

fn one(
    at: &BTreeMap<&str, &str>,
    names: &KnownNames,
    now: Moment,
    like: &mut HashMap<[u8; 32], u32>,
) -> Result<HistoryLine, String> {
    let cells = Cells(at);
    let [ready, assigned, started, finished] = cells.times(now)?;
    let project = cells.get("project");
    let project = *names
        .projects
        .get(project)
        .ok_or_else(|| format!("project: unknown project {project:?}"))?;
    let pool = cells.get("pool");
    let pool = *names
        .pools
        .get(pool)
        .ok_or_else(|| format!("pool: unknown pool {pool:?}"))?;
    let result: Outcome = cells
        .get("result")
        .parse()
        .map_err(|message| format!("result: {message}"))?;
    let requirement: Requirement =
        cells
            .get("where")
            .parse()
            .map_err(|error: pennine_core::requirement::SyntaxError| {
                format!("where: column {}: {}", error.column, error.message)
            })?;
    let exit_code = match cells.get("exit_code") {
        "" => None,
        code => Some(
            code.parse()
                .map_err(|_| format!("exit_code: {code:?} is not an exit code"))?,
        ),
    };
    Ok(HistoryLine {
        mark: cells.mark(like),
        project,
        pool,
        runner: cells.text("runner", "elsewhere")?,
        title: cells.text("title", "imported")?,
        requirement: if requirement.is_any() {
            String::new()
        } else {
            requirement.to_string()
        },
        ready,
        assigned,
        started,
        finished,
        result,
        exit_code,
        processor: Micros(cells.number("processor_us")?),
        peak_memory: ByteSize(cells.number("peak_memory_bytes")?),
    })
}
