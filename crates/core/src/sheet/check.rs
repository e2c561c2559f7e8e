//! From text to a checked sheet.

use super::error::{Mistakes, nearest, reader_message};
use super::format::{Hold, OnFailure, WrittenJob, WrittenNeed, WrittenSheet};
use super::vary::{Combination, combinations};
use super::{MOST_BYTES, MOST_JOBS, Need, Sheet, SheetError, SheetJob, Work, graph};
use crate::requirement::Requirement;
use crate::time::parse_length;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use toml::Spanned;

/// The most attempts of a job.
const MOST_TRIES: u32 = 10;

/// Reads and checks a sheet.
pub(super) fn sheet(
    text: &str,
    run_values: &BTreeMap<String, String>,
) -> Result<Sheet, Vec<SheetError>> {
    let mut mistakes = Mistakes::new(text);
    if text.len() > MOST_BYTES {
        let message = format!(
            "a sheet has at most 1 MiB; this one has {} bytes",
            text.len()
        );
        mistakes.add(0, message);
        return Err(mistakes.into_sorted());
    }
    let written: WrittenSheet = match toml::from_str(text) {
        Ok(written) => written,
        Err(error) => {
            let at = error.span().map_or(0, |span| span.start);
            mistakes.add(at, reader_message(error.message()));
            return Err(mistakes.into_sorted());
        }
    };
    let values = values(&written, run_values, &mut mistakes);
    let mut jobs: Vec<(&Spanned<String>, &WrittenJob)> = written.jobs.iter().collect();
    jobs.sort_by_key(|(name, _)| name.span().start);
    if jobs.is_empty() {
        mistakes.add(0, "the sheet has no jobs: add one as [jobs.NAME]");
    }
    check_order(&jobs, &mut mistakes);
    let mut made = Vec::new();
    for (name, job) in &jobs {
        let varied = combinations(&job.vary, &mut mistakes);
        if made.len() + varied.len() > MOST_JOBS {
            let message = format!("the sheet makes more than {MOST_JOBS} jobs");
            mistakes.add(name.span().start, message);
            break;
        }
        check_work(name, job, &mut mistakes);
        let tries = tries(job, &mut mistakes);
        for combination in varied {
            made.push(make(name, job, combination, &values, tries, &mut mistakes));
        }
    }
    if !mistakes.is_empty() {
        return Err(mistakes.into_sorted());
    }
    let needs: Vec<Vec<Need>> = made.iter().map(|(_, job)| needs(job, &made)).collect();
    let mut jobs: Vec<SheetJob> = made.into_iter().map(|(job, _)| job).collect();
    for (job, needs) in jobs.iter_mut().zip(needs) {
        job.after = needs;
    }
    Ok(Sheet {
        values,
        newer_run: written.newer_run,
        jobs,
    })
}

/// The values of a run: the sheet's own, or others in their place. Jobs get them as environment variables.
fn values(
    written: &WrittenSheet,
    run_values: &BTreeMap<String, String>,
    mistakes: &mut Mistakes<'_>,
) -> BTreeMap<String, String> {
    let mut values = BTreeMap::new();
    for (name, value) in &written.values {
        if !is_variable(name.get_ref()) {
            let message = format!(
                "values: {:?} is not the name of a variable: use letters, digits and _, not beginning with a digit",
                name.get_ref()
            );
            mistakes.add(name.span().start, message);
        }
        values.insert(name.get_ref().clone(), value.to_string());
    }
    for (name, value) in run_values {
        match values.get_mut(name) {
            Some(own) => own.clone_from(value),
            None => {
                let near = nearest(name, values.keys().map(String::as_str));
                let near = near.map_or_else(String::new, |near| format!("; did you mean {near}?"));
                let message = format!("the sheet has no value {name}, which the run sets{near}");
                mistakes.add(0, message);
            }
        }
    }
    values
}

/// Whether a text is the name of an environment variable.
fn is_variable(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '_';
    !name.starts_with(|c: char| c.is_ascii_digit()) && !name.is_empty() && name.chars().all(fits)
}

fn need_of(written: &WrittenNeed) -> (&str, bool) {
    match written {
        WrittenNeed::Name(name) => (name, true),
        WrittenNeed::Table(table) => (&table.job, table.success),
    }
}

