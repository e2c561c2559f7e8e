//! Sums over stretches of time, and what they are kept by.

use crate::connect::Connection;
use crate::error::{Error, Result};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Binary, SmallInt, Text, Timestamptz};
use pennine_core::measure::{Adder, Cell, Corrupt, Resolution, Run};
use pennine_core::time::Moment;
use std::collections::{BTreeMap, HashMap};

/// What sums are kept by.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum RollupKind {
    /// Everything together.
    Yard,
    /// A pool, by its id.
    Pool,
    /// A project, by its id.
    Project,
    /// A requirement, as the language writes it.
    Requirement,
    /// A project's id, a slash, and a job's title in which each number is a `#`.
    Title,
    /// A runner, by its id.
    Runner,
    /// A supplier, by its id.
    Supplier,
    /// What machines were made from.
    Image,
    /// A pool's id, a slash, and a project's.
    PoolProject,
}

impl RollupKind {
    pub(crate) fn code(self) -> i16 {
        match self {
            RollupKind::Yard => 1,
            RollupKind::Pool => 2,
            RollupKind::Project => 3,
            RollupKind::Requirement => 4,
            RollupKind::Title => 5,
            RollupKind::Runner => 6,
            RollupKind::Supplier => 7,
            RollupKind::Image => 8,
            RollupKind::PoolProject => 9,
        }
    }
}

impl RollupKind {
    /// All of them.
    pub const ALL: [RollupKind; 9] = [
        RollupKind::Yard,
        RollupKind::Pool,
        RollupKind::Project,
        RollupKind::Requirement,
        RollupKind::Title,
        RollupKind::Runner,
        RollupKind::Supplier,
        RollupKind::Image,
        RollupKind::PoolProject,
    ];

    /// The shortest stretches for which sums are kept by this: five minutes where people look at what goes on, hours where
    /// there are many of a kind.
    pub fn shortest(self) -> Resolution {
        match self {
            RollupKind::Yard | RollupKind::Pool => Resolution::FiveMinutes,
            _ => Resolution::Hour,
        }
    }

    /// Whether there may be so many of the kind that hours are kept for some weeks only.
    pub fn many(self) -> bool {
        RollupKind::all_many().contains(&self.code())
    }

    /// Those of which hours are kept for some weeks only.
    fn all_many() -> Vec<i16> {
        [
            RollupKind::Title,
            RollupKind::Runner,
            RollupKind::PoolProject,
        ]
        .map(RollupKind::code)
        .to_vec()
    }
}

/// What one sum is kept by.
pub type RollupKey = (RollupKind, String);

/// What is known while sums are added to: numbers of keys that were asked for before.
#[derive(Debug, Default)]
pub struct KeyCache {
    numbers: HashMap<RollupKey, i64>,
    /// Sums of stretches before this are as they should be, and are not added to.
    since: Option<Moment>,
}

/// The most that is remembered; beyond it everything is asked for again.
const REMEMBERED: usize = 50_000;

#[derive(QueryableByName)]
struct KeyRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = SmallInt)]
    kind: i16,
    #[diesel(sql_type = Text)]
    text: String,
}

impl KeyCache {
    /// Nothing yet; sums of stretches before a moment are as they should be.
    pub fn since(moment: Moment) -> KeyCache {
        KeyCache {
            since: Some(moment),
            ..KeyCache::default()
        }
    }

    /// Whether the sums of a stretch that begins then are to be added to.
    pub fn wants(&self, at: Moment) -> bool {
        self.since.is_none_or(|since| at >= since)
    }

    /// The number of a key, where it was asked for.
    pub fn number(&self, key: &RollupKey) -> Option<i64> {
        self.numbers.get(key).copied()
    }

