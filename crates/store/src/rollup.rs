//! Sums over stretches of time, and what they are kept by.

use crate::connect::Connection;
use crate::error::{Error, Result};
use crate::statement::sql;
use crate::types::Db;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Binary, SmallInt, Timestamptz};
use pennine_core::measure::{Adder, Cell, Corrupt, Resolution, Run};
use pennine_core::time::Moment;
use std::collections::BTreeMap;

mod key;

pub use key::{KeyCache, RollupKey, RollupKind, keys, numbers, numbers_of};

/// Where a sum stands: its resolution, what it is kept by, and when its stretch begins.
pub type SumPosition = (Resolution, RollupKind, i64, Moment);

/// Sums to be added.
#[derive(Debug, Default)]
pub struct Sums(BTreeMap<Spot, Cell>);

impl Sums {
    /// Adds a cell at a place; nothing where the resolution is shorter than is kept.
    pub fn add(&mut self, (resolution, kind, key, at): SumPosition, cell: &Cell) {
        if resolution < kind.shortest() {
            return;
        }
        let sum = self
            .0
            .entry((resolution.code(), kind.code(), key, at))
            .or_default();
        sum.merge(cell);
    }

    /// Takes out those of stretches that began before a moment, as the record keeps them: resolution, kind, key, when, bytes.
    pub fn take_before(&mut self, moment: Moment) -> Vec<(i16, i16, i64, Moment, Vec<u8>)> {
        let all = std::mem::take(&mut self.0);
        let mut taken = Vec::new();
        for ((resolution, kind, key, at), cell) in all {
            if at < moment {
                taken.push((resolution, kind, key, at, cell.to_bytes()));
            } else {
                self.0.insert((resolution, kind, key, at), cell);
            }
        }
        taken
    }

    /// Adds all of them to the stored sums, which must be locked.
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

/// Where a sum stands, as the record has it: its resolution, what it is kept by, and when its stretch begins.
pub type Spot = (i16, i16, i64, Moment);

/// Columns of where sums stand.
fn columns<'a>(
    spots: impl Iterator<Item = &'a Spot> + Clone,
) -> (Vec<i16>, Vec<i16>, Vec<i64>, Vec<Db<Moment>>) {
    (
        spots.clone().map(|(resolution, ..)| *resolution).collect(),
        spots.clone().map(|(_, kind, ..)| *kind).collect(),
        spots.clone().map(|(_, _, key, _)| *key).collect(),
        spots.map(|(.., at)| Db(*at)).collect(),
    )
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = SmallInt)]
    resolution: i16,
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
    let (resolutions, kinds, keys, ats) = columns(spots.iter());
    let rows: Vec<Row> = sql!(
        "select r.resolution, r.kind, r.key, r.at, r.cell
         from unnest(:resolutions, :kinds, :keys, :ats) as w(resolution, kind, key, at)
         join rollup r on r.resolution = w.resolution and r.kind = w.kind and r.key = w.key and r.at = w.at";
        resolutions: Array<SmallInt> = resolutions,
        kinds: Array<SmallInt> = kinds,
        keys: Array<BigInt> = keys,
        ats: Array<Timestamptz> = ats,
    )
    .load(connection)
    .await?;
    let cell = |row: Row| {
        Ok((
            (row.resolution, row.kind, row.key, row.at.0),
            read(&row.cell)?,
        ))
    };
    rows.into_iter().map(cell).collect()
}

async fn put(connection: &mut Connection, sums: &[Sum]) -> Result<()> {
    let (resolutions, kinds, keys, ats) = columns(sums.iter().map(|(spot, _)| spot));
    let cells: Vec<&[u8]> = sums.iter().map(|(_, cell)| cell.as_slice()).collect();
    sql!(
        "insert into rollup (resolution, kind, key, at, cell) select * from unnest(:resolutions, :kinds, :keys, :ats, :cells)
         on conflict (resolution, kind, key, at) do update set cell = excluded.cell";
        resolutions: Array<SmallInt> = resolutions,
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
pub async fn stored_sums(
    connection: &mut Connection,
    run: Run,
    kind: RollupKind,
    keys: Option<&[i64]>,
) -> Result<Vec<StoredSum>> {
    // One question for each, since they are best answered from different indexes.
    let asked = match keys {
        Some(keys) => sql!(
            "select key, at, cell from rollup
             where resolution = :resolution and kind = :kind and key = any(:keys) and at >= :from and at < :until";
            resolution: SmallInt = run.resolution.code(),
            kind: SmallInt = kind.code(),
            keys: Array<BigInt> = keys,
            from: Timestamptz = Db(run.from),
            until: Timestamptz = Db(run.until),
        ),
        None => sql!(
            "select key, at, cell from rollup where resolution = :resolution and kind = :kind and at >= :from and at < :until";
            resolution: SmallInt = run.resolution.code(),
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
pub fn merge_stretches(
    resolution: Resolution,
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
        let spot = (resolution.code(), kind.code(), key, at);
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

/// Takes everything away that was added up of stretches from a moment on, to be recomputed.
pub async fn clear(connection: &mut Connection, since: Moment) -> Result<()> {
    sql!(
        "delete from rollup where at >= :since";
        since: Timestamptz = Db(since),
    )
    .execute(connection)
    .await?;
    for text in [
        sql!("delete from work_span"),
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
        "delete from rollup where (resolution, kind, key, at) in (
           (select resolution, kind, key, at from rollup where resolution = :five_minute_grain and at < :five_minutes limit :most)
           union all
           (select resolution, kind, key, at from rollup where resolution = :hour_grain and kind = any(:kinds) and at < :hours limit :most))";
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