/// Checks which jobs are waited for: that they exist, and that no job waits for itself in the end.
fn check_order(jobs: &[(&Spanned<String>, &WrittenJob)], mistakes: &mut Mistakes<'_>) {
    let names: BTreeSet<&str> = jobs
        .iter()
        .map(|(name, _)| name.get_ref().as_str())
        .collect();
    let mut after: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (name, job) in jobs {
        let mut seen = BTreeSet::new();
        for need in &job.after {
            let (needed, _) = need_of(need.get_ref());
            let at = need.span().start;
            if !seen.insert(needed) {
                mistakes.add(at, format!("after names {needed} twice"));
            } else if !names.contains(needed) {
                let near = nearest(needed, names.iter().copied());
                let near = near.map_or_else(String::new, |near| format!("; did you mean {near}?"));
                mistakes.add(
                    at,
                    format!("after names {needed}, which is not a job of the sheet{near}"),
                );
            }
        }
        let known = seen.iter().filter(|needed| names.contains(**needed));
        after.insert(
            name.get_ref().clone(),
            known.map(|needed| (*needed).to_owned()).collect(),
        );
    }
    if let Some(path) = graph::cycle(&after) {
        let first = jobs
            .iter()
            .find(|(name, _)| path.first() == Some(name.get_ref()));
        let at = first.map_or(0, |(name, _)| name.span().start);
        let message = format!("these jobs wait for each other: {}", path.join(" after "));
        mistakes.add(at, message);
    }
}

/// Checks that a job does something, in one way.
fn check_work(name: &Spanned<String>, job: &WrittenJob, mistakes: &mut Mistakes<'_>) {
    let called = name.get_ref();
    let is_name = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.');
    if called.is_empty() || called.len() > 100 || !called.chars().all(is_name) {
        let message = "a job's name has 1 to 100 letters, digits, -, _ and .";
        mistakes.add(name.span().start, message);
    }
    match (&job.commands, &job.script) {
        (None, None) => {
            let message = format!("the job {called} does nothing: give commands or a script");
            mistakes.add(name.span().start, message);
        }
        (Some(_), Some(script)) => {
            mistakes.add(script.span().start, "give commands or a script, not both");
        }
        (Some(commands), None) if commands.get_ref().iter().all(|line| line.trim().is_empty()) => {
            mistakes.add(commands.span().start, "commands: list at least one");
        }
        (None, Some(script)) => {
            let path = script.get_ref();
            let leaves = path.split('/').any(|part| part == "..");
            if path.is_empty() || path.starts_with('/') || leaves {
                let message = "script: name a file of the project, by its path in it";
                mistakes.add(script.span().start, message);
            }
        }
        _ => {}
    }
}

fn tries(job: &WrittenJob, mistakes: &mut Mistakes<'_>) -> u32 {
    match &job.tries {
        None if job.on_failure == OnFailure::Retry => 2,
        None => 1,
        Some(tries) => {
            let count = *tries.get_ref();
            if job.on_failure != OnFailure::Retry {
                let message = "tries counts only with on_failure = \"retry\"";
                mistakes.add(tries.span().start, message);
            } else if !(2..=MOST_TRIES).contains(&count) {
                mistakes.add(tries.span().start, format!("tries is 2 to {MOST_TRIES}"));
            }
            count
        }
    }
}

