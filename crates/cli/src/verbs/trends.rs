//! `pennine trends`: waits, work, machines and money over time.

use crate::error::Error;
use crate::view;
use clap::{Args, Subcommand};
use pennine_client::{Client, TrendFilter};
use pennine_core::dispatch::Reason;
use pennine_core::lifecycle::job::Outcome;
use pennine_core::measure::{Quantile, WindowFigures};
use pennine_core::time::{Micros, Moment};
use pennine_wire::{By, LongestWait, Trends, WeekPattern};
use std::time::Duration;

#[derive(Subcommand)]
pub enum Verb {
    /// Waits and utilisation by hour of the week.
    Week {
        #[command(flatten)]
        of: Box<TrendArguments>,
        /// The time zone of the hours: Europe/Dublin [default: UTC]
        #[arg(long)]
        zone: Option<String>,
        /// Print CSV.
        #[arg(long, conflicts_with = "json")]
        csv: bool,
    },
    /// The longest waits, and the jobs behind a figure.
    Waits {
        #[command(flatten)]
        of: Box<TrendArguments>,
        /// Only waits for this reason, the longest first.
        #[arg(long, value_parser = view::word::<Reason>)]
        reason: Option<Reason>,
        /// How many.
        #[arg(long, value_name = "N", default_value_t = 10)]
        limit: u32,
        /// Print CSV.
        #[arg(long, conflicts_with = "json")]
        csv: bool,
    },
}

/// Of what, and when.
#[derive(Args, Clone, Debug, Default)]
pub struct TrendArguments {
    /// How long back: 24h, 7d, 365d.
    #[arg(long, value_name = "TIME", value_parser = view::time, default_value = "24h", conflicts_with = "from")]
    last: Duration,
    /// From when: 2026-11-23T06:00:00Z.
    #[arg(long, value_name = "MOMENT", value_parser = moment)]
    from: Option<Moment>,
    /// Until when; now when not given.
    #[arg(long, value_name = "MOMENT", value_parser = moment)]
    until: Option<Moment>,
    /// Of this pool's runners.
    #[arg(long)]
    pool: Option<String>,
    /// Of everything at or below this team.
    #[arg(long)]
    team: Option<String>,
    /// Of this project.
    #[arg(long)]
    project: Option<String>,
    /// Of jobs with this requirement.
    #[arg(long = "where", value_name = "REQUIREMENT")]
    requirement: Option<String>,
    /// Of a project's jobs with this title; all numbers in titles count as equal.
    #[arg(long, requires = "project")]
    title: Option<String>,
    /// Of this runner.
    #[arg(long)]
    runner: Option<String>,
    /// Of this supplier's machines.
    #[arg(long)]
    supplier: Option<String>,
    /// Of machines made from this.
    #[arg(long)]
    image: Option<String>,
}

/// The form of the output.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct OutputArguments {
    /// Group by pool, team, project, requirement, title, runner, supplier or image.
    #[arg(long, value_parser = view::word::<By>)]
    by: Option<By>,
    /// Compare with the previous period.
    #[arg(long)]
    compare: bool,
    /// Step by step.
    #[arg(long)]
    steps: bool,
    /// Print CSV: the groups of --by, or the steps.
    #[arg(long, conflicts_with = "json")]
    csv: bool,
}

/// A moment as RFC 3339 writes it.
pub fn moment(text: &str) -> Result<Moment, String> {
    serde_json::from_value(text.into())
        .map_err(|_| format!("{text:?} is not a time; use the form 2026-11-23T06:00:00Z"))
}

impl TrendArguments {
    fn filter(self) -> TrendFilter {
        TrendFilter {
            from: self.from,
            until: self.until,
            last_us: self.from.is_none().then_some(self.last.into()),
            pool: self.pool,
            team: self.team,
            project: self.project,
            requirement: self.requirement,
            title: self.title,
            runner: self.runner,
            supplier: self.supplier,
            image: self.image,
            ..TrendFilter::default()
        }
    }
}

