//! How things are shown: tables that fit the terminal, times relative to now, JSON on request.

use crate::error::Error;
use crate::escapes::TerminalFilter;
use crate::terminal;
use comfy_table::{Attribute, Cell, Color, ContentArrangement, Table, presets};
use pennine_core::count::grouped;
use pennine_core::lifecycle::job::JobState;
use pennine_core::time::{Micros, Moment, parse_length, spoken};
use pennine_wire::{JobLine, Loss};
use serde::Serialize;
use std::io::Write;
use std::time::{Duration, Instant};

/// Prints text, to a terminal without control characters that come from others, such as in what a machine printed. A
/// reader that went away is not an error.
pub fn print(text: &str) -> Result<(), Error> {
    if terminal::is_output() {
        let filtered = TerminalFilter::new(true).filter(text.as_bytes());
        return write(filtered.as_bytes()).map(|_| ());
    }
    write(text.as_bytes()).map(|_| ())
}

/// Prints bytes as they are; false if the reader went away, which is not an error.
pub fn write(bytes: &[u8]) -> Result<bool, Error> {
    terminal::clear_progress();
    let mut out = std::io::stdout().lock();
    match out.write_all(bytes).and_then(|()| out.flush()) {
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(false),
        other => Ok(other.map(|()| true)?),
    }
}

/// Prints a note for the person at the terminal, beside the output.
pub fn note(text: impl AsRef<str>) {
    terminal::clear_progress();
    eprintln!("pennine: {}", text.as_ref());
}

/// Prints a mistake in a file, as editors read it: `FILE:LINE:COLUMN: message`.
pub fn mistake(file: &std::path::Path, line: usize, column: usize, message: &str) {
    terminal::clear_progress();
    eprintln!("{}:{line}:{column}: {message}", file.display());
}

/// Prints a line.
pub fn line(text: impl AsRef<str>) -> Result<(), Error> {
    print(&format!("{}\n", text.as_ref()))
}

/// Prints JSON.
pub fn json(value: &impl Serialize) -> Result<(), Error> {
    let text = serde_json::to_string_pretty(value).map_err(|e| Error::Here(e.to_string()))?;
    line(text)
}

/// The columns whose words are coloured: states, results and reasons.
const STATED: [&str; 4] = ["state", "result", "reason", "verdict"];

/// The colour of a state's word: red for what needs a person, yellow for what waits, green for what is well.
fn tone(word: &str) -> Option<Color> {
    let word = word.strip_prefix("waits: ").unwrap_or(word);
    Some(match word {
        "failure" | "error" | "timeout" | "offline" | "failed" | "no-match" | "out-of-reach"
        | "needs-approval" | "missed" | "at-risk" | "open" | "held" => Color::Red,
        "all-busy" | "machine-coming" | "supply-short" | "seat-taken" | "seat-reserved"
        | "team-limit" | "paused" | "draining" | "booting" | "ordered" | "awaited" | "clearing" => {
            Color::Yellow
        }
        "success" | "available" | "joined" | "met" => Color::Green,
        "executing" | "finalizing" | "busy" => Color::Magenta,
        _ => return None,
    })
}

/// One line of CSV (RFC 4180), with a bare line end.
pub fn csv_line(fields: &[String]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let written = writer.write_record(fields).ok();
    let bytes = written.and_then(|()| writer.into_inner().ok());
    String::from_utf8(bytes.unwrap_or_default()).unwrap_or_default()
}

/// A table with these heads.
pub fn table(heads: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Dynamic)
        .set_width(u16::try_from(terminal::width()).unwrap_or(u16::MAX));
    let colours = terminal::has_colours();
    if colours {
        table.enforce_styling();
    } else {
        table.force_no_tty();
    }
    let head = |head: &&str| {
        let cell = Cell::new(head.to_uppercase());
        if colours {
            cell.add_attribute(Attribute::Bold)
        } else {
            cell
        }
    };
    table.set_header(heads.iter().map(head));
    let stated: Vec<bool> = heads.iter().map(|head| STATED.contains(head)).collect();
    for row in rows {
        table.add_row(row.into_iter().enumerate().map(|(at, text)| {
            let tone = if stated.get(at) == Some(&true) {
                tone(&text)
            } else {
                None
            };
            match tone.filter(|_| colours) {
                Some(tone) => Cell::new(text).fg(tone),
                None => Cell::new(text),
            }
        }));
    }
    // The first column begins at the edge, and no line ends in blanks.
    if let Some(first) = table.column_mut(0) {
        first.set_padding((0, 1));
    }
    let text = table.to_string();
    let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
    format!("{}\n", lines.join("\n"))
}

/// How long ago.
pub fn ago(at: Moment, now: Moment) -> String {
    format!("{} ago", spoken(now.since(at)))
}

/// When something will be, or was.
pub fn due(at: Moment, now: Moment) -> String {
    if at > now {
        format!("in {}", spoken(at.since(now)))
    } else {
        ago(at, now)
    }
}

/// A length of time.
pub fn length(micros: Micros) -> String {
    spoken(Duration::from(micros))
}

/// Seconds of a day.
const DAY: u64 = 86_400;

/// A length of time to the last microsecond, as [`time`] reads it: `1h 30m`, `90s` as `1m 30s`, whole days as `3d`.
pub fn exact(micros: Micros) -> String {
    let length = Duration::from(micros);
    let days = Duration::from_secs(length.as_secs() / DAY * DAY);
    if !length.is_zero() && days == length {
        return format!("{}d", length.as_secs() / DAY);
    }
    match jiff::SignedDuration::try_from(length) {
        Ok(length) if length.is_zero() => "0s".to_owned(),
        Ok(length) => format!("{length:#}"),
        Err(_) => format!("{}s", length.as_secs()),
    }
}