    /// The numbers of these keys, which get one where they have none.
    pub async fn numbers(
        &mut self,
        connection: &mut Connection,
        keys: impl IntoIterator<Item = RollupKey>,
    ) -> Result<&HashMap<RollupKey, i64>> {
        if self.numbers.len() > REMEMBERED {
            self.numbers.clear();
        }
        let mut new: BTreeMap<(i16, String), RollupKind> = BTreeMap::new();
        for (kind, text) in keys {
            let key = (kind, text);
            if !self.numbers.contains_key(&key) {
                new.insert((kind.code(), key.1), kind);
            }
        }
        if new.is_empty() {
            return Ok(&self.numbers);
        }
        let kinds: Vec<i16> = new.keys().map(|(code, _)| *code).collect();
        let texts: Vec<String> = new.keys().map(|(_, text)| text.clone()).collect();
        sql!(
            "insert into rollup_key (kind, text) select * from unnest(:kinds, :texts)
             on conflict (kind, md5(text)) do nothing";
            kinds: Array<SmallInt> = &kinds,
            texts: Array<Text> = &texts,
        )
        .execute(connection)
        .await?;
        let rows: Vec<KeyRow> = sql!(
            "select k.id, k.kind, k.text from unnest(:kinds, :texts) as w(kind, text)
             join rollup_key k on k.kind = w.kind and md5(k.text) = md5(w.text)";
            kinds: Array<SmallInt> = &kinds,
            texts: Array<Text> = &texts,
        )
        .load(connection)
        .await?;
        for row in rows {
            if let Some(kind) = new.get(&(row.kind, row.text.clone())) {
                self.numbers.insert((*kind, row.text), row.id);
            }
        }
        Ok(&self.numbers)
    }
}

/// The numbers of these keys of a kind, as far as anything is kept by them.
pub async fn numbers(
    connection: &mut Connection,
    kind: RollupKind,
    texts: &[String],
) -> Result<Vec<i64>> {
    let rows: Vec<KeyRow> = sql!(
        "select id, kind, text from rollup_key
         where kind = :kind and md5(text) in (select md5(w) from unnest(:texts) as w)";
        kind: SmallInt = kind.code(),
        texts: Array<Text> = texts,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// The numbers of the keys of a kind that are like one of these patterns (of SQL: `%` is anything).
pub async fn numbers_like(
    connection: &mut Connection,
    kind: RollupKind,
    patterns: &[String],
) -> Result<Vec<i64>> {
    let rows: Vec<KeyRow> = sql!(
        "select id, kind, text from rollup_key where kind = :kind and text like any(:patterns)";
        kind: SmallInt = kind.code(),
        patterns: Array<Text> = patterns,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// What these numbers stand for.
pub async fn texts(connection: &mut Connection, numbers: &[i64]) -> Result<HashMap<i64, String>> {
    let rows: Vec<KeyRow> = sql!(
        "select id, kind, text from rollup_key where id = any(:numbers)";
        numbers: Array<BigInt> = numbers,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| (row.id, row.text)).collect())
}

/// Where a sum stands: its grain, what it is kept by, and when its stretch begins.
pub type SumPosition = (Resolution, RollupKind, i64, Moment);

/// Sums to be added.
#[derive(Debug, Default)]
pub struct Sums(BTreeMap<Spot, Cell>);

impl Sums {
    /// Adds a cell at a place; nothing where the grain is shorter than is kept.
    pub fn add(&mut self, (grain, kind, key, at): SumPosition, cell: &Cell) {
        if grain < kind.shortest() {
            return;
        }
        let sum = self
            .0
            .entry((grain.code(), kind.code(), key, at))
            .or_default();
        sum.merge(cell);
    }

    /// Takes out those of stretches that began before a moment, as the record keeps them: grain, kind, key, when, bytes.
    pub fn take_before(&mut self, moment: Moment) -> Vec<(i16, i16, i64, Moment, Vec<u8>)> {
        let all = std::mem::take(&mut self.0);
        let mut taken = Vec::new();
        for ((grain, kind, key, at), cell) in all {
            if at < moment {
                taken.push((grain, kind, key, at, cell.to_bytes()));
            } else {
                self.0.insert((grain, kind, key, at), cell);
            }
        }
        taken
    }

    /// Adds all of them to what is kept. Nobody else may do so meanwhile.
    pub async fn write(mut self, connection: &mut Connection) -> Result<()> {
        self.add_kept(connection).await?;
        self.put(connection).await
    }

    /// Adds what is kept to them, so that they can be put in its place.
    pub async fn add_kept(&mut self, connection: &mut Connection) -> Result<()> {
        let places: Vec<Spot> = self.0.keys().copied().collect();
        for some in places.chunks(AT_ONCE) {
            for (spot, cell) in there(connection, some).await? {
                if let Some(sum) = self.0.get_mut(&spot) {
                    sum.merge(&cell);
                }
            }
        }
        Ok(())
    }

    /// Puts them in the place of what is kept.
    pub async fn put(self, connection: &mut Connection) -> Result<()> {
        let bytes = |(spot, cell): (Spot, Cell)| (spot, cell.to_bytes());
        put_all(connection, self.0.into_iter().map(bytes).collect()).await
    }
}

/// Sums that are read or written at once.
const AT_ONCE: usize = 5000;

/// Where a sum stands, as the record has it: its grain, what it is kept by, and when its stretch begins.
pub type Spot = (i16, i16, i64, Moment);

/// Columns of where sums stand.
fn columns<'a>(
    spots: impl Iterator<Item = &'a Spot> + Clone,
) -> (Vec<i16>, Vec<i16>, Vec<i64>, Vec<Db<Moment>>) {
    (
        spots.clone().map(|(grain, ..)| *grain).collect(),
        spots.clone().map(|(_, kind, ..)| *kind).collect(),
        spots.clone().map(|(_, _, key, _)| *key).collect(),
        spots.map(|(.., at)| Db(*at)).collect(),
    )
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = SmallInt)]
    grain: i16,
    #[diesel(sql_type = SmallInt)]
    kind: i16,
    #[diesel(sql_type = BigInt)]
    key: i64,
    #[diesel(sql_type = Timestamptz)]
    at: Db<Moment>,
    #[diesel(sql_type = Binary)]
    cell: Vec<u8>,
}

