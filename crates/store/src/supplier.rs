//! Suppliers: what makes machines, as people set it.

use crate::connect::Connection;
use crate::decision_input;
use crate::error::Result;
use crate::statement::sql;
use crate::types::{Db, Json};
use diesel::sql_types::{BigInt, Integer, Jsonb, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel::{OptionalExtension, QueryableByName};
use diesel_async::AsyncConnection;
use pennine_core::id::SupplierId;
use pennine_core::time::{Micros, Moment};
use std::collections::BTreeMap;

/// A supplier.
#[derive(Clone, Debug, QueryableByName)]
pub struct Supplier {
    #[diesel(sql_type = SqlUuid)]
    pub id: Db<SupplierId>,
    #[diesel(sql_type = Text)]
    pub name: String,
    #[diesel(sql_type = Text)]
    pub kind: String,
    #[diesel(sql_type = Jsonb)]
    pub settings: Json<BTreeMap<String, String>>,
    /// Locked.
    #[diesel(sql_type = Jsonb)]
    pub secrets: Json<BTreeMap<String, String>>,
    #[diesel(sql_type = Nullable<Integer>)]
    pub quota: Option<i32>,
    #[diesel(sql_type = Nullable<BigInt>)]
    pub boot_limit_us: Option<Db<Micros>>,
    /// What it said that it can do.
    #[diesel(sql_type = Nullable<Jsonb>)]
    pub offer: Option<serde_json::Value>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub offered_at: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Text>)]
    pub failure: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub failing_since: Option<Db<Moment>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub retry_at: Option<Db<Moment>>,
    #[diesel(sql_type = Timestamptz)]
    pub created_at: Db<Moment>,
    #[diesel(sql_type = Text)]
    pub created_by: String,
}

/// Every supplier, by name.
pub async fn list(connection: &mut Connection) -> Result<Vec<Supplier>> {
    Ok(sql!("select * from supplier order by name")
        .load(connection)
        .await?)
}

/// The supplier with this name.
pub async fn find(connection: &mut Connection, name: &str) -> Result<Option<Supplier>> {
    Ok(sql!(
        "select * from supplier where name = :name";
        name: Text = name,
    )
    .get_result(connection)
    .await
    .optional()?)
}

/// Adds a supplier, or changes the one with this id.
pub async fn write(connection: &mut Connection, one: &Supplier, at: Moment) -> Result<()> {
    connection
        .transaction(async |connection| {
    sql!(
        "with s as (
           insert into supplier (id, name, kind, settings, secrets, quota, boot_limit_us, created_at, created_by)
           values (:id, :name, :kind, :settings, :secrets, :quota, :boot_limit_us, :created_at, :created_by)
           on conflict (id) do update set settings = excluded.settings, secrets = excluded.secrets,
             quota = excluded.quota, boot_limit_us = excluded.boot_limit_us
           returning id)"
         change SupplierChanged { supplier: "id" } at ":at" from "s";
        id: SqlUuid = one.id,
        name: Text = &one.name,
        kind: Text = &one.kind,
        settings: Jsonb = one.settings.clone(),
        secrets: Jsonb = one.secrets.clone(),
        quota: Nullable<Integer> = one.quota,
        boot_limit_us: Nullable<BigInt> = one.boot_limit_us,
        created_at: Timestamptz = one.created_at,
        created_by: Text = &one.created_by,
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
            decision_input::record(connection, at).await
        })
        .await
}

/// Removes a supplier. False when machines of it are on record still: their history names it.
pub async fn remove(connection: &mut Connection, id: SupplierId, at: Moment) -> Result<bool> {
    connection
        .transaction(async |connection| {
    let removed = sql!(
        "with t as (delete from trial where supplier_id = :id),
         s as (delete from supplier where id = :id and not exists (select from machine where supplier_id = :id) returning id)"
         change SupplierChanged { supplier: "id" } at ":at" from "s";
        id: SqlUuid = Db(id),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
            decision_input::record(connection, at).await?;
            Ok::<_, crate::Error>(removed == 1)
        })
        .await
}

/// Records what a supplier says that it can do.
pub async fn set_offer(
    connection: &mut Connection,
    id: SupplierId,
    offer: &serde_json::Value,
    at: Moment,
) -> Result<()> {
    connection
        .transaction(async |connection| {
            sql!(
        "with s as (
           update supplier set offer = :offer, offered_at = :at where id = :id returning id)"
         change SupplierChanged { supplier: "id" } at ":at" from "s";
        offer: Jsonb = offer,
        at: Timestamptz = Db(at),
        id: SqlUuid = Db(id),
    )
    .execute(connection)
    .await?;
            decision_input::record(connection, at).await
        })
        .await
}

/// What is wrong with a supplier: what, since when, and when it is retried.
pub type SupplierFailure = (String, Moment, Moment);

/// Records what is wrong with a supplier, or that nothing is any more.
pub async fn set_failure(
    connection: &mut Connection,
    id: SupplierId,
    failure: Option<&SupplierFailure>,
    at: Moment,
) -> Result<()> {
    sql!(
        "with s as (
           update supplier set failure = :failure, failing_since = :failing_since, retry_at = :retry_at where id = :id returning id)"
         change SupplierFailureChanged { supplier: "id" } at ":at" from "s";
        failure: Nullable<Text> = failure.map(|(message, _, _)| message.clone()),
        failing_since: Nullable<Timestamptz> = failure.map(|(_, since, _)| Db(*since)),
        retry_at: Nullable<Timestamptz> = failure.map(|(_, _, until)| Db(*until)),
        id: SqlUuid = Db(id),
        at: Timestamptz = Db(at),
    )
    .execute(connection)
    .await?;
    Ok(())
}
