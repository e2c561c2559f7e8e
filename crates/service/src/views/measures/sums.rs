//! Reads the sums of a window: what is over from what is kept, what goes on from the record.

use pennine_core::id::{PlaceId, PoolId};
use pennine_core::measure::{
    Adder, Cell, MachineTime, Offered, Open, Resolution, Run, WindowFigures, WorkSpan, cover,
};
use pennine_core::time::Moment;
use pennine_store::measure::{self, Row};
use pennine_store::rollup::{self, RollupKey, RollupKind};
use pennine_store::{Connection, Error};
use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;

const MINUTE: Duration = Duration::from_secs(60);
const HOUR: Duration = Duration::from_secs(3600);
const DAY: Duration = Duration::from_secs(86_400);
/// The longest window.
pub const LONGEST: Duration = Duration::from_secs(731 * 86_400);

/// For this many jobs at the head of the queue the progress in line is read, one query each: a long queue must not keep the
/// page from those who look why it is long.
const LOOKED_UP: usize = 200;

/// What is asked for: everything of these keys of one kind together.
#[derive(Clone, Debug)]
pub struct Scope {
    pub kind: RollupKind,
    /// Empty for nothing.
    pub keys: Vec<RollupKey>,
}

impl Scope {
    /// Everything.
    pub fn yard() -> Scope {
        Scope::of(RollupKey::Yard)
    }

    /// Everything that is kept by one key.
    pub fn of(key: RollupKey) -> Scope {
        Scope {
            kind: key.kind(),
            keys: vec![key],
        }
    }

    /// Whether slots and machines belong to it.
    pub fn owns(&self) -> bool {
        owns(self.kind)
    }

    /// Whether something that is kept by these keys belongs to it.
    pub fn holds(&self, keys: &[RollupKey]) -> bool {
        keys.iter().any(|key| self.keys.contains(key))
    }
}

/// Whether slots and machines belong to what is kept by a kind.
pub fn owns(kind: RollupKind) -> bool {
    matches!(
        kind,
        RollupKind::Yard
            | RollupKind::Pool
            | RollupKind::Runner
            | RollupKind::Supplier
            | RollupKind::Image
    )
}

/// A stretch of time, with how long its steps are and what they are made of.
#[derive(Clone, Copy, Debug)]
pub struct Window {
    pub from: Moment,
    pub until: Moment,
    pub step: Duration,
    /// The stretches at its ends are as long as this.
    pub base: Resolution,
}

impl Window {
    /// A window that holds these moments, of sums that are kept by a kind: those of five minutes since a moment, and hours,
    /// where there are many of the kind, since another.
    pub fn new(
        from: Moment,
        until: Moment,
        kind: RollupKind,
        five_minutes: Moment,
        hours: Moment,
    ) -> Window {
        let length = until.since(from);
        let (mut step, mut base) = match length {
            short if short <= 10 * HOUR => (5 * MINUTE, Resolution::FiveMinutes),
            some if some <= 3 * DAY => (30 * MINUTE, Resolution::FiveMinutes),
            days if days <= 15 * DAY => (2 * HOUR, Resolution::Hour),
            months if months <= 150 * DAY => (DAY, Resolution::Day),
            _ => (7 * DAY, Resolution::Day),
        };
        if base == Resolution::FiveMinutes && (from < five_minutes || kind.shortest() > base) {
            (step, base) = (step.max(HOUR), Resolution::Hour);
        }
        if base == Resolution::Hour && kind.many() && from < hours {
            (step, base) = (step.max(DAY), Resolution::Day);
        }
        let end = if base.start(until) == until {
            until
        } else {
            base.end(until)
        };
        Window {
            from: base.start(from),
            until: end,
            step,
            base,
        }
    }

    /// The window of the same length before it.
    pub fn before(&self) -> Window {
        let length = self.until.since(self.from);
        Window {
            from: self.from - length,
            until: self.from,
            ..*self
        }
    }

    async fn runs(&self, connection: &mut Connection) -> Result<Vec<Run>, Error> {
        let drawn = measure::compacted_until(connection).await?;
        Ok(cover(
            self.from,
            self.until,
            self.base,
            Resolution::Month,
            drawn,
        ))
    }

    fn even_run(&self) -> Run {
        Run {
            resolution: self.base,
            from: self.from,
            until: self.until,
        }
    }
}

/// What goes on now.
pub struct LiveCounts {
    now: Moment,
    pub work_spans: Vec<(Row, Vec<RollupKey>, WorkSpan, bool)>,
    offers: Vec<(Vec<RollupKey>, Offered)>,
    machines: Vec<(Vec<RollupKey>, MachineTime)>,
}

