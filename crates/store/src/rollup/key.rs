//! What sums are kept by, and the numbers under which the record has them.

use crate::connect::Connection;
use crate::error::Result;
use crate::statement::sql;
use diesel::QueryableByName;
use diesel::sql_types::{Array, BigInt, Nullable, SmallInt, Text, Uuid as SqlUuid};
use pennine_core::dispatch::Reason;
use pennine_core::id::{PlaceId, PoolId, RunnerId, SupplierId};
use pennine_core::measure::Resolution;
use pennine_core::time::Moment;
use std::collections::{BTreeSet, HashMap};
use uuid::Uuid;

/// The kinds of [`RollupKey`].
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum RollupKind {
    Yard,
    Pool,
    Project,
    Requirement,
    Title,
    Runner,
    Supplier,
    Image,
    PoolProject,
    PoolReason,
}

impl RollupKind {
    /// All of them.
    pub const ALL: [RollupKind; 10] = [
        RollupKind::Yard,
        RollupKind::Pool,
        RollupKind::Project,
        RollupKind::Requirement,
        RollupKind::Title,
        RollupKind::Runner,
        RollupKind::Supplier,
        RollupKind::Image,
        RollupKind::PoolProject,
        RollupKind::PoolReason,
    ];

    /// The number that stands for it in the record.
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
            RollupKind::PoolReason => 10,
        }
    }

    fn from_code(code: i16) -> Option<RollupKind> {
        RollupKind::ALL.into_iter().find(|kind| kind.code() == code)
    }

    /// The finest resolution at which sums of this kind are kept: five minutes for what people watch live, a month for what
    /// only counts up, an hour for everything else.
    pub fn shortest(self) -> Resolution {
        match self {
            RollupKind::Yard | RollupKind::Pool => Resolution::FiveMinutes,
            RollupKind::PoolReason => Resolution::Month,
            _ => Resolution::Hour,
        }
    }

    /// Whether the kind can have a large number of keys, for which hourly sums are kept for some weeks only.
    pub fn many(self) -> bool {
        RollupKind::all_many().contains(&self.code())
    }

    /// The kinds of which hours are kept for some weeks only.
    pub(super) fn all_many() -> Vec<i16> {
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
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum RollupKey {
    /// The whole yard.
    Yard,
    Pool(PoolId),
    Project(PlaceId),
    /// A requirement, as the language writes it.
    Requirement(String),
    /// Jobs of one title, in which each number is a `#`.
    Title {
        project: PlaceId,
        title: String,
    },
    Runner(RunnerId),
    Supplier(SupplierId),
    /// What machines were made from.
    Image(String),
    /// A project's jobs on one pool.
    PoolProject {
        pool: PoolId,
        project: PlaceId,
    },
    /// The parts of waits that were for one reason, by the pool that ended the wait.
    PoolReason {
        pool: PoolId,
        reason: Reason,
    },
}

/// A key as the table has it: kind, pool or runner or supplier, project, text. What a kind has no use for is the nil UUID or
/// the empty text, so that each key is one row.
type Columns<'a> = (i16, Uuid, Uuid, &'a str);

impl RollupKey {
    pub fn kind(&self) -> RollupKind {
        match self {
            RollupKey::Yard => RollupKind::Yard,
            RollupKey::Pool(_) => RollupKind::Pool,
            RollupKey::Project(_) => RollupKind::Project,
            RollupKey::Requirement(_) => RollupKind::Requirement,
            RollupKey::Title { .. } => RollupKind::Title,
            RollupKey::Runner(_) => RollupKind::Runner,
            RollupKey::Supplier(_) => RollupKind::Supplier,
            RollupKey::Image(_) => RollupKind::Image,
            RollupKey::PoolProject { .. } => RollupKind::PoolProject,
            RollupKey::PoolReason { .. } => RollupKind::PoolReason,
        }
    }

    fn columns(&self) -> Columns<'_> {
        let kind = self.kind().code();
        let none = Uuid::nil();
        match self {
            RollupKey::Yard => (kind, none, none, ""),
            RollupKey::Pool(pool) => (kind, pool.0, none, ""),
            RollupKey::Project(project) => (kind, none, project.0, ""),
            RollupKey::Requirement(text) | RollupKey::Image(text) => (kind, none, none, text),
            RollupKey::Title { project, title } => (kind, none, project.0, title),
            RollupKey::Runner(runner) => (kind, runner.0, none, ""),
            RollupKey::Supplier(supplier) => (kind, supplier.0, none, ""),
            RollupKey::PoolProject { pool, project } => (kind, pool.0, project.0, ""),
            RollupKey::PoolReason { pool, reason } => (kind, pool.0, none, reason.word()),
        }
    }
}

#[derive(QueryableByName)]
struct KeyRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = SmallInt)]
    kind: i16,
    #[diesel(sql_type = SqlUuid)]
    owner_id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    project_id: Uuid,
    #[diesel(sql_type = Text)]
    text: String,
}

impl KeyRow {
    /// The key and its number; none where the kind is one of a newer version.
    fn key(self) -> Option<(RollupKey, i64)> {
        let project = PlaceId(self.project_id);
        let key = match RollupKind::from_code(self.kind)? {
            RollupKind::Yard => RollupKey::Yard,
            RollupKind::Pool => RollupKey::Pool(PoolId(self.owner_id)),
            RollupKind::Project => RollupKey::Project(project),
            RollupKind::Requirement => RollupKey::Requirement(self.text),
            RollupKind::Title => RollupKey::Title {
                project,
                title: self.text,
            },
            RollupKind::Runner => RollupKey::Runner(RunnerId(self.owner_id)),
            RollupKind::Supplier => RollupKey::Supplier(SupplierId(self.owner_id)),
            RollupKind::Image => RollupKey::Image(self.text),
            RollupKind::PoolProject => RollupKey::PoolProject {
                pool: PoolId(self.owner_id),
                project,
            },
            RollupKind::PoolReason => RollupKey::PoolReason {
                pool: PoolId(self.owner_id),
                reason: self.text.parse().ok()?,
            },
        };
        Some((key, self.id))
    }
}

