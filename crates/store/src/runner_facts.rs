//! What is known of runners' machines: what each reports of itself, what people set over it, and what comes of the two, in
//! versions.

use crate::connect::{Connection, in_transaction};
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{Array, BigInt, Integer, Jsonb, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use pennine_core::fact::Facts;
use pennine_core::finding::Finding;
use pennine_core::id::RunnerId;
use pennine_core::overrides::{Overrides, ReportedFacts};
use pennine_core::time::Moment;

/// What a machine says of itself.
#[derive(Clone, Debug)]
pub struct MachineReport<'a> {
    pub facts: &'a Facts,
    pub labels: &'a [String],
    pub slots: u32,
    pub program: &'a str,
    pub findings: &'a [Finding],
}

impl MachineReport<'_> {
    /// As it is stored.
    pub(crate) fn reported(&self) -> ReportedFacts {
        ReportedFacts {
            labels: self.labels.to_vec(),
            facts: self.facts.clone(),
            slots: self.slots,
            findings: self.findings.to_vec(),
        }
    }
}

/// What a runner's machine says, and what people set over it.
#[derive(Clone, Debug, QueryableByName)]
struct FactLayers {
    #[diesel(sql_type = Jsonb)]
    reported: Json<ReportedFacts>,
    #[diesel(sql_type = Jsonb)]
    settings: Json<Overrides>,
    #[diesel(sql_type = Text)]
    program: String,
}

macro_rules! layers_query {
    ($lock:literal) => {
        concat!(
            "select reported, settings, program from runner where id = :id and state <> 'retired'",
            $lock
        )
    };
}

/// The layers of a runner that is not retired.
async fn layers(connection: &mut Connection, id: RunnerId) -> Result<Option<FactLayers>> {
    let layers = sql!(layers_query!(""); id: SqlUuid = Db(id));
    Ok(layers.get_result(connection).await.optional()?)
}

/// The same, locked until the transaction ends.
async fn locked_layers(connection: &mut Connection, id: RunnerId) -> Result<Option<FactLayers>> {
    let layers = sql!(layers_query!(" for update"); id: SqlUuid = Db(id));
    Ok(layers.get_result(connection).await.optional()?)
}

/// Writes what comes of the layers, as a new version of what is known of the runner if that is another than before.
async fn store_effective_facts(
    connection: &mut Connection,
    id: RunnerId,
    layers: FactLayers,
    settings_changed: bool,
    at: Moment,
) -> Result<()> {
    let now = layers.settings.0.over(&layers.reported.0);
    let slots = i32::try_from(now.slots).unwrap_or(i32::MAX);
    sql!(
        "with wanted as (
           select slots, labels, facts, program, :reported::jsonb as reported, :settings::jsonb as settings, :settings_changed::integer as more
           from (values (:slots::integer, :labels::text[], :facts::jsonb, :program::text)) as v(slots, labels, facts, program)),
         r as (
           update runner r set slots = wanted.slots, labels = wanted.labels, facts = wanted.facts, program = wanted.program,
                  reported = wanted.reported, settings = wanted.settings, settings_version = settings_version + wanted.more,
                  facts_version = facts_version +
                    case when (r.slots, r.labels, r.facts, r.program) is distinct from
                              (wanted.slots, wanted.labels, wanted.facts, wanted.program) then 1 else 0 end
           from wanted where r.id = :id returning r.*),
         f as (
           insert into runner_facts (runner_id, version, facts, labels, slots, program, since)
           select id, facts_version, facts, labels, slots, program, :at from r
           on conflict (runner_id, version) do nothing)"
         change RunnerChanged { runner: "id" } at ":at" from "r";
        reported: Jsonb = layers.reported,
        settings: Jsonb = layers.settings,
        settings_changed: Integer = i32::from(settings_changed),
        slots: Integer = slots,
        labels: Array<Text> = now.labels,
        facts: Jsonb = Json(now.facts),
        program: Text = layers.program,
        id: SqlUuid = Db(id),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Records what a machine says of itself. True if it is another than before.
pub async fn set_reported(
    connection: &mut Connection,
    id: RunnerId,
    about: &MachineReport<'_>,
    at: Moment,
) -> Result<bool> {
    let reported = about.reported();
    let known = layers(connection, id).await?;
    if known.is_none_or(|known| known.reported.0 == reported && known.program == about.program) {
        return Ok(false);
    }
    in_transaction(connection, async |connection| {
        let Some(mut layers) = locked_layers(connection, id).await? else {
            return Ok(false);
        };
        layers.reported = Json(reported);
        about.program.clone_into(&mut layers.program);
        store_effective_facts(connection, id, layers, false, at).await?;
        Ok(true)
    })
    .await
}

/// Returns how many versions of a runner's facts began since a moment.
pub async fn facts_versions(
    connection: &mut Connection,
    id: RunnerId,
    since: Moment,
) -> Result<i64> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = BigInt)]
        count: i64,
    }
    let row: Row = sql!(
        "select count(*) as count from runner_facts where runner_id = :id and since >= :since";
        id: SqlUuid = Db(id),
        since: Timestamptz = Db(since),
    )
    .get_result(connection)
    .await?;
    Ok(row.count)
}

/// Changes what people call a runner and set of it. False when there is no such runner, or it is retired.
pub async fn set_settings(
    connection: &mut Connection,
    id: RunnerId,
    name: &str,
    description: &str,
    settings: &Overrides,
    at: Moment,
) -> Result<bool> {
    in_transaction(connection, async |connection| {
        let Some(mut layers) = locked_layers(connection, id).await? else {
            return Ok(false);
        };
        layers.settings = Json(settings.clone());
        sql!(
            "update runner set name = :name, description = :description where id = :id";
            name: Text = name,
            description: Text = description,
            id: SqlUuid = Db(id),
        )
        .execute(connection)
        .await?;
        store_effective_facts(connection, id, layers, true, at).await?;
        Ok(true)
    })
    .await
}