impl LiveCounts {
    /// Reads it, where it touches what ends after `since`.
    pub async fn read(connection: &mut Connection, now: Moment) -> Result<LiveCounts, Error> {
        let rows = measure::open_work_spans(connection).await?;
        let work_spans = measure::split_all(connection, &rows, now, LOOKED_UP).await?;
        let offers = measure::open_offers(connection).await?;
        let machines = measure::machines(connection).await?;
        Ok(LiveCounts {
            now,
            work_spans: rows
                .into_iter()
                .zip(work_spans)
                .map(|(row, work_span)| {
                    let (keys, waits) = (row.keys(), row.started_at.is_none());
                    (row, keys, work_span, waits)
                })
                .collect(),
            offers: offers
                .iter()
                .map(|one| (one.keys(), one.offered(now)))
                .collect(),
            machines: machines
                .iter()
                .map(|one| (one.keys(), one.time(now)))
                .collect(),
        })
    }

    /// What goes on of a scope, within a stretch.
    pub fn within(&self, scope: &Scope, from: Moment, until: Moment) -> Open {
        let mut open = Open::default();
        if from >= self.now {
            return open;
        }
        for (_, keys, work_span, waits) in &self.work_spans {
            if work_span.ready < until && scope.holds(keys) {
                open.add_work_span(work_span, *waits, from, until);
            }
        }
        for (keys, offered) in &self.offers {
            if offered.from < until && scope.holds(keys) {
                open.add_offered(offered, from, until);
            }
        }
        for (keys, machine) in &self.machines {
            if machine.ordered < until && scope.holds(keys) {
                open.add_machine(machine, from, until);
            }
        }
        open
    }

    /// What goes on within a window, by group.
    fn groups(
        &self,
        kind: RollupKind,
        window: &Window,
        name: impl Fn(&RollupKey) -> Option<String>,
    ) -> BTreeMap<String, Open> {
        let (from, until) = (window.from, window.until);
        let mut open: BTreeMap<String, Open> = BTreeMap::new();
        let mut names = GroupNames {
            kind,
            name,
            known: HashMap::new(),
        };
        for (_, keys, work_span, waits) in &self.work_spans {
            for name in names.of(keys) {
                let open = open.entry(name).or_default();
                open.add_work_span(work_span, *waits, from, until);
            }
        }
        for (keys, offered) in &self.offers {
            for name in names.of(keys) {
                open.entry(name)
                    .or_default()
                    .add_offered(offered, from, until);
            }
        }
        for (keys, machine) in &self.machines {
            for name in names.of(keys) {
                open.entry(name)
                    .or_default()
                    .add_machine(machine, from, until);
            }
        }
        open
    }
}

/// Finds the groups of keys, each once: many jobs go on with few keys.
struct GroupNames<'a, F> {
    kind: RollupKind,
    name: F,
    known: HashMap<&'a RollupKey, Option<String>>,
}

impl<'a, F: Fn(&RollupKey) -> Option<String>> GroupNames<'a, F> {
    fn of(&mut self, keys: &'a [RollupKey]) -> Vec<String> {
        let mine = keys.iter().filter(|key| key.kind() == self.kind);
        let name = |key| {
            let found = self.known.entry(key).or_insert_with(|| (self.name)(key));
            found.clone()
        };
        mine.filter_map(name).collect()
    }
}

/// The numbers of a scope's keys.
async fn numbers(connection: &mut Connection, scope: &Scope) -> Result<Vec<i64>, Error> {
    rollup::numbers(connection, &scope.keys).await
}

/// A whole window.
pub async fn whole(
    connection: &mut Connection,
    live: &LiveCounts,
    scope: &Scope,
    window: &Window,
) -> Result<WindowFigures, Error> {
    let all = over(connection, scope, window).await?;
    let open = live.within(scope, window.from, window.until);
    Ok(WindowFigures::of(&all, &open, scope.owns()))
}

/// The sums of what is over in a window.
pub async fn over(
    connection: &mut Connection,
    scope: &Scope,
    window: &Window,
) -> Result<Cell, Error> {
    let keys = numbers(connection, scope).await?;
    let mut adder = Adder::default();
    for run in window.runs(connection).await? {
        for one in rollup::stored_sums(connection, run, scope.kind, Some(&keys)).await? {
            rollup::add(&mut adder, &one)?;
        }
    }
    rollup::summed(adder)
}

/// A window step by step.
pub async fn steps(
    connection: &mut Connection,
    live: &LiveCounts,
    scope: &Scope,
    window: &Window,
) -> Result<Vec<(Moment, WindowFigures)>, Error> {
    let keys = numbers(connection, scope).await?;
    let mut cells: BTreeMap<Moment, Adder> = BTreeMap::new();
    for one in rollup::stored_sums(connection, window.even_run(), scope.kind, Some(&keys)).await? {
        let step = step_of(window, one.at);
        rollup::add(cells.entry(step).or_default(), &one)?;
    }
    let mut all = Vec::new();
    let mut at = window.from;
    while at < window.until {
        let next = (at + window.step).min(window.until);
        let open = live.within(scope, at, next);
        let cell = rollup::summed(cells.remove(&at).unwrap_or_default())?;
        all.push((at, WindowFigures::of(&cell, &open, scope.owns())));
        at = next;
    }
    Ok(all)
}

fn step_of(window: &Window, at: Moment) -> Moment {
    let passed = at.since(window.from).as_micros();
    let steps = passed / window.step.as_micros().max(1);
    let steps = u32::try_from(steps).unwrap_or(0);
    window.from + window.step * steps
}