/// `pennine trends`.
pub async fn run(
    client: &Client,
    json: bool,
    verb: Option<Verb>,
    of: TrendArguments,
    how: OutputArguments,
) -> Result<(), Error> {
    match verb {
        None => {
            let filter = TrendFilter {
                by: how.by,
                compare: how.compare,
                ..of.filter()
            };
            let trends = client.trends(&filter).await?;
            if json {
                return view::json(&trends);
            }
            view::print(&if how.csv {
                csv(&trends, how)
            } else {
                trends_text(&trends, how, &client.who().await?.currency)
            })
        }
        Some(Verb::Week { of, zone, csv }) => {
            let filter = TrendFilter {
                zone,
                ..of.filter()
            };
            let week = client.week(&filter).await?;
            if json {
                return view::json(&week);
            }
            view::print(&if csv {
                week_csv(&week)
            } else {
                week_text(&week)
            })
        }
        Some(Verb::Waits {
            of,
            reason,
            limit,
            csv,
        }) => {
            let filter = TrendFilter {
                reason,
                limit: Some(limit),
                ..of.filter()
            };
            let waits = client.waits(&filter).await?;
            if json {
                return view::json(&waits);
            }
            view::print(&if csv {
                waits_csv(&waits.items)
            } else {
                waits_text(&waits.items)
            })
        }
    }
}

fn quantile(one: Option<Quantile>) -> String {
    let Some(one) = one else {
        return String::new();
    };
    let mark = if one.at_least { ">= " } else { "" };
    let few = if one.few { "?" } else { "" };
    format!("{mark}{}{few}", view::length(one.value_us))
}

fn percent(part: u64, whole: u64) -> String {
    if whole == 0 {
        return String::new();
    }
    format!("{:.0} %", part as f64 * 100.0 / whole as f64)
}

fn utilisation(figures: &WindowFigures) -> String {
    let share = figures.utilisation();
    share.map_or(String::new(), |share| format!("{:.0} %", share * 100.0))
}

/// The reason that took most, with its share.
fn mostly(figures: &WindowFigures) -> String {
    let longest = figures
        .wait
        .by_reason
        .iter()
        .max_by_key(|(_, micros)| **micros);
    longest.map_or(String::new(), |(reason, micros)| {
        format!("{reason} {}", percent(micros.0, figures.wait.sum_us.0))
    })
}

fn row(name: String, figures: &WindowFigures) -> Vec<String> {
    vec![
        name,
        figures.wait.count.to_string(),
        quantile(figures.wait.p50),
        quantile(figures.wait.p95),
        mostly(figures),
        figures.jobs().to_string(),
        figures.failures().to_string(),
        utilisation(figures),
        figures
            .cost
            .filter(|cost| cost.0 > 0)
            .map_or(String::new(), |cost| cost.to_string()),
    ]
}

/// The heads of the columns of [`row`].
fn heads<'a>(first: &'a str, cost: &'a str) -> [&'a str; 9] {
    [
        first,
        "waits",
        "p50",
        "p95",
        "main reason",
        "ended",
        "failed",
        "busy",
        cost,
    ]
}

fn trends_text(trends: &Trends, how: OutputArguments, currency: &str) -> String {
    let cost_head = view::money_head("cost", currency);
    let mut text = format!("{}\n", trends.answer);
    let whole = &trends.whole;
    text += &format!(
        "  from {} until {}; work finished by {} is counted\n",
        minute(trends.from),
        minute(trends.until),
        minute(trends.counted_until)
    );
    if whole.wait.sum_us.0 > 0 {
        text += &format!("\nTotal wait {}\n", view::length(whole.wait.sum_us));
        let mut parts: Vec<_> = whole.wait.by_reason.iter().collect();
        parts.sort_by_key(|(_, micros)| std::cmp::Reverse(**micros));
        for (reason, micros) in parts {
            text += &format!(
                "  {:>5}  {:<15} {}\n",
                percent(micros.0, whole.wait.sum_us.0),
                reason.word(),
                view::length(*micros)
            );
        }
    }
    let ended: Vec<String> = whole
        .results
        .iter()
        .map(|(result, count)| format!("{count} {result}"))
        .collect();
    if !ended.is_empty() {
        text += &format!(
            "\nEnded: {}; {} attempts were lost. Run time: median {}, 95th percentile {}.\n",
            ended.join(", "),
            whole.lost,
            quantile(whole.ran_p50),
            quantile(whole.ran_p95)
        );
    }
    if let Some(offered) = whole.offered_us.filter(|offered| offered.0 > 0) {
        text += &format!(
            "Slots: {} busy of {} offered, utilisation {}.\n",
            view::length(whole.busy_us),
            view::length(offered),
            utilisation(whole)
        );
    }
    if let (Some(paid), Some(overhead), Some(cost)) = (whole.paid_us, whole.overhead_us, whole.cost)
        && paid.0 > 0
    {
        let each = whole.cost_each();
        let each = each.map_or(String::new(), |each| {
            format!(", {} per successful job", each.in_currency(currency))
        });
        text += &format!(
            "Machines: {} paid, {} of it boot and release; cost {}{each}.\n",
            view::length(paid),
            view::length(overhead),
            cost.in_currency(currency)
        );
    }
    if let Some(by) = how.by {
        let by = serde_json::to_value(by).unwrap_or_default();
        let heads = heads(by.as_str().unwrap_or("name"), &cost_head);
        text += "\n";
        if trends.groups.is_empty() {
            text += "No groups in this period.\n";
        } else {
            let rows = trends.groups.iter();
            text += &view::table(
                &heads,
                rows.map(|group| row(view::cut(&group.name, 34), &group.figures)),
            );
        }
    }
    if how.steps {
        text += "\n";
        text += &view::table(
            &heads("from", &cost_head),
            trends
                .steps
                .iter()
                .map(|step| row(minute(step.at), &step.figures)),
        );
    }
    text
}

