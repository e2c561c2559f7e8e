//! Jobs as text.

use crate::view;
use pennine_core::time::{Micros, spoken};
use pennine_wire::{Attempt, Comparison, Job, JobSizing};

/// Everything about a job.
pub(super) fn text(job: &Job) -> String {
    let line = &job.line;
    let mut text = format!(
        "{} \"{}\" of {}: {}",
        line.name,
        line.title,
        line.project,
        view::state(line)
    );
    if let Some(message) = job.message.as_ref().or(job.held_for.as_ref()) {
        text += &format!(" ({message})");
    }
    if let Some(hint) = &job.hint {
        text += &format!("\n{}", view::wrapped("  ", hint).trim_end());
    }
    if job.is_of_sheet {
        text += &format!("\n  run      {}", job.run);
    }
    text += &format!(
        "\n  where    {}\n",
        if line.requirement.is_empty() {
            "any runner"
        } else {
            &line.requirement
        }
    );
    if job.commands.is_empty() {
        text += &format!("  command  {}\n", job.command.join(" "));
    }
    if !job.secrets.is_empty() {
        let secrets = job.secrets.iter();
        let secrets: Vec<String> = secrets
            .map(|(name, given)| format!("{name} ({given})"))
            .collect();
        text += &format!("  secrets  {}\n", secrets.join(", "));
    }
    if !job.trust.is_trusted() {
        text += "  trust    untrusted\n";
    }
    let moments = [
        ("ready", job.ready_at),
        ("started", line.started_at),
        ("finished", line.finished_at),
    ];
    for (name, at) in moments {
        if let Some(at) = at {
            text += &format!("  {name:8} {at}  ({})\n", view::ago(at, job.now));
        }
    }
    if let Some(at) = job.give_up_at.filter(|_| line.reason.is_some()) {
        let left = view::length(at.since(job.now).into());
        text += &format!("  gives up {at}  (in {left})\n");
    }
    if let Some(again) = &job.retried_as {
        text += &format!("  retried as {again}\n");
    }
    text += &format!("  waited   {}\n", view::length(line.wait_us));
    let spans = job
        .attempts
        .iter()
        .flat_map(|one| &one.wait)
        .chain(&job.waiting);
    for span in spans {
        text += &format!("    {:14} {}\n", span.reason, view::length(span.length_us));
    }
    if let Some(ran) = line.ran_us {
        text += &format!("  ran      {}\n", view::length(ran));
    }
    text += &commands(job);
    text += &attempts(job);
    text
}

/// Every attempt of a job, as a table.
fn attempts(job: &Job) -> String {
    if job.attempts.is_empty() {
        return String::new();
    }
    let rows = job.attempts.iter().map(|one| {
        let state = one
            .result
            .map_or_else(|| one.state.to_string(), |result| result.to_string());
        vec![
            one.number.to_string(),
            one.runner.clone(),
            one.pool.clone(),
            state,
            view::length(one.wait_us),
            one.processor_us
                .map(|micros| spoken(micros.into()))
                .unwrap_or_default(),
            one.peak_memory
                .map(|size| size.to_string())
                .unwrap_or_default(),
            one.message.clone().unwrap_or_default(),
        ]
    });
    let heads = [
        "try",
        "runner",
        "pool",
        "state",
        "waited",
        "processor",
        "memory",
        "message",
    ];
    format!("\n{}", view::table(&heads, rows))
}

/// The commands of a job of a sheet, with how long each ran in the latest attempt, and how long its files took before them.
fn commands(job: &Job) -> String {
    let mut text = String::new();
    let last = job.attempts.last();
    if let Some(source) = last.and_then(|attempt| attempt.phases.source_us) {
        text += &format!("  source   {}\n", view::length(source));
    }
    if job.commands.is_empty() {
        return text;
    }
    let lengths = last.map_or_else(Vec::new, command_lengths);
    text.push('\n');
    let rows = job.commands.iter().enumerate().map(|(i, command)| {
        let line = command.trim().lines().next().unwrap_or_default();
        let length = lengths.get(i).copied().flatten();
        vec![
            (i + 1).to_string(),
            view::cut(line, view::roomy(60)),
            length.map(view::length).unwrap_or_default(),
        ]
    });
    text + &view::table(&["no.", "command", "ran"], rows)
}

/// How long each command of an attempt ran, as far as is known: the last has no end before the attempt has.
fn command_lengths(attempt: &Attempt) -> Vec<Option<Micros>> {
    let ran = attempt.started_at.zip(attempt.exited_at);
    let ran = ran.map(|(from, until)| Micros::from(until.since(from)));
    let mut lengths: Vec<Option<Micros>> = attempt
        .phases
        .command_lengths(ran.unwrap_or_default())
        .into_iter()
        .map(Some)
        .collect();
    if let (None, Some(last)) = (ran, lengths.last_mut()) {
        *last = None;
    }
    lengths
}

/// A job beside another, part by part.
pub(super) fn comparison(compared: &Comparison) -> String {
    let other = match compared.with.as_slice() {
        [only] => only.clone(),
        several => format!("median of {}", several.len()),
    };
    let length = |length: Option<Micros>| length.map(view::length).unwrap_or_default();
    let rows = compared.parts.iter().map(|one| {
        let difference = one.difference();
        let sign = if difference < 0 { "-" } else { "+" };
        let difference = Micros(difference.unsigned_abs());
        vec![
            view::cut(&one.part, view::roomy(44)),
            length(one.this_us),
            length(one.other_us),
            match difference.0 {
                // Less than a millisecond.
                0..1000 => String::new(),
                _ => format!("{sign}{}", view::length(difference)),
            },
        ]
    });
    let table = view::table(&["part", &compared.job, &other, "difference"], rows);
    format!("{}\n{table}", view::wrapped("", &compared.message))
}

/// What the last attempts of a job used, and the advice that follows.
pub(super) fn sizing(sizing: &JobSizing) -> String {
    let mut text = view::wrapped("", &sizing.message);
    let Some(usage) = &sizing.usage else {
        return text;
    };
    let io = [
        ("storage read", usage.bytes_read),
        ("storage written", usage.bytes_written),
    ];
    let fact = |name: &str, value: String| format!("  {name:<15}  {value}\n");
    text += &fact("attempts", format!("the last {}", sizing.attempts));
    text += &fact(
        "ran",
        format!(
            "{} (p50), {} (p95)",
            view::length(usage.ran_p50_us),
            view::length(usage.ran_p95_us)
        ),
    );
    for (name, size) in io {
        text += &size.map_or_else(String::new, |size| fact(name, format!("{size} (p50)")));
    }
    for sentence in &sizing.advice {
        text += &view::wrapped("", sentence);
    }
    text
}