/// The keys of a kind that groups are made of: of one pool, or of some projects; none given means any.
#[derive(Clone, Copy, Debug)]
pub struct KeyFilter<'a> {
    pub kind: RollupKind,
    pub pool: Option<PoolId>,
    pub projects: Option<&'a [PlaceId]>,
}

/// The sums of a window by group. `name` returns the group that a key belongs to; several keys may belong to one group, such as
/// the projects of a team, and a key without a group is left out.
pub async fn groups(
    connection: &mut Connection,
    live: &LiveCounts,
    filter: KeyFilter<'_>,
    window: &Window,
    name: impl Fn(&RollupKey) -> Option<String>,
) -> Result<BTreeMap<String, WindowFigures>, Error> {
    let kind = filter.kind;
    let cells = stored_groups(connection, filter, window, &name).await?;
    let open = live.groups(kind, window, name);
    let names: BTreeSet<&String> = cells.keys().chain(open.keys()).collect();
    let nothing = (Cell::default(), Open::default());
    let empty = WindowFigures::of(&nothing.0, &nothing.1, owns(kind));
    let figures = names.into_iter().map(|name| {
        let cell = cells.get(name).unwrap_or(&nothing.0);
        let open = open.get(name).unwrap_or(&nothing.1);
        (name.clone(), WindowFigures::of(cell, open, owns(kind)))
    });
    Ok(figures.filter(|(_, figures)| *figures != empty).collect())
}

/// What is kept of each group.
async fn stored_groups(
    connection: &mut Connection,
    KeyFilter {
        kind,
        pool,
        projects,
    }: KeyFilter<'_>,
    window: &Window,
    name: impl Fn(&RollupKey) -> Option<String>,
) -> Result<BTreeMap<String, Cell>, Error> {
    let only = if pool.is_none() && projects.is_none() {
        None
    } else {
        Some(rollup::numbers_of(connection, kind, pool, projects).await?)
    };
    let mut sums: HashMap<i64, Adder> = HashMap::new();
    for run in window.runs(connection).await? {
        for one in rollup::stored_sums(connection, run, kind, only.as_deref()).await? {
            rollup::add(sums.entry(one.key).or_default(), &one)?;
        }
    }
    let numbers: Vec<i64> = sums.keys().copied().collect();
    let keys = rollup::keys(connection, &numbers).await?;
    let mut by_name: BTreeMap<String, Adder> = BTreeMap::new();
    for (number, adder) in sums {
        if let Some(name) = keys.get(&number).and_then(&name) {
            match by_name.entry(name) {
                Entry::Vacant(free) => {
                    free.insert(adder);
                }
                Entry::Occupied(mut sum) => rollup::merge(sum.get_mut(), adder)?,
            }
        }
    }
    let cell = |(name, adder)| Ok((name, rollup::summed(adder)?));
    by_name.into_iter().map(cell).collect()
}

/// The hours of the week over a window, as a time zone counts them: 0 is Monday's first.
pub async fn week(
    connection: &mut Connection,
    live: &LiveCounts,
    scope: &Scope,
    window: &Window,
    zone: &jiff::tz::TimeZone,
) -> Result<BTreeMap<u8, WindowFigures>, Error> {
    let keys = numbers(connection, scope).await?;
    let run = Run {
        resolution: Resolution::Hour,
        from: Resolution::Hour.start(window.from),
        until: Resolution::Hour.end(window.until - Duration::from_micros(1)),
    };
    let hour = |at: Moment| {
        let at = jiff::Timestamp::from_microsecond(at.micros()).ok()?;
        let at = at.to_zoned(zone.clone());
        let day = u8::try_from(at.weekday().to_monday_zero_offset()).ok()?;
        Some(day * 24 + u8::try_from(at.hour()).ok()?)
    };
    let mut cells: BTreeMap<u8, (Adder, Open)> = BTreeMap::new();
    for one in rollup::stored_sums(connection, run, scope.kind, Some(&keys)).await? {
        if let Some(hour) = hour(one.at) {
            rollup::add(&mut cells.entry(hour).or_default().0, &one)?;
        }
    }
    // What goes on is only in the hours since it began.
    let began = live
        .work_spans
        .iter()
        .map(|(_, _, work_span, _)| work_span.ready);
    let began = began.chain(live.offers.iter().map(|(_, offered)| offered.from));
    let began = began.chain(live.machines.iter().map(|(_, machine)| machine.ordered));
    let mut at = began.min().map_or(run.until, |first| {
        Resolution::Hour.start(first).max(run.from)
    });
    while at < run.until.min(live.now) {
        let next = Resolution::Hour.end(at);
        if let Some(hour) = hour(at) {
            let open = live.within(scope, at, next);
            cells.entry(hour).or_default().1.merge(&open);
        }
        at = next;
    }
    let figures = cells.into_iter().map(|(hour, (adder, open))| {
        let figures = WindowFigures::of(&rollup::summed(adder)?, &open, scope.owns());
        Ok((hour, figures))
    });
    figures.collect()
}