/// To the minute, in UTC.
fn minute(at: Moment) -> String {
    let text = at.to_string();
    format!("{}Z", text.get(..16).unwrap_or(&text).replace('T', " "))
}

/// The columns of figures: times in microseconds, money in millionths.
fn columns() -> Vec<String> {
    let mut columns: Vec<String> = [
        "waits",
        "still_waiting",
        "wait_p50_us",
        "wait_p90_us",
        "wait_p95_us",
        "wait_p99_us",
        "wait_longest_us",
        "wait_sum_us",
    ]
    .map(str::to_owned)
    .to_vec();
    columns.extend(
        Reason::ALL
            .iter()
            .map(|reason| format!("waited_{reason}_us").replace('-', "_")),
    );
    columns.extend(Outcome::ALL.iter().map(|result| format!("ended_{result}")));
    let rest = [
        "lost",
        "ran_p50_us",
        "ran_p95_us",
        "busy_us",
        "offered_us",
        "paid_us",
        "overhead_us",
        "cost_millionths",
        "processor_us",
        "peak_memory_bytes",
    ];
    columns.extend(rest.map(str::to_owned));
    columns
}

fn fields(figures: &WindowFigures) -> Vec<String> {
    let quantile =
        |one: Option<Quantile>| one.map_or(String::new(), |one| one.value_us.0.to_string());
    let micros = |one: Option<Micros>| one.map_or(String::new(), |one| one.0.to_string());
    let wait = &figures.wait;
    let mut fields = vec![wait.count.to_string(), wait.still_waiting.to_string()];
    fields.extend([wait.p50, wait.p90, wait.p95, wait.p99, wait.longest].map(quantile));
    fields.push(wait.sum_us.0.to_string());
    let waited = |reason: &Reason| wait.by_reason.get(reason).map_or(0, |micros| micros.0);
    fields.extend(Reason::ALL.iter().map(|reason| waited(reason).to_string()));
    let ended = |result: &Outcome| figures.results.get(result).copied().unwrap_or(0);
    fields.extend(Outcome::ALL.iter().map(|result| ended(result).to_string()));
    fields.push(figures.lost.to_string());
    fields.extend([figures.ran_p50, figures.ran_p95].map(quantile));
    fields.push(figures.busy_us.0.to_string());
    fields.extend([figures.offered_us, figures.paid_us, figures.overhead_us].map(micros));
    fields.push(
        figures
            .cost
            .map_or(String::new(), |cost| cost.0.to_string()),
    );
    fields.push(figures.processor_us.0.to_string());
    fields.push(figures.peak_memory.to_string());
    fields
}

fn csv(trends: &Trends, how: OutputArguments) -> String {
    let first = if how.by.is_some() { "name" } else { "from" };
    let mut text = view::csv_line(&[vec![first.to_owned()], columns()].concat());
    if how.by.is_some() {
        for group in &trends.groups {
            text += &view::csv_line(&[vec![group.name.clone()], fields(&group.figures)].concat());
        }
    } else {
        for step in &trends.steps {
            text += &view::csv_line(&[vec![step.at.to_string()], fields(&step.figures)].concat());
        }
    }
    text
}

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