/// Text after a lead, cut into lines that fit the terminal; the further ones begin below the first.
pub fn wrapped(lead: &str, text: &str) -> String {
    let below = " ".repeat(lead.chars().count());
    let how = textwrap::Options::new(terminal::width())
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .initial_indent(lead)
        .subsequent_indent(&below);
    textwrap::fill(text, how) + "\n"
}

/// A command with what it does, on one line where both fit. A command is never cut, so that it can be copied.
pub fn command(lead: &str, message: &str, command: &str) -> String {
    let line = format!("{lead}{message}: {command}\n");
    if line.chars().count() <= terminal::width() {
        line
    } else {
        format!("{lead}{message}:\n{lead}  {command}\n")
    }
}

/// The head of a column of amounts of money, with the currency's code where one is set.
pub fn money_head(name: &str, currency: &str) -> String {
    if currency.is_empty() {
        name.to_owned()
    } else {
        format!("{name} ({currency})")
    }
}

/// The columns for a text that has this many where the output is 100 wide: half of what the terminal has more or less.
pub fn roomy(usual: usize) -> usize {
    (usual + terminal::width() / 2).saturating_sub(50).max(10)
}

/// Text cut to a width, with a mark where it was.
pub fn cut(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        return text.to_owned();
    }
    let head: String = text.chars().take(width.saturating_sub(1)).collect();
    format!("{head}…")
}

/// A job's state in a word or two: the reason while it waits, the result when it is done.
pub fn state(job: &JobLine) -> String {
    match (job.state, job.reason, job.result) {
        (JobState::Pending, Some(reason), _) => format!("waits: {reason}"),
        (JobState::Done, _, Some(result)) => result.to_string(),
        (state, ..) => state.to_string(),
    }
}

/// A number of jobs: `1 job`, `2,000 jobs`.
pub fn job_count(count: u64) -> String {
    match count {
        1 => "1 job".to_owned(),
        n => format!("{} jobs", grouped(n)),
    }
}

/// Jobs as a table.
pub fn jobs(jobs: &[JobLine]) -> String {
    let heads = [
        "job", "title", "project", "state", "runner", "waited", "ran",
    ];
    table(
        &heads,
        jobs.iter().map(|job| {
            vec![
                job.name.clone(),
                cut(&job.title, roomy(26)),
                cut(&job.project, roomy(22)),
                state(job),
                job.runner.clone().unwrap_or_default(),
                length(job.wait_us),
                job.ran_us.map(length).unwrap_or_default(),
            ]
        }),
    )
}

/// How often what is watched is drawn again.
const REFRESH: Duration = Duration::from_secs(2);

/// Shows something once, or again and again in place until interrupted.
pub async fn watch<F, T>(again: bool, mut show: F) -> Result<(), Error>
where
    F: FnMut() -> T,
    T: Future<Output = Result<String, Error>>,
{
    if !again {
        return print(&show().await?);
    }
    watch_until(async || Ok((show().await?, false))).await
}

/// Shows something again and again in place, until it says that it is over, or until interrupted.
pub async fn watch_until(
    mut show: impl AsyncFnMut() -> Result<(String, bool), Error>,
) -> Result<(), Error> {
    let mut drawn = terminal::Redrawn::default();
    let (mut latest, mut is_over) = show().await?;
    terminal::clear_progress();
    let mut away: Option<Instant> = None;
    loop {
        let text = match away {
            None => latest.clone(),
            Some(since) => format!(
                "No connection to the service for {}; this is the last known state.\n\n{latest}",
                spoken(Duration::from_secs(since.elapsed().as_secs()))
            ),
        };
        match drawn.draw(&text) {
            Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => return Ok(()),
            other => other?,
        }
        if is_over {
            return Ok(());
        }
        tokio::time::sleep(REFRESH).await;
        match show().await {
            Ok((text, over)) => (latest, is_over, away) = (text, over, None),
            // The service may be restarting.
            Err(error) if error.passes() => {
                away.get_or_insert_with(Instant::now);
            }
            Err(error) => return Err(error),
        }
    }
}

/// Reads a length of time as people write it: see [`parse_length`].
pub fn time(text: &str) -> Result<std::time::Duration, String> {
    parse_length(text)
}

/// As [`time`], as the service takes it.
pub fn micros_of(text: &str) -> Result<Micros, String> {
    time(text).map(Micros::from)
}

/// Reads one of the words of a closed list.
pub fn word<T: std::str::FromStr<Err = String>>(text: &str) -> Result<T, String> {
    text.parse()
}

/// The losses of a change as text; empty if there are none.
pub fn losses(losses: &[Loss]) -> String {
    if losses.is_empty() {
        return String::new();
    }
    let rows = losses.iter().map(|loss| {
        vec![
            loss.project.clone(),
            cut(&loss.requirement, 40),
            loss.waiting.to_string(),
            loss.recent.to_string(),
        ]
    });
    let table = table(&["project", "where", "waiting", "last 30 days"], rows);
    format!("Only it can run these jobs:\n{table}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_length_of_time_is_read_as_it_is_written() {
        for (text, seconds, written) in [
            ("7d", 604_800, "7d"),
            ("48h", 172_800, "2d"),
            ("90m", 5400, "1h 30m"),
            ("90", 90, "1m 30s"),
            ("0s", 0, "0s"),
        ] {
            let length = Duration::from_secs(seconds);
            assert_eq!(time(text), Ok(length), "{text}");
            assert_eq!(exact(length.into()), written);
            assert_eq!(time(written), Ok(length), "{written}");
        }
        for text in ["d", "3 days and a bit", "-1s", ""] {
            assert!(time(text).is_err(), "{text}");
        }
    }
}