/// A job of one combination, with its names of needs still to be resolved.
fn make<'a>(
    name: &Spanned<String>,
    job: &'a WrittenJob,
    combination: Combination,
    values: &BTreeMap<String, String>,
    tries: u32,
    mistakes: &mut Mistakes<'_>,
) -> (SheetJob, &'a WrittenJob) {
    let base = name.get_ref().clone();
    let shown: Vec<&str> = combination
        .iter()
        .map(|(_, value)| value.as_str())
        .collect();
    let called = match shown.as_slice() {
        [] => base.clone(),
        shown => format!("{base} ({})", shown.join(", ")),
    };
    let varied: BTreeMap<String, String> = combination.into_iter().collect();
    let mut known = values.clone();
    known.extend(varied.clone());
    let line = mistakes.position(name.span().start).0;
    let job_made = SheetJob {
        name: called,
        base,
        varied,
        requirement: job
            .requirement
            .as_ref()
            .map_or_else(Requirement::any, |text| {
                expression("where", text, &known, mistakes)
            }),
        work: match (&job.commands, &job.script) {
            (Some(commands), _) => Work::Commands(commands.get_ref().clone()),
            (None, script) => {
                let path = script.as_ref().map(|path| path.get_ref().clone());
                Work::Script(path.unwrap_or_default())
            }
        },
        after: Vec::new(),
        applies: (job.applies.as_ref()).map(|text| expression("applies", text, &known, mistakes)),
        time_limit: length("time_limit", job.time_limit.as_ref(), mistakes),
        give_up: length("give_up", job.give_up.as_ref(), mistakes),
        band: job.band,
        seats: job.seats.clone(),
        variables: (job.variables.iter())
            .map(|(name, value)| (name.clone(), value.to_string()))
            .collect(),
        secrets: job.secrets.clone(),
        workspace: job.workspace,
        on_failure: job.on_failure,
        tries,
        is_held: job.hold == Some(Hold::Person),
        fail_unmatched: job.fail_unmatched,
        line,
    };
    (job_made, job)
}

/// Reads an expression of the requirement language, with `{name}` replaced by values.
fn expression(
    key: &str,
    text: &Spanned<String>,
    values: &BTreeMap<String, String>,
    mistakes: &mut Mistakes<'_>,
) -> Requirement {
    let (written, span) = (text.get_ref(), text.span());
    let whole = match replaced(written, values) {
        Ok(whole) => whole,
        Err((at, message)) => {
            mistakes.add_within(span, written, at, format!("{key}: {message}"));
            return Requirement::any();
        }
    };
    match whole.parse::<Requirement>() {
        Ok(requirement) => requirement,
        Err(error) => {
            // In a text with values the columns are others.
            let into = if whole == *written {
                error.column - 1
            } else {
                0
            };
            let of = if whole == *written {
                String::new()
            } else {
                format!(" (in {whole:?})")
            };
            let message = format!("{key}: {}{of}", error.message);
            mistakes.add_within(span, written, into, message);
            Requirement::any()
        }
    }
}

/// The text with each `{name}` replaced by its value; or what is wrong, and how many characters into the text.
pub(super) fn replaced(
    text: &str,
    values: &BTreeMap<String, String>,
) -> Result<String, (usize, String)> {
    let mut whole = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('{') {
        whole += before;
        let at = text.chars().count() - after.chars().count() - 1;
        let Some((name, left)) = after.split_once('}') else {
            return Err((at, "a { has no }".to_owned()));
        };
        let Some(value) = values.get(name) else {
            let near = nearest(name, values.keys().map(String::as_str));
            let near = near.map_or_else(String::new, |near| format!("; did you mean {{{near}}}?"));
            let message = format!("{{{name}}} is neither among the values nor does it vary{near}");
            return Err((at, message));
        };
        whole += value;
        rest = left;
    }
    whole += rest;
    Ok(whole)
}

fn length(
    key: &str,
    text: Option<&Spanned<String>>,
    mistakes: &mut Mistakes<'_>,
) -> Option<Duration> {
    let text = text?;
    match parse_length(text.get_ref()) {
        Ok(length) if !length.is_zero() => Some(length),
        Ok(_) => {
            mistakes.add(text.span().start, format!("{key}: it is more than 0"));
            None
        }
        Err(message) => {
            mistakes.add(text.span().start, format!("{key}: {message}"));
            None
        }
    }
}

/// The positions of the jobs that a job waits for: all combinations of each.
fn needs(job: &WrittenJob, made: &[(SheetJob, &WrittenJob)]) -> Vec<Need> {
    let wanted = job.after.iter().map(|need| need_of(need.get_ref()));
    let wanted: BTreeMap<&str, bool> = wanted.collect();
    let all = made.iter().enumerate();
    all.filter_map(|(position, (other, _))| {
        let success = *wanted.get(other.base.as_str())?;
        Some(Need {
            job: position,
            success,
        })
    })
    .collect()
}