fn week_text(week: &WeekPattern) -> String {
    let mut text = format!(
        "Utilisation of slots in percent, by the hour of the week ({}); from {} until {}.\n\n   ",
        week.zone,
        minute(week.from),
        minute(week.until)
    );
    for hour in 0..24 {
        text += &format!("{hour:>4}");
    }
    text += "\n";
    let at = |day: usize, hour: usize| {
        week.hours
            .iter()
            .find(|one| usize::from(one.day) == day && usize::from(one.hour) == hour)
    };
    for (day, name) in DAYS.iter().enumerate() {
        text += name;
        for hour in 0..24 {
            let share = at(day, hour).and_then(|one| one.figures.utilisation());
            text += &share.map_or("   .".to_owned(), |share| format!("{:>4.0}", share * 100.0));
        }
        text += "\n";
    }
    text += "\n95th percentile of the waits that began in the hour.\n\n   ";
    for hour in 0..24 {
        text += &format!("{hour:>4}");
    }
    text += "\n";
    for (day, name) in DAYS.iter().enumerate() {
        text += name;
        for hour in 0..24 {
            let most = at(day, hour).and_then(|one| one.figures.wait.p95);
            text += &most.map_or("   .".to_owned(), |most| {
                format!("{:>4}", short(most.value_us))
            });
        }
        text += "\n";
    }
    text
}

/// In at most four characters: seconds, or minutes or hours where there are many.
fn short(length: Micros) -> String {
    let seconds = length.0 / 1_000_000;
    match seconds {
        ..=999 => format!("{seconds}s"),
        1000..=59_999 => format!("{}m", seconds / 60),
        _ => format!("{}h", (seconds / 3600).min(999)),
    }
}

fn week_csv(week: &WeekPattern) -> String {
    let heads = ["day".to_owned(), "hour".to_owned()].to_vec();
    let mut text = view::csv_line(&[heads, columns()].concat());
    for one in &week.hours {
        let day = DAYS.get(usize::from(one.day)).copied().unwrap_or_default();
        let when = vec![day.to_owned(), one.hour.to_string()];
        text += &view::csv_line(&[when, fields(&one.figures)].concat());
    }
    text
}

fn waits_text(waits: &[LongestWait]) -> String {
    if waits.is_empty() {
        return "No jobs waited in this period.\n".to_owned();
    }
    view::table(
        &[
            "job",
            "title",
            "project",
            "ready",
            "waited",
            "main reason",
            "then",
        ],
        waits.iter().map(|one| {
            let part = one.parts.first();
            let part = part.map_or(String::new(), |part| {
                format!("{} {}", part.reason, percent(part.wait_us.0, one.wait_us.0))
            });
            let then = match (one.ended_at, one.result, one.started_at) {
                (None, _, None) => "waits".to_owned(),
                (None, ..) => "executing".to_owned(),
                (_, Some(result), _) => result.to_string(),
                _ => "retried".to_owned(),
            };
            vec![
                one.job.clone(),
                view::cut(&one.title, 20),
                one.project.clone(),
                minute(one.ready_at).get(5..).unwrap_or_default().to_owned(),
                view::length(one.wait_us),
                part,
                then,
            ]
        }),
    )
}

fn waits_csv(waits: &[LongestWait]) -> String {
    let mut heads: Vec<String> = [
        "job",
        "title",
        "project",
        "where",
        "pool",
        "runner",
        "ready",
        "started",
        "ended",
        "result",
        "waited_us",
    ]
    .map(str::to_owned)
    .to_vec();
    heads.extend(
        Reason::ALL
            .iter()
            .map(|reason| format!("waited_{reason}_us").replace('-', "_")),
    );
    let mut text = view::csv_line(&heads);
    for one in waits {
        let at = |at: Option<Moment>| at.map_or(String::new(), |at| at.to_string());
        let mut fields = vec![
            one.job.clone(),
            one.title.clone(),
            one.project.clone(),
            one.requirement.clone(),
            one.pool.clone().unwrap_or_default(),
            one.runner.clone().unwrap_or_default(),
            at(Some(one.ready_at)),
            at(one.started_at),
            at(one.ended_at),
            one.result
                .map_or(String::new(), |result| result.to_string()),
            one.wait_us.0.to_string(),
        ];
        fields.extend(Reason::ALL.iter().map(|reason| {
            let part = one.parts.iter().find(|part| part.reason == *reason);
            part.map_or(0, |part| part.wait_us.0).to_string()
        }));
        text += &view::csv_line(&fields);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn csv_quotes_what_would_end_a_field() {
        let fields = ["a,b", "say \"no\"", "plain"].map(str::to_owned);
        assert_eq!(
            view::csv_line(&fields),
            "\"a,b\",\"say \"\"no\"\"\",plain\n"
        );
        assert_eq!(columns().len(), fields_of_nothing().len());
    }

    fn fields_of_nothing() -> Vec<String> {
        fields(&WindowFigures::default())
    }
}