fn read(bytes: &[u8]) -> Result<Cell> {
    Cell::from_bytes(bytes).map_err(corrupt)
}

/// What is kept in these places.
async fn there(connection: &mut Connection, spots: &[Spot]) -> Result<Vec<(Spot, Cell)>> {
    let (grains, kinds, keys, ats) = columns(spots.iter());
    let rows: Vec<Row> = sql!(
        "select r.grain, r.kind, r.key, r.at, r.cell
         from unnest(:grains, :kinds, :keys, :ats) as w(grain, kind, key, at)
         join rollup r on r.grain = w.grain and r.kind = w.kind and r.key = w.key and r.at = w.at";
        grains: Array<SmallInt> = grains,
        kinds: Array<SmallInt> = kinds,
        keys: Array<BigInt> = keys,
        ats: Array<Timestamptz> = ats,
    )
    .load(connection)
    .await?;
    let cell = |row: Row| Ok(((row.grain, row.kind, row.key, row.at.0), read(&row.cell)?));
    rows.into_iter().map(cell).collect()
}

async fn put(connection: &mut Connection, sums: &[Sum]) -> Result<()> {
    let (grains, kinds, keys, ats) = columns(sums.iter().map(|(spot, _)| spot));
    let cells: Vec<&[u8]> = sums.iter().map(|(_, cell)| cell.as_slice()).collect();
    sql!(
        "insert into rollup (grain, kind, key, at, cell) select * from unnest(:grains, :kinds, :keys, :ats, :cells)
         on conflict (grain, kind, key, at) do update set cell = excluded.cell";
        grains: Array<SmallInt> = grains,
        kinds: Array<SmallInt> = kinds,
        keys: Array<BigInt> = keys,
        ats: Array<Timestamptz> = ats,
        cells: Array<Binary> = cells,
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// A sum that is kept.
#[derive(Clone, Debug)]
pub struct StoredSum {
    /// The number of what it is kept by.
    pub key: i64,
    pub at: Moment,
    /// The sums, as [`Cell::to_bytes`] writes them.
    pub cell: Vec<u8>,
}

/// The sums of a run of stretches: by everything of a kind, or by some keys of it.
pub async fn kept(
    connection: &mut Connection,
    run: Run,
    kind: RollupKind,
    keys: Option<&[i64]>,
) -> Result<Vec<StoredSum>> {
    // One question for each, since they are best answered from different indexes.
    let asked = match keys {
        Some(keys) => sql!(
            "select key, at, cell from rollup
             where grain = :grain and kind = :kind and key = any(:keys) and at >= :from and at < :until";
            grain: SmallInt = run.grain.code(),
            kind: SmallInt = kind.code(),
            keys: Array<BigInt> = keys,
            from: Timestamptz = Db(run.from),
            until: Timestamptz = Db(run.until),
        ),
        None => sql!(
            "select key, at, cell from rollup where grain = :grain and kind = :kind and at >= :from and at < :until";
            grain: SmallInt = run.grain.code(),
            kind: SmallInt = kind.code(),
            from: Timestamptz = Db(run.from),
            until: Timestamptz = Db(run.until),
        ),
    };
    #[derive(QueryableByName)]
    struct Found {
        #[diesel(sql_type = BigInt)]
        key: i64,
        #[diesel(sql_type = Timestamptz)]
        at: Db<Moment>,
        #[diesel(sql_type = Binary)]
        cell: Vec<u8>,
    }
    let rows: Vec<Found> = asked.load(connection).await?;
    let kept = |row: Found| StoredSum {
        key: row.key,
        at: row.at.0,
        cell: row.cell,
    };
    Ok(rows.into_iter().map(kept).collect())
}

/// A sum with where it stands.
pub type Sum = (Spot, Vec<u8>);

/// What the sums of many stretches come to by each key: a longer stretch's, which begins at `at`.
pub fn drawn_together(
    grain: Resolution,
    kind: RollupKind,
    at: Moment,
    mut kept: Vec<StoredSum>,
) -> Result<Vec<Sum>> {
    kept.sort_unstable_by_key(|one| one.key);
    let of_key = kept.chunk_by(|one, other| one.key == other.key);
    let sum = |some: &[StoredSum]| {
        let mut adder = Adder::default();
        for one in some {
            add(&mut adder, one)?;
        }
        let key = some.first().map_or(0, |one| one.key);
        let spot = (grain.code(), kind.code(), key, at);
        Ok((spot, summed(adder)?.to_bytes()))
    };
    of_key.map(sum).collect()
}

/// Puts sums in their places.
pub async fn put_all(connection: &mut Connection, sums: Vec<Sum>) -> Result<()> {
    for some in sums.chunks(AT_ONCE) {
        put(connection, some).await?;
    }
    Ok(())
}

/// What the bytes of some sums come to, or that they are none.
pub fn summed(adder: Adder) -> Result<Cell> {
    adder.sum().map_err(corrupt)
}

/// Adds the bytes of a sum.
pub fn add(adder: &mut Adder, kept: &StoredSum) -> Result<()> {
    adder.add(&kept.cell).map_err(corrupt)
}

/// Adds what another has added up.
pub fn merge(adder: &mut Adder, other: Adder) -> Result<()> {
    adder.merge(other).map_err(corrupt)
}

fn corrupt(corrupt: Corrupt) -> Error {
    Error::Refused(corrupt.to_string())
}

/// Takes everything away that was added up of stretches from a moment on, to be worked out anew.
pub async fn clear(connection: &mut Connection, since: Moment) -> Result<()> {
    sql!(
        "delete from rollup where at >= :since";
        since: Timestamptz = Db(since),
    )
    .execute(connection)
    .await?;
    for text in [
        sql!("delete from stint"),
        sql!("update machine set counted = false where counted"),
    ] {
        text.execute(connection).await?;
    }
    Ok(())
}

/// Takes away sums of five minutes that are older than a moment, and sums of an hour that are older than another where
/// there are many of a kind; some at a time. How many.
pub async fn sweep(
    connection: &mut Connection,
    five_minutes: Moment,
    hours: Moment,
    most: i64,
) -> Result<usize> {
    Ok(sql!(
        "delete from rollup where (grain, kind, key, at) in (
           (select grain, kind, key, at from rollup where grain = :five_minute_grain and at < :five_minutes limit :most)
           union all
           (select grain, kind, key, at from rollup where grain = :hour_grain and kind = any(:kinds) and at < :hours limit :most))";
        five_minute_grain: SmallInt = Resolution::FiveMinutes.code(),
        five_minutes: Timestamptz = Db(five_minutes),
        most: BigInt = most,
        hour_grain: SmallInt = Resolution::Hour.code(),
        kinds: Array<SmallInt> = RollupKind::all_many(),
        hours: Timestamptz = Db(hours),
    )
    .execute(connection)
    .await?)
}