/// Keys as columns of an `unnest`.
#[derive(Default)]
struct KeyColumns<'a> {
    kinds: Vec<i16>,
    owners: Vec<Uuid>,
    projects: Vec<Uuid>,
    texts: Vec<&'a str>,
}

impl<'a> FromIterator<&'a RollupKey> for KeyColumns<'a> {
    fn from_iter<T: IntoIterator<Item = &'a RollupKey>>(keys: T) -> Self {
        let mut all = KeyColumns::default();
        for key in keys {
            let (kind, owner, project, text) = key.columns();
            all.kinds.push(kind);
            all.owners.push(owner);
            all.projects.push(project);
            all.texts.push(text);
        }
        all
    }
}

/// The numbers of keys that were asked for before, while sums are added to.
#[derive(Debug, Default)]
pub struct KeyCache {
    numbers: HashMap<RollupKey, i64>,
    /// Sums of stretches before this are complete, and are not added to.
    since: Option<Moment>,
}

/// The most keys that are remembered; beyond it all are read again.
const REMEMBERED: usize = 50_000;

impl KeyCache {
    /// An empty cache; sums of stretches before a moment are not added to.
    pub fn since(moment: Moment) -> KeyCache {
        KeyCache {
            since: Some(moment),
            ..KeyCache::default()
        }
    }

    /// Whether sums of a stretch that begins then are updated.
    pub fn wants(&self, at: Moment) -> bool {
        self.since.is_none_or(|since| at >= since)
    }

    /// The number of a key, where it was asked for before.
    pub fn number(&self, key: &RollupKey) -> Option<i64> {
        self.numbers.get(key).copied()
    }

    /// Returns the numbers of these keys; a new key gets one.
    pub async fn numbers(
        &mut self,
        connection: &mut Connection,
        keys: impl IntoIterator<Item = RollupKey>,
    ) -> Result<&HashMap<RollupKey, i64>> {
        if self.numbers.len() > REMEMBERED {
            self.numbers.clear();
        }
        let new: BTreeSet<RollupKey> = keys
            .into_iter()
            .filter(|key| !self.numbers.contains_key(key))
            .collect();
        if new.is_empty() {
            return Ok(&self.numbers);
        }
        let columns: KeyColumns<'_> = new.iter().collect();
        sql!(
            "insert into rollup_key (kind, owner_id, project_id, text)
             select * from unnest(:kinds, :owners, :projects, :texts)
             on conflict (kind, owner_id, project_id, md5(text)) do nothing";
            kinds: Array<SmallInt> = &columns.kinds,
            owners: Array<SqlUuid> = &columns.owners,
            projects: Array<SqlUuid> = &columns.projects,
            texts: Array<Text> = &columns.texts,
        )
        .execute(connection)
        .await?;
        self.numbers.extend(find(connection, columns).await?);
        Ok(&self.numbers)
    }
}

/// The keys among these that have a number, with it.
async fn find(
    connection: &mut Connection,
    columns: KeyColumns<'_>,
) -> Result<impl Iterator<Item = (RollupKey, i64)> + use<>> {
    let rows: Vec<KeyRow> = sql!(
        "select k.id, k.kind, k.owner_id, k.project_id, k.text
         from unnest(:kinds, :owners, :projects, :texts) as w(kind, owner_id, project_id, text)
         join rollup_key k on k.kind = w.kind and k.owner_id = w.owner_id and k.project_id = w.project_id
              and md5(k.text) = md5(w.text)";
        kinds: Array<SmallInt> = columns.kinds,
        owners: Array<SqlUuid> = columns.owners,
        projects: Array<SqlUuid> = columns.projects,
        texts: Array<Text> = columns.texts,
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().filter_map(KeyRow::key))
}

/// The numbers of these keys, as far as anything is kept by them.
pub async fn numbers(connection: &mut Connection, keys: &[RollupKey]) -> Result<Vec<i64>> {
    let found = find(connection, keys.iter().collect()).await?;
    Ok(found.map(|(_, number)| number).collect())
}

/// The numbers of the keys of a kind that are of this pool and of these projects; none given means any.
pub async fn numbers_of(
    connection: &mut Connection,
    kind: RollupKind,
    pool: Option<PoolId>,
    projects: Option<&[PlaceId]>,
) -> Result<Vec<i64>> {
    let rows: Vec<KeyRow> = sql!(
        "select id, kind, owner_id, project_id, text from rollup_key
         where kind = :kind and (:pool::uuid is null or owner_id = :pool)
           and (:projects::uuid[] is null or project_id = any(:projects))";
        kind: SmallInt = kind.code(),
        pool: Nullable<SqlUuid> = pool.map(|pool| pool.0),
        projects: Nullable<Array<SqlUuid>> = projects.map(|all| all.iter().map(|id| id.0).collect::<Vec<_>>()),
    )
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// The keys that these numbers stand for.
pub async fn keys(connection: &mut Connection, numbers: &[i64]) -> Result<HashMap<i64, RollupKey>> {
    let rows: Vec<KeyRow> = sql!(
        "select id, kind, owner_id, project_id, text from rollup_key where id = any(:numbers)";
        numbers: Array<BigInt> = numbers,
    )
    .load(connection)
    .await?;
    let keys = rows.into_iter().filter_map(KeyRow::key);
    Ok(keys.map(|(key, number)| (number, key)).collect())
}
